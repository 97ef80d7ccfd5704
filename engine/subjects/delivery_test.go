package subjects_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
	"nimblepane/platform"
)

// lined is the estate with a line to both its sites.
func lined(line string) string {
	return "lines:\n  - {name: harbour-link, " + line + "}\n" + strings.ReplaceAll(servicetest.Estate,
		"starts-per-minute: 600", "line: harbour-link, starts-per-minute: 600")
}

func deliveriesOf(t *testing.T, c *client.Client, d client.Deliveries) (waiting, underWay []client.Delivery) {
	t.Helper()
	rows, err := c.Deliveries(t.Context(), d)
	require.NoError(t, err)
	for _, r := range rows {
		switch r.State {
		case client.DeliveryWaiting:
			require.True(t, len(waiting) == 0 || waiting[len(waiting)-1].Before <= r.Before, "in their turns")
			waiting = append(waiting, r)
		case client.DeliveryUnderWay:
			require.Empty(t, waiting, "those under way come first")
			underWay = append(underWay, r)
		case client.DeliveryArrived, client.DeliveryFailed:
		}
	}
	return waiting, underWay
}

func arrived(s *servicetest.Service, c *client.Client, t *testing.T, number string) (v client.Version) {
	t.Helper()
	s.Until("the copies", func() bool {
		var err error
		v, err = c.Version(t.Context(), "counter-desk", number)
		require.NoError(t, err)
		return len(v.Copies) == 6 && !slices.ContainsFunc(v.Copies, func(x client.Copy) bool {
			return x.State != image.CopyPresent
		})
	})
	return v
}

func TestDeliveriesTakeTurnsOverALine(t *testing.T) {
	t.Parallel()
	const limit = 4 << 20
	// The image is made at north-quay, tried out at south-quay, and used at both and at west-quay.
	lined := func(line string) string {
		file := strings.Replace(lined(line), "images:", "  - {name: west-quay, platform: practice, address: WORLD, "+
			"line: harbour-link, clones-per-copy: 4}\n"+
			"images:", 1)
		file = strings.Replace(file, "name: ticket-pilot, site: north-quay", "name: ticket-pilot, site: south-quay", 1)
		return file + "  - {name: west-office, site: west-quay, image: counter-desk, track: live, hosts: 1, " +
			"host-prefix: wo, " +
			"seats-per-host: 4, machine-class: standard}\n"
	}
	s := servicetest.Start(t, servicetest.Options{
		Estate: lined("rate: 4MiB, at-once: 1"), Scenario: strings.Replace(servicetest.Scenario, "build-machines:",
			"  - name: west-quay\n    knobs: {clone: 60s, boot: 20s, check: 20s, deliver: 60s}\nbuild-machines:", 1),
	})
	ctx, c := t.Context(), s.As(role.Operator)
	v, err := c.Capture(ctx, "counter-desk", client.Capture{BuildMachine: "bm-counter"})
	require.NoError(t, err)
	var waiting, underWay []client.Delivery
	s.Until("the first to be sent", func() bool {
		waiting, underWay = deliveriesOf(t, c, client.Deliveries{Image: "counter-desk"})
		underWay = slices.DeleteFunc(underWay, func(d client.Delivery) bool { return d.Site == "north-quay" })
		waiting = slices.DeleteFunc(waiting, func(d client.Delivery) bool { return d.Site == "north-quay" })
		require.LessOrEqual(t, len(underWay), 1)
		return len(underWay) == 1 && len(waiting) == 3 && underWay[0].Rate > 0 && underWay[0].Left > 0 &&
			!slices.ContainsFunc(waiting, func(d client.Delivery) bool { return d.Why == "" })
	})
	first := underWay[0]
	require.Equal(t, []any{"south-quay", 1, "harbour-link", platform.Sending},
		[]any{first.Site, first.Ordinal, first.Line, first.Stage}, "where it is tried out")
	require.Equal(t, first.Whole, first.Lacking)
	for _, w := range waiting {
		if w.Ordinal == 1 {
			require.Equal(t, "west-quay", w.Site)
			require.Equal(t, "it waits for its turn on line harbour-link: 1 goes before it, and 1 may go at once",
				w.Why)
			require.Equal(t, 1, w.Before)
		} else {
			require.Equal(t, "it waits for another copy that comes to the site, which it is made from", w.Why)
		}
	}
	lines, err := c.Lines(ctx)
	require.NoError(t, err)
	require.Len(t, lines, 1)
	require.Equal(t, []any{int64(limit), 1, 3}, []any{lines[0].Now, lines[0].UnderWay, lines[0].Waiting})
	require.Equal(t, []string{"north-quay", "south-quay", "west-quay"}, lines[0].Sites)
	none, err := c.Deliveries(ctx, client.Deliveries{Site: "south-quay", Image: "chart-desk"})
	require.NoError(t, err)
	require.Empty(t, none)
	_, err = c.Deliveries(ctx, client.Deliveries{Site: "east-quay"})
	require.ErrorContains(t, err, `site "east-quay"`)
	_, err = c.Deliveries(ctx, client.Deliveries{Image: "west-desk"})
	require.ErrorContains(t, err, `image "west-desk"`)

	// What is under way takes a new limit at once.
	load, err := s.As(role.Administrator).LoadEstate(ctx, s.EstateFile(lined("at-once: 4")), false)
	require.NoError(t, err)
	require.Equal(t, []string{"line harbour-link: what goes over it"}, load.Changes)
	whole := arrived(s, c, t, v.Number)
	text, err := c.Estate(ctx)
	require.NoError(t, err)
	require.Contains(t, string(text), "harbour-link")
	for _, x := range whole.Copies {
		require.NotNil(t, x.Delivery)
		require.Equal(t, x.Site != "north-quay" && x.Ordinal == 1, x.Delivery.Lacking > 0, "others come from the "+
			"site itself")
	}

	// The next version goes as what changed.
	next := s.Captured("counter-desk", "bm-counter")
	for _, x := range arrived(s, c, t, next).Copies {
		require.Less(t, x.Delivery.Lacking, x.Delivery.Whole/10)
		require.Equal(t, x.Delivery.Lacking, x.Delivery.Sent)
	}
	all, err := c.Deliveries(ctx, client.Deliveries{Ended: true, Limit: 5})
	require.NoError(t, err)
	require.Len(t, all, 5)
	require.Equal(t, next, all[0].Number)
	require.Equal(t, client.DeliveryArrived, all[0].State)
}

