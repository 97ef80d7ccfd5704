package software

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
)

// Search returns the entries that have the text in their name, version, source
// or summary, whatever its case, in the order in which lists are read.
func Search(entries []Entry, text string) []Entry {
	text = strings.ToLower(text)
	found := make([]Entry, 0, len(entries))
	for _, e := range entries {
		if text == "" || slices.ContainsFunc([]string{e.Name, e.Version, e.Source, e.Summary}, func(s string) bool {
			return strings.Contains(strings.ToLower(s), text)
		}) {
			found = append(found, e)
		}
	}
	rank := map[Origin]int{}
	for i, o := range Origins() {
		rank[o] = i
	}
	slices.SortStableFunc(found, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(rank[a.Origin], rank[b.Origin]),
			strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), compareEntries(a, b))
	})
	return found
}

// PackEntries writes entries as they are kept, and UnpackEntries reads them.
func PackEntries(entries []Entry) []byte {
	text, _ := json.Marshal(entries) // plain values: cannot fail
	return Pack(text)
}

// UnpackEntries reads what PackEntries wrote.
func UnpackEntries(packed []byte) (entries []Entry, err error) {
	text, err := Unpack(packed)
	if err == nil {
		err = json.Unmarshal(text, &entries)
	}
	if err != nil {
		return nil, fmt.Errorf("a software list that was kept cannot be read: %w", err)
	}
	return entries, nil
}
