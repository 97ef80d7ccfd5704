package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/estate"
	"nimblepane/core/feed"
)

func (a *app) feed() *cobra.Command {
	cmd := &cobra.Command{
		Use: "feed", Short: "Vendors' lists of releases that bases are taken from",
		Long: "Vendors' lists of releases that bases are taken from, in the simplestreams format. The service reads " +
			"them again and\nagain; a release of one is brought in with pane base bring NAME --feed FEED, or by a " +
			"build sheet that begins with it\n(base: {vendor: {feed: FEED, product: ..., release: ...}}).",
	}
	cmd.AddCommand(a.addFeed(), a.listFeeds(), a.showFeed(), a.readFeed(), a.searchFeeds(), a.deleteFeed())
	return cmd
}

func feedNames(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	rows, err := c.Feeds(ctx)
	return names(rows, err, func(f client.Feed) string { return f.Name + "\t" + f.Address })
}

func (a *app) addFeed() *cobra.Command {
	var in client.NewFeed
	var key string
	var every time.Duration
	cmd := &cobra.Command{
		Use: "add NAME ADDRESS", Short: "Have the service read a vendor's list of releases from now on", Args: named,
		Long: "Have the service read a vendor's list of releases from now on. The address is that of the vendor's " +
			"mirror, below which\nstreams/v1/index.json is, or of an index or a file of products itself. With --key, " +
			"only what is signed by it is\nbelieved (the files that end with .sjson).",
		Example: "  pane feed add estuary https://images.estuary.example/ --publisher 'Estuary Works'",
	}
	f := cmd.Flags()
	f.StringVar(&in.Publisher, "publisher", "", "who publishes releases that do not say so")
	f.StringVar(&key, "key", "", "file with the OpenPGP public key that it has to be signed by")
	f.DurationVar(&every, "every", time.Hour, "how often it is read, 1m to 168h")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		in.Name, in.Address, in.Every = args[0], args[1], int64(every/time.Second)
		if key != "" {
			text, err := os.ReadFile(key)
			if err != nil {
				return err
			}
			if in.Key, err = feed.Armoured(text); err != nil {
				return usage("%s: %s", key, err)
			}
		}
		if _, err := c.AddFeed(ctx, in); err != nil {
			return err
		}
		return a.wasRead(ctx, c, in.Name, nil)
	})
	return cmd
}

// wasRead waits until a feed was read after a time, and says what came of it. What could not be read is no error of
// the command that had it read.
func (a *app) wasRead(ctx context.Context, c *client.Client, name string, after *time.Time) error {
	for {
		f, err := c.Feed(ctx, name)
		if err != nil {
			return err
		}
		if f.LookedAt != nil && (after == nil || f.LookedAt.After(*after)) {
			switch {
			case a.structured():
				return a.object(f)
			case f.Why != "":
				a.say("Feed %s could not be read: %s", f.Name, f.Why)
			default:
				a.say("Feed %s has %s.", f.Name, many(f.Releases, "release"))
			}
			return nil
		}
		if err := sleep(ctx, 300*time.Millisecond); err != nil {
			return err
		}
	}
}

func (a *app) listFeeds() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "The feeds, and when they were read", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			rows, err := c.Feeds(ctx)
			if err != nil {
				return err
			}
			return list(a, rows, "There is no feed yet. Have one read with: pane feed add NAME ADDRESS",
				column[client.Feed]{"Feed", func(f client.Feed) string { return f.Name }},
				column[client.Feed]{"Address", func(f client.Feed) string { return f.Address }},
				column[client.Feed]{"Releases", func(f client.Feed) string { return fmt.Sprint(f.Releases) }},
				column[client.Feed]{"Signed", func(f client.Feed) string { return yesNo(f.Signed) }},
				column[client.Feed]{"Read", func(f client.Feed) string { return when(f.SeenAt) }},
				column[client.Feed]{"Not read because", func(f client.Feed) string { return cmp.Or(f.Why, "-") }})
		}),
	}
}

