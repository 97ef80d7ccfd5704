package cli

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/require"
)

func TestNoCellOfCSVIsAFormula(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	a := &app{out: &out, output: "csv"}
	texts := []string{"=1+1", "+cmd|' /C calc'!A0", "-2+3", "@sum(A1)", "\t=1", "-", "-5", "+7.5", "tides", "a=b"}
	require.NoError(t, list(a, texts, "", column[string]{"Text", func(s string) string { return s }}))
	require.Equal(t, "text\n'=1+1\n'+cmd|' /C calc'!A0\n'-2+3\n'@sum(A1)\n'\t=1\n-\n-5\n+7.5\ntides\na=b\n",
		out.String())
}

// terminal emulates the escape sequences that screen uses.
type terminal struct {
	width     int
	lines     [][]rune
	row, left int
}

func (s *terminal) Write(b []byte) (int, error) {
	for rest := []rune(string(b)); len(rest) > 0; {
		if m := escape.FindStringSubmatch(string(rest)); m != nil {
			rest = rest[len([]rune(m[0])):]
			switch m[2] {
			case "A":
				n, _ := strconv.Atoi(m[1])
				s.row = max(0, s.row-n)
			case "J":
				s.lines = s.lines[:min(len(s.lines), s.row+1)]
				s.lines[s.row] = s.lines[s.row][:min(s.left, len(s.lines[s.row]))]
			}
			continue
		}
		r := rest[0]
		rest = rest[1:]
		switch {
		case r == '\r':
			s.left = 0
		case r == '\n':
			s.row, s.left = s.row+1, 0
		default:
			if s.left == s.width {
				s.row, s.left = s.row+1, 0
			}
			for len(s.lines) <= s.row {
				s.lines = append(s.lines, nil)
			}
			s.lines[s.row] = append(s.lines[s.row][:s.left], r)
			s.left++
		}
		for len(s.lines) <= s.row {
			s.lines = append(s.lines, nil)
		}
	}
	return len(b), nil
}

var escape = regexp.MustCompile(`^\x1b\[(\d*)([A-Za-z])`)

func (s *terminal) String() string {
	var lines []string
	for _, l := range s.lines {
		lines = append(lines, strings.TrimRight(string(l), " "))
	}
	return strings.Join(lines, "\n")
}

func TestAScreenIsDrawnInItsPlaceAtEveryWidth(t *testing.T) {
	frames := [][]string{
		{"Rollover 7 of ticket-counters to counter-desk 2026.11.4: running, hosts done: 3 of 24", "  batch 1 # # #"},
		{
			"Rollover 7 of ticket-counters to counter-desk 2026.11.4: paused, hosts done: 4 of 24",
			"  batch 1 # # # #", "  paused: " +
				strings.Repeat("the host does not answer ", 8),
		},
		{"Rollover 7 of ticket-counters to counter-desk 2026.11.4: finished, hosts done: 24 of 24"},
	}
	for _, width := range []int{20, 60, 80, 200} {
		t.Setenv("COLUMNS", strconv.Itoa(width))
		term := &terminal{width: width}
		s := &screen{out: term}
		fmt.Fprint(term, "before\n")
		for _, f := range frames {
			s.draw(f)
			shown := strings.Fields(strings.TrimPrefix(term.String(), "before\n"))
			require.Equal(t, strings.Fields(strings.Join(f, "\n")), shown, "at %d", width)
		}
		s.clear()
		require.Equal(t, "before", strings.TrimSpace(term.String()))
		s.draw(frames[2])
		s.keep()
		fmt.Fprint(term, "after")
		require.Contains(t, term.String(), "24\nafter")
	}

	// A narrower window wraps the lines again.
	t.Setenv("COLUMNS", "80")
	term := &terminal{width: 80}
	s := &screen{out: term}
	s.draw(frames[0])
	t.Setenv("COLUMNS", "40")
	var out strings.Builder
	s.out = &out
	s.clear()
	require.Contains(t, out.String(), "\x1b[3A", "85 columns took two lines, and take three of 40 with the second of 5")

	// Lines beyond the height of the window are omitted.
	t.Setenv("LINES", "5")
	term = &terminal{width: 40}
	s = &screen{out: term}
	s.draw(slices.Repeat([]string{"host"}, 9))
	require.Equal(t, "host\nhost\nhost\n... and 6 more lines", term.String())
}

func TestTablesFitTheWindow(t *testing.T) {
	type row struct{ host, pool, since, why string }
	rows := []row{
		{"tc-001", "ticket-counters", "2026-11-23 12:00:00", "its agent is silent since the switch in the south " +
			"hall was replaced"},
		{"chart-plotter-0012", "chart-plotters", "2026-11-23 12:00:00", ""},
	}
	shown := func(width string, columns ...string) (string, string, error) {
		t.Helper()
		t.Setenv("COLUMNS", width)
		var out, err strings.Builder
		a := &app{out: &out, err: &err, output: "table", columns: columns}
		failed := list(a, rows, "",
			column[row]{"Host", func(r row) string { return r.host }}, column[row]{
				"Pool",
				func(r row) string { return r.pool },
			},
			column[row]{"Heard", func(r row) string { return r.since }}, column[row]{
				"Why",
				func(r row) string { return r.why },
			})
		return out.String(), err.String(), failed
	}
	for _, width := range []int{20, 40, 60, 80, 200} {
		out, left, err := shown(strconv.Itoa(width))
		require.NoError(t, err)
		for line := range strings.Lines(out) {
			require.LessOrEqual(t, text.StringWidthWithoutEscSequences(strings.TrimRight(line, "\n")), width,
				"%d:\n%s", width, out)
		}
		require.Contains(t, out, "chart-plotter-0012", "names are whole")
		require.Equal(t, width < 80, strings.Contains(left, "too narrow for Heard") || strings.Contains(left,
			"Heard"), left)
		if width >= 60 {
			require.Contains(t, strings.Join(strings.Fields(out), " "), "replaced", "sentences are broken, and whole")
		}
	}
	out, left, err := shown("20", "why", "Host")
	require.NoError(t, err)
	require.Contains(t, left, "Host")
	require.NotContains(t, out, "Pool")
	_, _, err = shown("80", "when")
	require.ErrorContains(t, err, `no column "when" here; there are: host, pool, heard, why`)
	a := &app{}
	var wide strings.Builder
	a.out, a.err, a.output, a.wide = &wide, &wide, "table", true
	require.NoError(t, list(a, rows, "", column[row]{"Host", func(r row) string { return r.host }},
		column[row]{"Why", func(r row) string { return r.why }}))
	require.Contains(t, wide.String(), "since the switch in the south hall was replaced")
}
