package image

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestARuleKeepsWhatItNames(t *testing.T) {
	t.Parallel()
	day := 24 * time.Hour
	all := []Candidate{
		{Number: "2026.11.2", Sealed: november.Add(-day), Barred: true},
		{Number: "2026.11.1", Sealed: november.Add(-2 * day)},
		{Number: "2026.10.1", Sealed: november.Add(-30 * day)},
		{Number: "2026.09.1", Sealed: november.Add(-60*day + time.Second)},
		{Number: "2026.08.1", Sealed: november.Add(-60 * day)},
		{Number: "2026.07.1", Sealed: november.Add(-120 * day), Tags: []string{"audit", "release"}},
	}
	for _, tc := range []struct {
		rule Retention
		goes []string
	}{
		{Retention{}, nil},
		{Retention{Keep: 10}, []string{"2026.11.2"}},
		{Retention{Keep: 1}, []string{"2026.11.2", "2026.10.1", "2026.09.1", "2026.08.1", "2026.07.1"}},
		{Retention{Keep: 1, Days: 60}, []string{"2026.08.1", "2026.07.1"}},
		{Retention{Keep: 2, Days: 2, Tagged: []string{"release", "x"}}, []string{"2026.09.1", "2026.08.1"}},
	} {
		kept := tc.rule.Judge(Calendar, all, november)
		var goes []string
		for _, c := range all {
			if len(kept[c.Number]) == 0 {
				goes = append(goes, c.Number)
			}
		}
		require.Equal(t, tc.goes, goes, "%s", tc.rule)
	}
	kept := Retention{Keep: 6, Days: 365, Tagged: []string{"audit", "release"}}.Judge(Calendar, all, november)
	require.Equal(t, []string{
		"it is among the newest 6", "it is younger than 365 days", "it is tagged audit", "it is tagged release",
	}, kept["2026.07.1"])
}

func TestARuleIsSaidAndChecked(t *testing.T) {
	t.Parallel()
	require.Equal(t, "everything", Retention{}.String())
	require.Equal(t, "the newest 3, what is younger than 1 day, what is tagged a or b",
		Retention{Keep: 3, Days: 1, Tagged: []string{"a", "b"}}.String())
	require.NoError(t, Retention{}.Check())
	require.NoError(t, Retention{Keep: 1, Days: 3650, Tagged: []string{"a"}}.Check())
	for want, r := range map[string]Retention{
		"keep: -1 versions: use 1 to 1000":          {Keep: -1},
		"keep: 1001 versions":                       {Keep: 1001},
		"keep: say how many of the newest versions": {Days: 3},
		"days: -1 days: use 0 to 3650":              {Keep: 1, Days: -1},
		"days: 3651 days":                           {Keep: 1, Days: 3651},
		`tagged: " a" is no tag`:                    {Keep: 1, Tagged: []string{" a"}},
		`tagged: "" is no tag`:                      {Keep: 1, Tagged: []string{""}},
		`tagged: "a" is there twice`:                {Keep: 1, Tagged: []string{"a", "a"}},
		"tagged: 21 tags: use at most 20":           {Keep: 1, Tagged: make([]string, 21)},
	} {
		require.ErrorContains(t, r.Check(), want)
	}
}

// TestARuleThatKeepsMoreHasLessRetired checks over random images that a rule keeps its number of versions that can
// be used, and that a wider one keeps all that a narrower one does.
func TestARuleThatKeepsMoreHasLessRetired(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		var all []Candidate
		usable := 0
		for i := range rapid.IntRange(0, 20).Draw(t, "versions") {
			c := Candidate{
				Number: fmt.Sprintf("2026.11.%d", i+1), Barred: rapid.Bool().Draw(t, "barred"),
				Sealed: november.Add(-rapid.Custom(func(t *rapid.T) time.Duration {
					return time.Duration(rapid.IntRange(0, 100*24).Draw(t, "hours")) * time.Hour
				}).Draw(t, "age")),
				Tags: rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b"}), 0, 2).Draw(t, "tags"),
			}
			if !c.Barred {
				usable++
			}
			all = append(all, c)
		}
		all = rapid.Permutation(all).Draw(t, "order")
		narrow := Retention{Keep: rapid.IntRange(1, 10).Draw(t, "keep"), Days: rapid.IntRange(0, 90).Draw(t, "days")}
		wide := Retention{narrow.Keep + 1, narrow.Days + 1, []string{"a"}}
		few, many := narrow.Judge(Calendar, all, november), wide.Judge(Calendar, all, november)
		kept := 0
		for _, c := range all {
			if len(few[c.Number]) == 0 {
				continue
			}
			require.NotEmpty(t, many[c.Number])
			if !c.Barred {
				kept++
			}
		}
		require.GreaterOrEqual(t, kept, min(narrow.Keep, usable))
		if i := slices.IndexFunc(all, func(c Candidate) bool { return slices.Contains(c.Tags, "a") }); i >= 0 {
			require.NotEmpty(t, many[all[i].Number])
		}
	})
}
