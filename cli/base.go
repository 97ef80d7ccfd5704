package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/base"
	"nimblepane/core/feed"
)

func (a *app) base() *cobra.Command {
	cmd := &cobra.Command{
		Use: "base", Short: "Disk images that versions are made from",
		Long: "Disk images that versions are made from. They are brought in from a file or an address, checked, " +
			"converted and looked\ninto; a build sheet begins with one by its name (base: {named: NAME}).",
	}
	cmd.AddCommand(a.bringBase(), a.listBases(), a.showBase(), a.compareBase(), a.retireBase())
	return cmd
}

func baseNames(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	rows, err := c.Bases(ctx, false)
	return names(rows, err, func(b client.Base) string { return b.Name + "\t" + string(b.State) })
}

func (a *app) bringBase() *cobra.Command {
	var in client.NewBase
	var of feed.Want
	var leave bool
	cmd := &cobra.Command{
		Use: "bring NAME [FILE|ADDRESS]", Args: cobra.RangeArgs(1, 2),
		Short: "Bring in a disk image from a file here, an address, or a vendor's feed",
		Long: "Bring in a disk image from a file here, from an address (http:// or https://) that the service " +
			"fetches it from, or\na release of a feed (pane feed search). Its format is found by what is in it: raw, " +
			"qcow2, VHD, VHDX or VMDK. What\nwas broken off goes on where it was when you bring the same file in " +
			"again. Exit code 7 says that it cannot be a base.",
		Example: "  pane base bring debian-12 debian-12.vmdk --publisher Debian --release 12\n  pane base bring " +
			"debian-13 https://images.example/debian-13.qcow2 --sha256 6f0e...\n  pane base bring harbour-13 --feed " +
			"estuary --product 'Harbour Linux' --release 13",
	}
	f := cmd.Flags()
	f.StringVar(&in.SHA256, "sha256", "", "digest that the file has to have, in hexadecimal digits")
	wantFlags(cmd, &of)
	f.StringVar(&in.Feed, "feed", "", "take a release from this feed: the one of the publisher, product, edition, "+
		"release and serial")
	_ = cmd.RegisterFlagCompletionFunc("feed", a.complete(feedNames))
	f.BoolVar(&leave, "no-wait", false, "return when the service has all of the file, or has begun to fetch it")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) (err error) {
		in.Name, in.Labels, in.Serial = args[0], of.Labels, of.Serial
		var b client.Base
		switch {
		case (len(args) == 1) != (in.Feed != ""):
			return usage("say either what file or address it is, or with --feed what feed it is a release of")
		case in.Feed == "" && in.Serial != "":
			return usage("--serial says which release of a feed is meant: give --feed, too")
		case in.Feed != "":
			b, err = c.BringBase(ctx, in)
		case strings.HasPrefix(args[1], "http://") || strings.HasPrefix(args[1], "https://"):
			in.Address = args[1]
			b, err = c.BringBase(ctx, in)
		default:
			b, err = a.sendBase(ctx, c, in, args[1])
		}
		if err != nil {
			return err
		}
		if !leave {
			b, err = a.baseSettles(ctx, c, b)
		}
		if err != nil {
			return err
		}
		if a.structured() {
			err = a.object(b)
		} else if b.State != base.Failed {
			a.say("Base %s is %s.", b.Name, b.State)
		}
		if b.State == base.Failed {
			return &badOutcome{fmt.Sprintf("base %s: %s", b.Name, b.Why)}
		}
		return err
	})
	return cmd
}

func (a *app) sendBase(ctx context.Context, c *client.Client, in client.NewBase, name string) (client.Base, error) {
	file, err := os.Open(name)
	if err != nil {
		return client.Base{}, err
	}
	defer file.Close()
	in.File = filepath.Base(name)
	told := time.Time{}
	return c.SendBase(ctx, in, file, func(b client.Base) {
		if time.Since(told) > 2*time.Second {
			a.say("%s", coming(b))
			told = time.Now()
		}
	})
}

// coming says how far a base is.
func coming(b client.Base) string {
	switch b.State {
	case base.Converting:
		return fmt.Sprintf("%s is converted and looked into, %d%%", b.Name, b.Progress)
	case base.Receiving, base.Fetching:
	default:
		return fmt.Sprintf("%s is %s", b.Name, b.State)
	}
	text := fmt.Sprintf("%s is %s: %s", b.Name, b.State, humanize.IBytes(uint64(b.Have)))
	if b.Size > 0 {
		text += fmt.Sprintf(" of %s, %d%%", humanize.IBytes(uint64(b.Size)), 100*b.Have/b.Size)
	}
	if b.Rate > 0 {
		text += fmt.Sprintf(", %s/s", humanize.IBytes(uint64(b.Rate)))
	}
	if b.Left > 0 {
		text += fmt.Sprintf(", %s left", time.Duration(b.Left*float64(time.Second)).Round(time.Second))
	}
	if b.Why != "" {
		text += " (" + b.Why + ")"
	}
	return text
}