func (a *app) showFeed() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "One feed: when it was read, and what of it could not be taken", Args: named,
		ValidArgsFunction: a.complete(feedNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			f, err := c.Feed(ctx, args[0])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(f)
			}
			a.facts(fact{"Feed", f.Name}, fact{"Address", f.Address}, fact{"Publisher", f.Publisher},
				fact{"Signed", yesNo(f.Signed)}, fact{"Signed on", when(f.SignedAt)}, fact{
					"Releases",
					fmt.Sprint(f.Releases),
				},
				fact{"Read every", estate.Span(time.Duration(f.Every) * time.Second)}, fact{"Read", when(f.SeenAt)},
				fact{"Tried", when(f.LookedAt)}, fact{"Not read because", f.Why},
				fact{"Left out", strings.Join(f.LeftOut, "\n")}, fact{"Added by", f.AddedBy})
			return nil
		}),
	}
}

func (a *app) readFeed() *cobra.Command {
	return &cobra.Command{
		Use: "read NAME", Short: "Read a feed now, and not only in its time", Args: named,
		ValidArgsFunction: a.complete(feedNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			f, err := c.ReadFeed(ctx, args[0])
			if err != nil {
				return err
			}
			return a.wasRead(ctx, c, f.Name, f.LookedAt)
		}),
	}
}

// wantFlags say which releases are meant.
func wantFlags(cmd *cobra.Command, w *feed.Want) {
	f := cmd.Flags()
	f.StringVar(&w.Publisher, "publisher", "", "who made it")
	f.StringVar(&w.Product, "product", "", "what it is")
	f.StringVar(&w.Edition, "edition", "", "which kind of that")
	f.StringVar(&w.Release, "release", "", "which release of that, by its number or code name")
	f.StringVar(&w.Serial, "serial", "", "which build of the release; the newest if it is left out")
}

func (a *app) searchFeeds() *cobra.Command {
	var of string
	var w feed.Want
	cmd := &cobra.Command{
		Use: "search [TEXT]", Short: "Find releases in the feeds, the newest of each product first",
		Args:    cobra.MaximumNArgs(1),
		Example: "  pane feed search harbour\n  pane feed search --product 'Harbour Linux' --release 13",
	}
	wantFlags(cmd, &w)
	cmd.Flags().Lookup("serial").Usage = "which build of the release"
	cmd.Flags().StringVar(&of, "feed", "", "only in this one")
	_ = cmd.RegisterFlagCompletionFunc("feed", a.complete(feedNames))
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		w.Text = strings.Join(args, "")
		rows, err := c.Releases(ctx, of, w)
		if err != nil {
			return err
		}
		if len(rows) == client.MostReleases {
			a.warn("only the first %d are listed: say more of what is meant.", len(rows))
		}
		return list(a, rows, "No release in the feeds is one of these.",
			column[client.Offer]{"Is", func(o client.Offer) string { return cmp.Or(o.Labels.Text(), o.Product) }},
			column[client.Offer]{"Serial", func(o client.Offer) string { return o.Serial }},
			column[client.Offer]{"Code name", func(o client.Offer) string { return cmp.Or(o.Codename, "-") }},
			column[client.Offer]{"For", func(o client.Offer) string { return cmp.Or(o.Architecture, "-") }},
			column[client.Offer]{"Supported until", func(o client.Offer) string { return cmp.Or(o.Supported, "-") }},
			column[client.Offer]{"File", func(o client.Offer) string {
				return cmp.Or(sizeAnd(o.Size, o.Kind), "-")
			}},
			column[client.Offer]{"With it", func(o client.Offer) string { return cmp.Or(withIt(o), "-") }},
			column[client.Offer]{"Feed", func(o client.Offer) string { return o.Feed }},
			column[client.Offer]{"Base", func(o client.Offer) string { return cmp.Or(o.Base, "-") }})
	})
	return cmd
}

