package cli_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/cli"
	"nimblepane/client"
	"nimblepane/core/image"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
	"nimblepane/platform/practice/world"
)

// TestGoingBackAtTheCommandLine has a version with a fallback, of which a copy decays, and lets go of what nobody
// needs.
func TestGoingBackAtTheCommandLine(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	run := func(code int, want string, args ...string) string {
		t.Helper()
		out, got := pane(t, s, role.Operator, args...)
		require.Equal(t, code, got, out)
		require.Contains(t, out, want)
		return out
	}
	run(0, "Going back is not possible: no version was ever live.", "image", "readiness", "counter-desk")
	first := s.Live("ticket-counters", "back-office")
	run(0, "there is no version to go back to", "image", "readiness", "counter-desk")
	second := s.Captured("counter-desk", "bm-counter")

	// Before it asks, activating says what going back would be like, and what letting go costs.
	ask := func(args ...string) string {
		t.Helper()
		out, code := typed(t, "n\n", append([]string{
			"--url", s.URL, "--token", s.Token(role.Administrator), "activate", "counter-desk", second, "--overrule",
			"--reason", "now",
		}, args...)...)
		require.NotZero(t, code, out)
		return out
	}
	out := ask()
	require.Contains(t, out, first+" is kept as the fallback.")
	require.Contains(t, out, "Going back to "+first+" takes ")
	out = ask("--let-go")
	require.Contains(t, out, "there will be nothing to fall back to. What turns out wrong with "+second)
	require.Contains(t, out, "Kept, it could be gone back to in ")
	require.Contains(t, out, "retired, it would give back ")

	s.Tried(second)
	s.Activated(second)
	run(0, "Going back to "+first+" is possible, and no host has to change.", "image", "show", "counter-desk")
	run(0, "per site", "image", "show", "counter-desk")

	// A copy that is not what it was is found by itself, told, and mended on demand.
	s.Fault("south-quay", world.Decays, "counter-desk-"+first+"-copy-*")
	s.Until("the copies to be read", func() bool {
		require.NoError(t, s.Store.DB.Exec("update copies set read_at = read_at - interval '2 days' where state = "+
			"'present' and read_at > ?", s.Engine.Clock.Now().Add(-24*time.Hour)).Error)
		v, err := s.As(role.Viewer).Version(t.Context(), "counter-desk", first)
		require.NoError(t, err)
		found := 0
		for _, c := range v.Copies {
			if c.Site == "south-quay" && c.State == image.CopyFailed {
				found++
				require.Contains(t, c.Failure, "it was changed: its content has digest sha256:000000000000... and "+
					"should have sha256:")
			}
		}
		return found == 2
	})
	out = run(0, "Going back to "+first+" is not possible everywhere: pool back-office", "image", "readiness",
		"counter-desk")
	require.Contains(t, out, "cannot be used: it was changed")
	require.Contains(t, run(0, "cannot be used", "today"), "The pools of counter-desk could not all be rolled back")
	run(0, "on the way", "version", "deliver", "counter-desk", first)
	s.Until("the copies to be back", func() bool {
		r, err := s.As(role.Viewer).Readiness(t.Context(), "counter-desk")
		require.NoError(t, err)
		return r.Ready
	})
}

func TestWhatIsKeptAtTheCommandLine(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	run := func(code int, want string, args ...string) string {
		t.Helper()
		out, got := pane(t, s, role.Operator, append([]string{"image", "retention", "counter-desk"}, args...)...)
		require.Equal(t, code, got, out)
		require.Contains(t, out, want)
		return out
	}
	var numbers []string
	for range 3 {
		numbers = append(numbers, s.Captured("counter-desk", "bm-counter"))
	}
	run(0, "counter-desk keeps everything.")
	for want, args := range map[string][]string{
		"--off keeps everything":          {"--off", "--keep", "3"},
		"--keep, 1 at least":              {"--days", "3"},
		"tagged: \"a\" is there twice":    {"--keep", "1", "--tagged", "a,a"},
		"days: 4000 days: use 0 to 3650":  {"--keep", "1", "--days", "4000"},
		"expected number >= 0":            {"--keep", "-1"},
		"keep: 1001 versions: use 1 to 1": {"--keep", "1001"},
	} {
		run(cli.ExitUsage, want, args...)
	}
	out := run(0, "2 versions would be retired", "--keep", "1", "--dry-run")
	require.Contains(t, out, "it is among the newest 1")
	run(0, "counter-desk keeps everything.")
	run(0, "would be kept", "--off", "--dry-run")
	run(0, "counter-desk keeps the newest 1.", "--keep", "1", "--yes")
	s.Until("what is not kept to be retired", func() bool {
		list, err := s.As(role.Viewer).Versions(t.Context(), "counter-desk")
		require.NoError(t, err)
		retired := 0
		for _, v := range list {
			if v.State == image.Retired && len(v.Copies) == 0 {
				retired++
			}
		}
		return retired == 2
	})
	// The rule holds for what comes, and is in the estate file; somebody else's look is stale by now.
	numbers = append(numbers, s.Captured("counter-desk", "bm-counter"))
	_, err := s.As(role.Operator).SetRetention(t.Context(), "counter-desk", client.RetentionChange{
		Keep: 1, Retires: numbers[:2],
	})
	require.ErrorContains(t, err, "look again, and repeat it if it is still right")
	text, err := s.As(role.Administrator).Estate(t.Context())
	require.NoError(t, err)
	require.Contains(t, string(text), "retention:\n      keep: 1\n")
	wider := strings.Replace(string(text), "keep: 1\n", "keep: 7\n", 1)
	load, err := s.As(role.Administrator).LoadEstate(t.Context(), []byte(wider), true)
	require.NoError(t, err)
	require.Contains(t, load.Changes[0], "keeps the newest 7")
	_, err = s.As(role.Viewer).SetRetention(t.Context(), "counter-desk", client.RetentionChange{Keep: 1})
	require.True(t, client.IsStatus(err, http.StatusForbidden), err)
	run(0, "counter-desk keeps everything.", "--off", "--yes")
}
