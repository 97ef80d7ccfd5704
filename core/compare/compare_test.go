package compare_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/compare"
	"nimblepane/core/seal"
	"nimblepane/core/sheet"
	"nimblepane/core/software"
)

func TestTwoVersionsAreComparedInAllThatMatters(t *testing.T) {
	t.Parallel()
	plan := func(queue string, steps ...sheet.Step) *sheet.Sheet {
		return &sheet.Sheet{
			Machine: sheet.Machine{Site: "north-quay", Memory: 8 << 30}, Steps: steps,
			Values:       map[string]string{"queue": queue},
			Applications: []sheet.Application{{Name: "Fare Desk", Command: "/usr/bin/fare-desk"}},
		}
	}
	install := func(name string, packages ...string) sheet.Step {
		return sheet.Step{Name: name, Install: &sheet.Packages{Packages: packages}}
	}
	at := time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC)
	from := compare.Side{
		Version: compare.Version{
			Number: "2026.11.1", Standing: []string{"live"}, SizeBytes: 1 << 30, Base: "counter-desk 2026.10.1",
			SealedAt: &at, BuildSeconds: 3600,
		},
		List: software.List{Entries: []software.Entry{{Origin: software.Deb, Name: "bash", Version: "5.1"}}},
		Plan: plan("counter", install("Fonts", "fonts"), install("Printer", "cups")),
		Checks: []seal.Finding{{
			Check: seal.Leftovers, Severity: seal.Warns, Evidence: "steps left /tmp/x",
		}},
	}
	to := from
	to.Version = compare.Version{
		Number: "2026.11.2", SizeBytes: 2 << 30, Base: "counter-desk 2026.10.1",
		FirstStart: 42,
	}
	to.List = software.List{
		Entries: []software.Entry{{Origin: software.Deb, Name: "bash", Version: "5.2"}},
		Facts:   software.Facts{Kernel: "6.1"},
	}
	to.Plan, to.Checks = plan("office", install("Fonts", "fonts", "more-fonts"), install("Mail", "mail")), nil
	c := compare.Of("counter-desk", from, to)
	require.Equal(t, []compare.Line{{What: "parameter queue", Before: "counter", After: "office"}}, c.Settings)
	require.Equal(t, []string{"Fonts", "Printer", "Mail"}, []string{c.Steps[0].What, c.Steps[1].What, c.Steps[2].What})
	require.NotEqual(t, c.Steps[0].Before, c.Steps[0].After)
	require.Empty(t, c.Steps[1].After)
	require.Equal(t, "leftovers", c.Checks[0].What)
	require.Equal(t, []compare.Count{{Group: software.TheRest, What: software.Updated, N: 1}}, c.Counts)
	require.Equal(t, "Software: 1 updated; 0 the same.", c.Summary())
	require.Equal(t, []compare.Line{{What: "kernel", After: "6.1"}}, c.Facts)

	to.Plan = nil
	c = compare.Of("counter-desk", from, to)
	require.Empty(t, c.Steps)
	require.Equal(t, []compare.Line{{What: "made", Before: "by a build sheet", After: "captured by hand"}}, c.Settings)
	require.Contains(t, c.Markdown(), "| first start took | – | 42 seconds |")
	require.Contains(t, c.Markdown(), "| build took | 1h0m0s | – |")
}

func TestNoTextOfOthersIsMarkdown(t *testing.T) {
	t.Parallel()
	evil := "<b>*a*_b_`c`|d|[e](https://evil.example)\n# f\x1b[31m\u202e www.evil.example & ida@evil.example"
	side := func(version string) compare.Side {
		return compare.Side{Version: compare.Version{Number: "1"}, List: software.List{
			Entries: []software.Entry{{Origin: software.Deb, Name: evil, Version: version}},
			Facts:   software.Facts{Kernel: evil + version},
		}}
	}
	text := compare.Of(evil, side("1"), side("2")).Markdown()
	for _, bad := range []string{"<b>", "*a*", "_b_", "`c`", "[e]", "https://", "\n# f", "\x1b", "\u202e", "www.evil", "& "} {
		require.NotContains(t, strings.NewReplacer(`\*`, "", `\_`, "", "\\`", "", `\[`, "", `\]`, "").Replace(text), bad)
	}
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, "|") && !strings.HasPrefix(line, "|-") {
			require.Contains(t, []int{4, 5}, strings.Count(strings.ReplaceAll(line, `\|`, ""), "|"), line)
		}
	}
}
