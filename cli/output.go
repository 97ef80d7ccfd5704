package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"nimblepane/client"
	"nimblepane/core/base"
	"nimblepane/core/build"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
	"nimblepane/platform"
)

// column is one column of a table.
type column[T any] struct {
	name string
	of   func(T) string
}

// list prints a list as the person asked for it.
func list[T any](a *app, items []T, none string, columns ...column[T]) error {
	if a.structured() {
		return a.object(items)
	}
	columns, err := chosen(columns, a.columns)
	if err != nil {
		return err
	}
	if a.output == "csv" {
		w := csv.NewWriter(a.out)
		row := make([]string, len(columns))
		for i, c := range columns {
			row[i] = key(c.name)
		}
		_ = w.Write(row)
		for _, item := range items {
			for i, c := range columns {
				row[i] = cell(text.StripEscape(c.of(item)))
			}
			_ = w.Write(row)
		}
		w.Flush()
		return w.Error()
	}
	if len(items) == 0 {
		fmt.Fprintln(a.out, none)
		return nil
	}
	rows := make([][]string, len(items))
	for i, item := range items {
		for _, c := range columns {
			rows[i] = append(rows[i], c.of(item))
		}
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.name
	}
	width, _ := window(a.out)
	if a.wide {
		width = math.MaxInt
	}
	shown, proseWidth := fit(names, rows, width)
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	style := table.StyleLight
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format.Header = text.FormatDefault
	style.Color.Header = text.Colors{text.Bold}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", strings.Repeat(" ", gap)
	t.SetStyle(style)
	header := make(table.Row, len(shown))
	var configs []table.ColumnConfig
	for i, at := range shown {
		header[i] = names[at]
		if prose[names[at]] {
			configs = append(configs, table.ColumnConfig{
				Number: i + 1, WidthMax: proseWidth, WidthMaxEnforcer: text.WrapSoft,
			})
		}
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(header)
	for _, r := range rows {
		row := make(table.Row, len(shown))
		for i, at := range shown {
			row[i] = r[at]
		}
		t.AppendRow(row)
	}
	t.SuppressTrailingSpaces()
	t.Render()
	if left := len(names) - len(shown); left > 0 {
		var missing []string
		for i, n := range names {
			if !slices.Contains(shown, i) {
				missing = append(missing, n)
			}
		}
		fmt.Fprintf(a.err, "The window is too narrow for %s: --wide shows everything, --columns what you choose.\n",
			english.WordSeries(missing, "and"))
	}
	return nil
}

// cell is a text as a cell of CSV. Spreadsheets run what begins like a formula, and names come from machines and
// vendors: such a text gets a quotation mark before it, which spreadsheets do not show. Numbers stay as they are.
func cell(s string) string {
	if s == "" || s == "-" || !strings.ContainsAny(s[:1], "=+-@\t\r") {
		return s
	}
	if _, err := strconv.ParseFloat(s, 64); err == nil {
		return s
	}
	return "'" + s
}

// object prints one thing as JSON or YAML. Both have the names of the API.
func (a *app) object(v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if a.output == "yaml" {
		if b, err = yaml.JSONToYAML(b); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintln(a.out, strings.TrimRight(string(b), "\n"))
	return err
}

// structured says whether the output is for programs that want whole objects.
func (a *app) structured() bool { return a.output == "json" || a.output == "yaml" }

// fact is one line of what is shown of one thing.
type fact struct{ name, value string }

// facts prints them below each other; those without a value are left out. CSV
// is spared them: of one thing it has the list of what belongs to it.
func (a *app) facts(list ...fact) {
	if a.output != "table" {
		return
	}
	width := 0
	for _, f := range list {
		if f.value != "" {
			width = max(width, len(f.name))
		}
	}
	for _, f := range list {
		if f.value != "" {
			fmt.Fprintf(a.out, "%s  %s\n", text.Bold.Sprintf("%-*s", width, f.name),
				strings.ReplaceAll(f.value, "\n", "\n"+strings.Repeat(" ", width+2)))
		}
	}
}

func when(t *time.Time) string {
	if t == nil || t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04:05")
}

func day(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.DateOnly)
}

func size(bytes int64) string {
	if bytes == 0 {
		return ""
	}
	return humanize.IBytes(uint64(max(0, bytes)))
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// What is said of versions and of rules, beside the states.
const barred, met, notMet = "barred", "met", "not met"

// Colours are a second sign beside the word, never the only one.
var stateColours = map[string]text.Color{
	string(host.Serving): text.FgGreen, string(host.Draining): text.FgYellow, string(host.Emptied): text.FgYellow,
	string(host.Rebuilding): text.FgCyan, string(host.Checking): text.FgCyan, string(host.Starting): text.FgCyan,
	string(host.Faulty): text.FgRed,

	string(rollover.Waiting): text.FgYellow, string(rollover.Running): text.FgCyan,
	string(rollover.Paused): text.FgHiYellow, string(rollover.Stopped): text.FgRed,
	string(rollover.Finished): text.FgGreen,

	string(image.Capturing): text.FgCyan, string(image.Sealed): text.FgGreen, string(image.Failed): text.FgRed,
	barred: text.FgRed,

	string(build.Preparing): text.FgCyan, string(build.Working): text.FgCyan, string(build.Sealing): text.FgCyan,
	string(build.Delivering): text.FgCyan, string(build.Ready): text.FgGreen, string(build.Cancelled): text.FgYellow,
	string(base.Fetching): text.FgCyan, string(base.Receiving): text.FgCyan, string(base.Converting): text.FgCyan,
	string(build.StepDone): text.FgGreen, string(build.StepGoesOn): text.FgCyan,
	string(build.StepNoted): text.FgYellow,

	string(platform.Mapping): text.FgCyan, string(platform.Gathering): text.FgCyan,
	string(platform.Sending):       text.FgCyan,
	string(client.DeliveryArrived): text.FgGreen,

	met: text.FgGreen, notMet: text.FgHiYellow,
}

func coloured[S ~string](state S) string {
	if c, ok := stateColours[string(state)]; ok {
		return c.Sprint(state)
	}
	return string(state)
}
