package subjects_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/flaw"
	"nimblepane/core/matter"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

// flawOf is a record of a flaw in a package, with the events of its range.
func flawOf(id, name, severity, events string) string {
	return `{"id": "` + id + `", "modified": "2026-11-20T08:00:00Z", "summary": "<b>tickets</b> are printed twice",
		"database_specific": {"severity": "` + severity + `"}, "affected": [{"package": {"ecosystem": "Debian:12", "name": "` + name +
		`"}, "ranges": [{"type": "ECOSYSTEM", "events": [` + events + `]}]}]}`
}

func TestVersionsAreHeldAgainstListsOfKnownFlaws(t *testing.T) {
	t.Parallel()
	estate := strings.Replace(servicetest.Estate, "{testers: 1, soak: 0s, copies: 2}",
		"{testers: 1, soak: 0s, copies: 2, no-serious-flaws: true}", 1)
	s := servicetest.Start(t, servicetest.Options{Scenario: stocked, Estate: estate})
	ctx, c := t.Context(), s.As(role.Operator)
	one := s.Live("back-office")
	two := s.Captured("counter-desk", "bm-counter")
	v, err := c.VersionFlaws(ctx, "counter-desk", one)
	require.NoError(t, err)
	require.Contains(t, v.Unknown, "no list of known flaws was loaded")
	rule := func() string {
		trial, err := c.Trial(ctx, "counter-desk", two)
		require.NoError(t, err)
		for _, r := range trial.Rules {
			if r.Rule == "flaws" {
				return map[bool]string{true: "met: ", false: "not met: "}[r.Met] + r.Why
			}
		}
		return ""
	}
	require.Contains(t, rule(), "not met: its known flaws cannot be held against those of counter-desk "+one)

	// A list with anything wrong is refused, and changes nothing; whoever only looks may not load one.
	_, err = s.As(role.Viewer).LoadFlaws(ctx, "debian", []byte("[]"))
	require.ErrorIs(t, err, problem.Forbidden)
	_, err = c.LoadFlaws(ctx, "Debian!", []byte("[]"))
	require.ErrorIs(t, err, problem.InvalidRequest)
	_, err = c.LoadFlaws(ctx, "debian", []byte(`[{"id": "A", "modified": "yesterday"}]`))
	require.ErrorIs(t, err, problem.InvalidFile)
	require.ErrorContains(t, err, `record 1: A: modified "yesterday" is no date`)
	lists, err := c.FlawLists(ctx)
	require.NoError(t, err)
	require.Empty(t, lists)

	l, err := c.LoadFlaws(ctx, "debian", []byte("["+strings.Join([]string{
		flawOf("DEB-1", "tide", "HIGH", `{"introduced": "0"}, {"fixed": "2.9-1"}`),
		flawOf("DEB-2", "fare-desk", "CRITICAL", `{"introduced": "6.2-1"}`),
		flawOf("DEB-3", "fare-desk", "LOW", `{"introduced": "0"}, {"fixed": "6.2-1"}`),
		flawOf("DEB-4", "unheard-of", "HIGH", `{"introduced": "0"}`),
	}, ",")+"]"))
	require.NoError(t, err)
	require.Equal(t, 4, l.Records)
	ids := func(list []flaw.Found) (ids []string) {
		for _, f := range list {
			ids = append(ids, f.ID)
		}
		return ids
	}
	for range 2 { // computed, and then kept
		v, err = c.VersionFlaws(ctx, "counter-desk", one)
		require.NoError(t, err)
		require.Equal(t, []string{"DEB-1", "DEB-3"}, ids(v.Items))
		require.Equal(t, 1, v.Serious)
		require.Equal(t, []string{"libtide1 2.8-4", "tide-data 2.8-4"}, v.Items[0].Software)
		require.Equal(t, "2.9-1", v.Items[0].Fixed)
	}
	d, err := c.Compare(ctx, "counter-desk", one, two)
	require.NoError(t, err)
	require.Equal(t, []string{"DEB-3"}, ids(d.Flaws.Mends))
	require.Equal(t, []string{"DEB-2"}, ids(d.Flaws.Brings))
	require.Equal(t, 1, d.Flaws.Same)
	markdown, err := c.CompareMarkdown(ctx, "counter-desk", one, two)
	require.NoError(t, err)
	require.Contains(t, string(markdown), "## Known flaws that it brings (1)")
	require.NotContains(t, string(markdown), "<b>")
	require.Equal(t, "not met: it has serious known flaws that counter-desk "+one+" does not have: DEB-2 (fare-desk); "+
		"not checked for known vulnerabilities, because no list covers it: folder (1 piece, such as quay-fax spring). "+
		"Load a list of it, or have an approver accept it (pane image accept-unchecked)", rule())
	v, err = c.VersionFlaws(ctx, "counter-desk", two)
	require.NoError(t, err)
	require.Equal(t, []flaw.Gap{{Ecosystem: "folder", Software: 1, Such: []string{"quay-fax spring"}}}, v.NotChecked)
	require.Equal(t, v.NotChecked, d.Flaws.NotChecked)
	accept := client.AcceptUnchecked{Ecosystem: "folder", Reason: "ours"}
	require.True(t, client.IsStatus(c.AcceptUnchecked(ctx, "counter-desk", accept), 403))
	approver := s.As(role.Approver)
	require.ErrorContains(t, approver.AcceptUnchecked(ctx, "counter-desk", client.AcceptUnchecked{Ecosystem: "folder"}),
		"needs a reason")
	require.NoError(t, approver.AcceptUnchecked(ctx, "counter-desk", accept))
	require.Equal(t, "not met: it has serious known flaws that counter-desk "+one+" does not have: DEB-2 "+
		"(fare-desk)", rule())
	told := func() (of []client.Matter) {
		list, err := c.Today(ctx)
		require.NoError(t, err)
		for _, m := range list {
			if m.Kind == matter.Flaw {
				of = append(of, m)
			}
		}
		return of
	}
	var today []client.Matter
	s.Until("Today to tell of it", func() bool {
		today = told()
		return len(today) == 1
	})
	require.Contains(t, today[0].Title, "counter-desk "+one+", which 6 hosts run, has 1 serious known flaw")
	require.Equal(t, "DEB-1 (tide, mended in 2.9-1)", today[0].Detail)
	require.Equal(t, "images/counter-desk/versions/"+one+"/flaws", today[0].Link)

	// A newer list takes the place of the one before, and what it does not say is forgotten.
	_, err = c.LoadFlaws(ctx, "debian", []byte(flawOf("DEB-3", "fare-desk", "LOW", `{"introduced": "0"}`)))
	require.NoError(t, err)
	require.Equal(t, "met: it has no serious known flaw that counter-desk "+one+" does not have; folder is not "+
		"checked, "+
		"which is accepted: ours (approver)", rule())
	require.NoError(t, approver.AcceptUnchecked(ctx, "counter-desk", client.AcceptUnchecked{
		Ecosystem: "folder",
		Withdraw:  true,
	}))
	require.Contains(t, rule(), "not met: not checked for known vulnerabilities")
	s.Until("Today to tell of it no more", func() bool { return len(told()) == 0 })
	_, err = c.LoadFlaws(ctx, "own", []byte(flawOf("OWN-1", "linux-image", "HIGH", `{"introduced": "0"}`)))
	require.NoError(t, err)
	v, err = c.VersionFlaws(ctx, "counter-desk", two)
	require.NoError(t, err)
	require.Equal(t, []string{"OWN-1", "DEB-3"}, ids(v.Items))
	_, err = c.Stage(ctx, "counter-desk", two, client.Staging{})
	require.NoError(t, err)
	s.Until("Today to tell of a version that no host runs yet", func() bool {
		return slices.ContainsFunc(told(), func(m client.Matter) bool {
			return strings.HasPrefix(m.Title, "counter-desk "+two+", which a track or a pool names, has ")
		})
	})
	require.NoError(t, c.DeleteFlaws(ctx, "own"))
	require.ErrorIs(t, c.DeleteFlaws(ctx, "own"), problem.NotFound)
	v, err = c.VersionFlaws(ctx, "counter-desk", two)
	require.NoError(t, err)
	require.Equal(t, []string{"DEB-3"}, ids(v.Items))
	lists, err = c.FlawLists(ctx)
	require.NoError(t, err)
	require.Len(t, lists, 1)
	_, err = c.VersionFlaws(ctx, "counter-desk", "2020.01.1")
	require.ErrorIs(t, err, problem.NotFound)
}