// baseSettles waits until there is no more of a base to come, and says how far it is.
func (a *app) baseSettles(ctx context.Context, c *client.Client, b client.Base) (client.Base, error) {
	said, told := "", time.Time{}
	for b.State.Coming() {
		if text := coming(b); text != said && time.Since(told) > 2*time.Second {
			a.say("%s", text)
			said, told = text, time.Now()
		}
		if err := sleep(ctx, 300*time.Millisecond); err != nil {
			return b, err
		}
		var err error
		if b, err = c.Base(ctx, b.Name); err != nil {
			return b, err
		}
	}
	return b, nil
}

func (a *app) listBases() *cobra.Command {
	var gone bool
	cmd := &cobra.Command{
		Use: "list", Short: "The bases that there are, with what is in them", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			rows, err := c.Bases(ctx, gone)
			if err != nil {
				return err
			}
			return list(a, rows, "There is no base yet. Bring one in with: pane base bring NAME FILE",
				column[client.Base]{"Base", func(b client.Base) string { return b.Name }},
				column[client.Base]{"State", func(b client.Base) string {
					if b.State.Coming() && b.Size > 0 {
						return fmt.Sprintf("%s, %d%%", coloured(b.State), 100*b.Have/b.Size)
					}
					return coloured(b.State)
				}},
				column[client.Base]{"Is", func(b client.Base) string {
					return cmp.Or(b.Labels.Text(), b.Facts.Edition, "-")
				}},
				column[client.Base]{"Disk", func(b client.Base) string { return cmp.Or(size(b.Facts.DiskSize), "-") }},
				column[client.Base]{"Takes", func(b client.Base) string { return cmp.Or(size(b.Bytes), "-") }},
				column[client.Base]{"Started by", func(b client.Base) string {
					return cmp.Or(strings.Join(b.Facts.Firmware, ", "), "-")
				}},
				column[client.Base]{"Newer", newerThan},
				column[client.Base]{"Added", func(b client.Base) string { return when(&b.AddedAt) }},
				column[client.Base]{"By", func(b client.Base) string { return b.AddedBy }})
		}),
	}
	cmd.Flags().BoolVar(&gone, "gone", false, "also those that are retired")
	return cmd
}

func (a *app) showBase() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "One base: how far it is, and what is in it", Args: named,
		ValidArgsFunction: a.complete(baseNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			b, err := c.Base(ctx, args[0])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(b)
			}
			far, why := "", b.Why
			if b.State.Coming() {
				far, why = coming(b), ""
			}
			var at []string
			for _, k := range b.Copies {
				at = append(at, strings.TrimSuffix(fmt.Sprintf("%s, %s %s", k.Site, k.State, k.Why), " "))
			}
			came := b.File
			if b.Address != "" {
				came = b.Address
			}
			a.facts(fact{"Base", b.Name}, fact{"State", coloured(b.State)}, fact{"How far", far}, fact{"Why", why},
				fact{"Is", b.Labels.Text()}, fact{"From", came}, fact{"Release", ofFeed(b)},
				fact{"Newer", strings.TrimPrefix(newerThan(b), "-")},
				fact{"File", sizeAnd(b.Size, string(b.Format))},
				fact{"SHA-256", cmp.Or(b.SHA256, b.Expected)}, fact{"Disk", size(b.Facts.DiskSize)},
				fact{"Takes", size(b.Bytes)}, fact{"Digest", b.Digest},
				fact{"Started by", strings.Join(b.Facts.Firmware, ", ")},
				fact{"Encrypted", strings.Join(b.Facts.Encrypted, ", ")},
				fact{"System", strings.TrimSpace(b.Facts.System + "  " + b.Facts.Edition)},
				fact{"System's release", b.Facts.Release}, fact{"Architecture", b.Facts.Architecture},
				fact{"Inside", strings.Join(b.Facts.Agents, ", ")}, fact{"At", strings.Join(at, "\n")},
				fact{"Added", when(&b.AddedAt) + " by " + b.AddedBy}, fact{"Since", when(b.EndedAt)})
			return nil
		}),
	}
}

// ofFeed says which release of a feed a base is, if it is one.
func ofFeed(b client.Base) string {
	if b.Feed == "" {
		return ""
	}
	return b.Serial + " of feed " + b.Feed
}

func sizeAnd(bytes int64, what string) string {
	return strings.TrimPrefix(strings.TrimSuffix(size(bytes)+", "+what, ", "), ", ")
}

func (a *app) retireBase() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: "retire NAME", Short: "Give a base up: its disk is deleted everywhere, its record stays", Args: named,
		ValidArgsFunction: a.complete(baseNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			var b client.Base
			if err := a.confirmed(ctx, func(ctx context.Context) (err error) {
				b, err = c.RetireBase(ctx, args[0], reason)
				return err
			}, "Retire base %s, and delete its disk here and at all sites?", args[0]); err != nil {
				return err
			}
			if a.structured() {
				return a.object(b)
			}
			a.say("Base %s is retired.", b.Name)
			return nil
		}),
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	return cmd
}
