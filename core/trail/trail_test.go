package trail

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func chain(n int) []Entry {
	var entries []Entry
	var last Entry
	for i := range n {
		last = Seal(Entry{
			At: time.Date(2026, 11, 23, 8, i, 0, 123_456_789, time.UTC), Actor: "tove", Verb: "version.activate",
			Subject: "version counter-desk 2026.11.1", Detail: json.RawMessage(`{"track": "live", "before": null}`),
		}, last)
		entries = append(entries, last)
	}
	return entries
}

func breaks(entries []Entry) (found []int64) {
	var v Verifier
	for _, e := range entries {
		if err := v.Next(e); err != nil {
			found = append(found, err.(*Break).Seq)
		}
	}
	return found
}

func TestAnUntouchedChainVerifies(t *testing.T) {
	t.Parallel()
	require.Empty(t, breaks(chain(20)))
	// The database may write an object's keys in another order and with other spaces.
	entries := chain(3)
	entries[1].Detail = json.RawMessage(`{"before":null,"track":"live"}`)
	require.Empty(t, breaks(entries))
}

func TestEveryAlterationIsFound(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		entries := chain(10)
		i := rapid.IntRange(1, 8).Draw(t, "entry")
		e := &entries[i]
		switch rapid.IntRange(0, 8).Draw(t, "alteration") {
		case 0:
			e.Actor = "guest"
		case 1:
			e.At = e.At.Add(time.Microsecond)
		case 2:
			e.Verb += "x"
		case 3:
			e.Subject = ""
		case 4:
			e.Scope = "rollover 1"
		case 5:
			e.Reason = "because"
		case 6:
			e.Detail = json.RawMessage(`{"track":"pilot","before":null}`)
		case 7:
			entries = append(entries[:i], entries[i+1:]...)
		case 8:
			// Sealed anew, with a hash that fits: then the next entry does not.
			e.Actor = "guest"
			*e = Seal(*e, entries[i-1])
		}
		require.Len(t, breaks(entries), 1)
	})
}
