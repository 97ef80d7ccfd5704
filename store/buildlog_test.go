package store_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/build"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

func TestALogIsReadAsItWasWritten(t *testing.T) {
	t.Parallel()
	st, id := withBuild(t)
	at := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	one, two := store.Work{Key: "do-step-1", Attempt: 1}, store.Work{Key: "do-step-2", Attempt: 3}
	var want []store.LogLine
	consumed := map[string]int64{}
	add := func(w store.Work, step, n int) {
		var lines []string
		for range n {
			text := fmt.Sprintf("line\t%d", len(want))
			lines = append(lines, text)
			want = append(want, store.LogLine{
				Number: int64(len(want)), At: at, Step: step, Attempt: w.Attempt, Text: text,
			})
		}
		consumed[w.Key] += int64(n)
		require.NoError(t, store.AddLog(st.DB, id, w, step, consumed[w.Key], at, lines))
		at = at.Add(time.Second)
	}
	read := func(from int64, most int) (got []store.LogLine) {
		require.NoError(t, store.EachLogLine(st.DB, id, from, func(l store.LogLine) bool {
			got = append(got, l)
			return len(got) < most
		}))
		return got
	}
	require.Empty(t, read(0, 10))
	for range 3 {
		add(one, 0, 900)
	}
	add(two, 1, 1)
	add(two, 1, 5000)
	require.Equal(t, want, read(0, len(want)+1))
	require.Equal(t, want[1999:2004], read(1999, 5))
	require.Equal(t, want[2700:2702], read(2700, 2))
	require.Empty(t, read(int64(len(want)), 1))
	n, err := store.LogLength(st.DB, id)
	require.NoError(t, err)
	require.EqualValues(t, len(want), n)
	for w, bytes := range consumed {
		got, err := store.LogConsumed(st.DB, id, w)
		require.NoError(t, err)
		require.Equal(t, bytes, got)
	}
	none, err := store.LogConsumed(st.DB, id, "do-step-3")
	require.NoError(t, err)
	require.Zero(t, none)

	// What another process has added already is not added again.
	require.NoError(t, store.AddLog(st.DB, id, two, 1, consumed[two.Key], at, []string{"again"}))
	require.Equal(t, want, read(0, len(want)+1))
}

func withBuild(t *testing.T) (*store.Store, int64) {
	st := storetest.Open(t)
	site := store.Site{Name: "a", Title: "a", Platform: "practice", StartsPerMinute: 1, ClonesPerCopy: 1}
	require.NoError(t, st.DB.Create(&site).Error)
	img := store.Image{Name: "desk", Title: "Desk", MachineClass: "standard"}
	require.NoError(t, st.DB.Create(&img).Error)
	b := store.Build{ImageID: img.ID, SiteID: site.ID, State: build.Working, StartedBy: "tove", StartedAt: noon}
	require.NoError(t, st.DB.Create(&b).Error)
	return st, b.ID
}