// withIt says what else comes with a release.
func withIt(o client.Offer) string {
	var kinds []string
	for _, e := range o.With {
		kinds = append(kinds, cmp.Or(e.Kind, e.Name))
	}
	const most = 3
	if len(kinds) > most {
		return strings.Join(kinds[:most], ", ") + fmt.Sprintf(" and %d more", len(kinds)-most)
	}
	return strings.Join(kinds, ", ")
}

func (a *app) deleteFeed() *cobra.Command {
	return &cobra.Command{
		Use: "delete NAME", Short: "Forget a feed; bases that were taken from it stay", Args: named,
		ValidArgsFunction: a.complete(feedNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if err := a.confirmed(ctx, func(ctx context.Context) error { return c.DeleteFeed(ctx, args[0]) },
				"Delete feed %s? No build can begin with the newest of it then.", args[0]); err != nil {
				return err
			}
			a.say("Feed %s is deleted.", args[0])
			return nil
		}),
	}
}

func (a *app) compareBase() *cobra.Command {
	return &cobra.Command{
		Use: "compare NAME", Short: "A base beside the newest release of its product", Args: named,
		ValidArgsFunction: a.complete(baseNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			b, err := c.Base(ctx, args[0])
			if err != nil {
				return err
			}
			var newest *client.Base
			if b.Newer != nil && b.Newer.Base != "" {
				n, err := c.Base(ctx, b.Newer.Base)
				if err != nil {
					return err
				}
				newest = &n
			}
			if a.structured() {
				return a.object(map[string]any{"base": b, "newest": b.Newer, "newest_base": newest})
			}
			switch {
			case b.Newer != nil:
			case b.Feed == "":
				a.say("Base %s is not known to be a release of a feed: there is nothing to compare it with.", b.Name)
				return nil
			default:
				a.say("Base %s is the newest release of its product in feed %s.", b.Name, b.Feed)
				return nil
			}
			return list(a, compared(b, *b.Newer, newest), "",
				column[[3]string]{"", func(r [3]string) string { return r[0] }},
				column[[3]string]{b.Name, func(r [3]string) string { return cmp.Or(r[1], "-") }},
				column[[3]string]{"the newest", func(r [3]string) string { return cmp.Or(r[2], "-") }},
				column[[3]string]{"", func(r [3]string) string {
					if r[0] == "Base" || r[1] == "" || r[2] == "" || r[1] == r[2] {
						return ""
					}
					return "differs"
				}})
		}),
	}
}

// compared puts what is known of a base beside what is known of the newest release, and of the base that this is, if it
// was brought in.
func compared(b client.Base, o client.Offer, newest *client.Base) [][3]string {
	rows := [][3]string{
		{"Is", b.Labels.Text(), o.Labels.Text()},
		{"Serial", b.Serial, o.Serial},
		{"File", size(b.Size), size(o.Size)},
		{"SHA-256", short(b.SHA256), short(o.SHA256)},
		{"Supported until", "", o.Supported},
	}
	n := client.Base{}
	if newest != nil {
		n = *newest
	}
	return append(rows, [][3]string{
		{"Base", b.Name, n.Name},
		{"System", b.Facts.Edition, n.Facts.Edition},
		{"Disk", size(b.Facts.DiskSize), size(n.Facts.DiskSize)},
		{"Takes", size(b.Bytes), size(n.Bytes)},
		{"Started by", strings.Join(b.Facts.Firmware, ", "), strings.Join(n.Facts.Firmware, ", ")},
		{"Inside", strings.Join(b.Facts.Agents, ", "), strings.Join(n.Facts.Agents, ", ")},
	}...)
}

// short is enough of a digest to tell it from others.
func short(digest string) string { return digest[:min(len(digest), 12)] }

// newerThan says what newer release there is of a base's product.
func newerThan(b client.Base) string {
	if b.Newer == nil {
		return "-"
	}
	text := b.Newer.Serial
	if b.Newer.Size > 0 {
		text += ", " + humanize.IBytes(uint64(b.Newer.Size))
	}
	if b.Newer.Base != "" {
		text += ", as " + b.Newer.Base
	}
	return text
}