// TestASiteThatDoesNotAnswerKeepsNobodyFromATurn has it be where a version is needed first.
func TestASiteThatDoesNotAnswerKeepsNobodyFromATurn(t *testing.T) {
	t.Parallel()
	file := strings.Replace(lined("at-once: 1"), "{name: north-quay, platform: practice, address: WORLD",
		"{name: north-quay, platform: practice, address: \"http://127.0.0.1:1\"", 1)
	file = strings.Replace(file, "site: south-quay, image: counter-desk", "site: south-quay, image: chart-desk", 1)
	file = strings.Replace(file, "host-prefix: bo, seats-per-host: 4, machine-class: standard", "host-prefix: bo, "+
		"seats-per-host: 4, machine-class: graphics", 1)
	file += "  - {name: chart-pilot, site: north-quay, image: chart-desk, track: pilot, hosts: 1, host-prefix: xp, " +
		"seats-per-host: 4, machine-class: graphics}\n"
	s := servicetest.Start(t, servicetest.Options{Estate: file})
	c := s.As(role.Operator)
	_, err := c.Capture(t.Context(), "chart-desk", client.Capture{BuildMachine: "bm-chart", Number: "1.0.0"})
	require.NoError(t, err)
	s.Until("the copy at the site that answers", func() bool {
		v, err := c.Version(t.Context(), "chart-desk", "1.0.0")
		require.NoError(t, err)
		return slices.ContainsFunc(v.Copies, func(x client.Copy) bool {
			return x.Site == "south-quay" && x.State == image.CopyPresent
		})
	})
	waiting, underWay := deliveriesOf(t, c, client.Deliveries{})
	require.Empty(t, underWay)
	require.Len(t, waiting, 1)
	require.Equal(t, "north-quay", waiting[0].Site)
	require.Contains(t, waiting[0].Why, "north-quay does not answer")
}

func TestWhatWaitsIsNotDeliveredOfAVersionThatIsBarred(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: lined("rate: 64KiB, at-once: 1")})
	ctx, c := t.Context(), s.As(role.Operator)
	v, err := c.Capture(ctx, "counter-desk", client.Capture{BuildMachine: "bm-counter"})
	require.NoError(t, err)
	s.Until("a delivery under way, and one that waits", func() bool {
		waiting, underWay := deliveriesOf(t, c, client.Deliveries{Site: "south-quay"})
		return len(waiting) == 1 && len(underWay) == 1
	})
	_, err = s.As(role.Approver).Bar(ctx, "counter-desk", v.Number, "it forgets the tides")
	require.NoError(t, err)
	s.Until("what waits to be given up", func() bool {
		v, err = c.Version(ctx, "counter-desk", v.Number)
		require.NoError(t, err)
		return slices.ContainsFunc(v.Copies, func(x client.Copy) bool {
			return x.Ordinal == 2 && x.Failure == "counter-desk "+v.Number+" was barred: it forgets the tides"
		})
	})
	today, err := c.Today(ctx)
	require.NoError(t, err)
	require.False(t, slices.ContainsFunc(today, func(m client.Matter) bool { return m.Kind == matter.Copy }),
		"nobody needs it")
}
