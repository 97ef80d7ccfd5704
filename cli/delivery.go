package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/estate"
	"nimblepane/platform"
)

func (a *app) delivery() *cobra.Command {
	cmd := &cobra.Command{Use: "delivery", Short: "What is under way to sites, and the lines that lead there"}
	var which client.Deliveries
	listing := &cobra.Command{
		Use: "list", Short: "Deliveries of copies and bases that are under way or wait", Args: named,
		Example: "  pane delivery list --site south-quay\n  pane delivery list --image counter-desk --all",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			rows, err := c.Deliveries(ctx, which)
			if err != nil {
				return err
			}
			return list(a, rows, "Nothing is under way. With --all: what has arrived, too.",
				column[client.Delivery]{"Delivery", delivered},
				column[client.Delivery]{"Site", func(d client.Delivery) string { return d.Site }},
				column[client.Delivery]{"State", deliveryState},
				column[client.Delivery]{"To be sent", toBeSent},
				column[client.Delivery]{"Gone over the line", func(d client.Delivery) string {
					return cmp.Or(inBytes(d.OverLine), "-")
				}},
				column[client.Delivery]{"Left", func(d client.Delivery) string { return left(d) }},
				column[client.Delivery]{"Why", func(d client.Delivery) string { return cmp.Or(d.Why, "-") }})
		}),
	}
	f := listing.Flags()
	f.StringVar(&which.Site, "site", "", "to this site")
	f.StringVar(&which.Image, "image", "", "of this image's versions")
	f.BoolVar(&which.Ended, "all", false, "those that have ended, too")
	_ = listing.RegisterFlagCompletionFunc("site", a.complete(siteNames))
	_ = listing.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	cmd.AddCommand(listing, &cobra.Command{
		Use: "lines", Short: "The lines that lead to sites, with what may go over them and what does", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			lines, err := c.Lines(ctx)
			if err != nil {
				return err
			}
			return list(a, lines, "There is no line: the estate file can name some.",
				column[client.Line]{"Line", func(l client.Line) string { return l.Name }},
				column[client.Line]{"Leads to", func(l client.Line) string {
					return cmp.Or(strings.Join(l.Sites, ", "), "-")
				}},
				column[client.Line]{"May take now", func(l client.Line) string { return allowed(l.Now) }},
				column[client.Line]{"Limit", func(l client.Line) string { return limits(l.Rate, l.Hours) }},
				column[client.Line]{"At once", func(l client.Line) string { return fmt.Sprint(l.AtOnce) }},
				column[client.Line]{"Under way", func(l client.Line) string { return fmt.Sprint(l.UnderWay) }},
				column[client.Line]{"Waiting", func(l client.Line) string { return fmt.Sprint(l.Waiting) }})
		}),
	})
	return cmd
}

// delivered is what a delivery brings.
func delivered(d client.Delivery) string {
	if d.Base != "" {
		return "base " + d.Base
	}
	return fmt.Sprintf("%s %s copy %d", d.Image, d.Number, d.Ordinal)
}

func deliveryState(d client.Delivery) string {
	if d.State != client.DeliveryUnderWay {
		return coloured(d.State)
	}
	return fmt.Sprintf("%s %d%%", coloured(client.DeliveryState(cmp.Or(string(d.Stage), string(d.State)))), d.Percent)
}

// toBeSent is how much of a disk its site lacks: "312 MiB of 24 GiB, 1%".
func toBeSent(d client.Delivery) string {
	switch {
	case d.Whole == 0:
		return "-" // of a disk that goes as a whole, or not yet known
	case d.Lacking == 0 && d.Stage != platform.Mapping && d.Stage != platform.Gathering:
		return "nothing of " + inBytes(d.Whole)
	case d.Lacking == 0:
		return "of " + inBytes(d.Whole)
	}
	return fmt.Sprintf("%s of %s, %d%%", inBytes(d.Lacking), inBytes(d.Whole), 100*d.Lacking/d.Whole)
}

func left(d client.Delivery) string {
	if d.State != client.DeliveryUnderWay || d.Rate == 0 {
		return "-"
	}
	text := inBytes(d.Rate) + "/s"
	if d.Left > 0 {
		text = fmt.Sprintf("%s at %s", time.Duration(d.Left)*time.Second, text)
	}
	return text
}

// inBytes writes a size, "" for none.
func inBytes(n int64) string {
	if n == 0 {
		return ""
	}
	return humanize.IBytes(uint64(max(0, n)))
}

func allowed(rate int64) string {
	if rate == 0 {
		return "as much as goes"
	}
	return inBytes(rate) + "/s"
}

// toSite says how copies go to a site.
func toSite(d estate.Deliveries) string {
	text := limits(d.DeliveryRate, d.DeliveryHours)
	if d.Line != "" {
		text += ", over line " + d.Line
	}
	return text
}

// limits says what may go somewhere, by the hour.
func limits(rate string, hours []estate.Hours) string {
	text := "as much as goes"
	if rate != "" {
		text = rate + "/s"
	}
	for _, h := range hours {
		text += fmt.Sprintf("; %s to %s %s", h.From, h.To, cmp.Or(h.TimeZone, "UTC"))
		if h.Rate == estate.Unlimited {
			text += " as much as goes"
		} else {
			text += " " + h.Rate + "/s"
		}
	}
	return text
}
