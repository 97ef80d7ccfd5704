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

// Trails that were exported are verified for years: the form that is hashed never changes.
func TestTheHashOfAnEntry(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 23, 9, 0, 0, 123_456_789, time.FixedZone("", 3600))
	first := Seal(Entry{
		At: at, Actor: "tove", Verb: "version.activate", Subject: "version counter-desk 2026.11.1",
		Scope: "rollover 3", Reason: "fit for use",
	}, Entry{})
	require.Equal(t, time.Date(2026, 11, 23, 8, 0, 0, 123_456_000, time.UTC), first.At)
	require.Equal(t, "22e422dfc71d526ae9ccf9cae141b2ce49236983be31aa70e2044b850c3e363a", first.Hash)
	second := Seal(Entry{At: at, Actor: "service", Verb: "host.drain", Detail: json.RawMessage(`{"b":2,"a":1}`)}, first)
	require.EqualValues(t, 2, second.Seq)
	require.Equal(t, "ecfddbdc6ca69676931519ed35099ba80517fc533d21cbc84a191aeea7fa5d23", second.Hash)
	broken := func(text string) string { return Seal(Entry{Detail: json.RawMessage(text)}, Entry{}).Hash }
	require.NotEqual(t, broken("{"), broken("["), "what is no JSON is hashed as it stands")
	require.NotEqual(t, broken("{"), broken(""))
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
