package cli

import (
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// gap is the space between columns.
const gap = 2

// prose are columns of sentences, which are broken into lines. All others have names, numbers or times, which are not.
var prose = map[string]bool{
	"Why": true, "Reason": true, "Text": true, "What": true, "Title": true, "Summary": true, "Comment": true,
	"Notes":      true,
	"What to do": true, "Remarks": true, "Says": true, "Does": true, "Advice": true, "Purpose": true, "For": true,
	"Why it is kept": true, "Not read because": true, "Takes": true, "Found": true, "Came to": true, "Only": true,
	"detail": true, "title": true, "command": true, "Runs": true, "Software": true, "Leads to": true, "Wants": true,
}

// leastProse is the least width of a column of sentences.
const leastProse = 20

// dropped are the columns to omit in a narrow window, the least important first. After them, the last column is
// omitted.
var dropped = []string{
	"Load", "Heard", "Revision", "SHA-256", "Token", "Serial", "Code name", "Source", "Licence", "Origin", "By",
	"Added",
	"Loaded", "Started by", "Class", "Title", "Address", "Storage free", "Memory used", "Cores used", "Machines",
	"Tries",
	"Cost", "Started", "Ended", "Captured", "Made", "Changed", "Expires", "Last", "Disk", "Copies", "Sessions",
	"Rollover",
	"Drifting", "Since", "At", "Site", "Took", "Image",
}

// key is the name of a column for programs, as in CSV.
func key(name string) string { return strings.ToLower(strings.ReplaceAll(name, " ", "_")) }

// chosen returns the columns of the names, in their order, or all if there are none.
func chosen[T any](columns []column[T], names []string) ([]column[T], error) {
	if len(names) == 0 {
		return columns, nil
	}
	var out []column[T]
	for _, name := range names {
		i := slices.IndexFunc(columns, func(c column[T]) bool { return key(c.name) == key(strings.TrimSpace(name)) })
		if i < 0 {
			var there []string
			for _, c := range columns {
				there = append(there, key(c.name))
			}
			return nil, usage("--columns: there is no column %q here; there are: %s", name, strings.Join(there, ", "))
		}
		out = append(out, columns[i])
	}
	return out, nil
}

// fit returns the columns of a table, by index, that a window of the width has room for, and the width of each column
// of
// sentences. The first column always stays.
func fit(names []string, rows [][]string, width int) (shown []int, proseWidth int) {
	widths := make([]int, len(names))
	for i, n := range names {
		shown = append(shown, i)
		widths[i] = text.StringWidthWithoutEscSequences(n)
		for _, r := range rows {
			for line := range strings.SplitSeq(r[i], "\n") {
				widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(line))
			}
		}
	}
	for {
		fixed, sentences, most := 0, 0, 0
		for _, at := range shown {
			fixed += gap
			if prose[names[at]] && widths[at] > leastProse {
				sentences++
				most = max(most, widths[at])
			} else {
				fixed += widths[at]
			}
		}
		if sentences == 0 && fixed <= width {
			return shown, leastProse
		}
		if sentences > 0 && (width-fixed)/sentences >= leastProse {
			return shown, min(most, (width-fixed)/sentences)
		}
		if len(shown) == 1 {
			return shown, max(leastProse, width)
		}
		shown = slices.Delete(shown, leastOf(names, shown), leastOf(names, shown)+1)
	}
}

// leastOf returns the index in shown of the least important column. The first column is never chosen.
func leastOf(names []string, shown []int) int {
	for _, name := range dropped {
		for i := 1; i < len(shown); i++ {
			if names[shown[i]] == name {
				return i
			}
		}
	}
	return len(shown) - 1
}
