package image

import (
	"cmp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var november = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func TestNextNumber(t *testing.T) {
	t.Parallel()
	for _, tc := range []struct {
		scheme   Scheme
		existing []string
		want     string
	}{
		{Calendar, nil, "2026.11.1"},
		{Calendar, []string{"2026.10.3"}, "2026.11.1"},
		{Calendar, []string{"2026.11.9", "2026.11.10"}, "2026.11.11"},
		{Calendar, []string{"2026.11.10", "2026.11.9"}, "2026.11.11"},
		{Calendar, []string{"2026.11.1", "9999", "2026.11"}, "2026.11.2"},
		{Calendar, []string{"2027.01.1"}, "2027.01.2"},
		{Semver, nil, "1.0.0"},
		{Semver, []string{"1.9.0", "1.10.2"}, "1.11.0"},
	} {
		require.Equal(t, tc.want, tc.scheme.Next(tc.existing, november), "%s %v", tc.scheme, tc.existing)
	}
}

func TestTheNextNumberIsAlwaysNew(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		scheme := rapid.SampledFrom([]Scheme{Calendar, Semver}).Draw(t, "scheme")
		var numbers []string
		now := november
		for range rapid.IntRange(1, 40).Draw(t, "versions") {
			now = now.AddDate(0, rapid.IntRange(0, 2).Draw(t, "months"), 0)
			next := scheme.Next(numbers, now)
			require.NoError(t, scheme.CheckNew(next, numbers, now))
			numbers = append(numbers, next)
		}
	})
}

func TestWrongNumbersAreExplained(t *testing.T) {
	t.Parallel()
	existing := []string{"2026.11.2"}
	for number, want := range map[string]string{
		"2026.11":    "YYYY.MM.N",
		"2026.13.1":  "has month 13: months go from 01 to 12",
		"2026.00.1":  "has month 00: months go from 01 to 12",
		"2026.11.02": "YYYY.MM.N",
		"2026.11.2":  "is taken: the next one is 2026.11.3",
		"2026.10.1":  "older than 2026.11.2",
	} {
		require.ErrorContains(t, Calendar.CheckNew(number, existing, november), want)
	}
	require.ErrorContains(t, Semver.Check("v1.0"), "MAJOR.MINOR.PATCH")
	_, err := ParseScheme("roman")
	require.ErrorContains(t, err, `use "calendar" or "semver"`)
}

func TestNumbersAreOrdered(t *testing.T) {
	t.Parallel()
	for scheme, order := range map[Scheme][]string{
		Calendar: {"", "2026.13.1", "rubbish", "2025.12.31", "2026.02.1", "2026.10.1", "2026.10.2", "2026.10.10"},
		Semver:   {"", "1.0", "v1.0.0", "0.9.0", "1.0.0-rc.1", "1.0.0", "1.0.1", "1.2.0", "1.10.0"},
	} {
		for i, a := range order {
			for j, b := range order {
				require.Equal(t, cmp.Compare(i, j), scheme.Compare(a, b), "%s %q %q", scheme, a, b)
			}
		}
	}
}

func TestNames(t *testing.T) {
	t.Parallel()
	long := strings.Repeat("a", 40)
	for _, good := range []string{"a", "north-quay", "x2-3", long} {
		require.NoError(t, CheckName(good))
	}
	for _, bad := range []string{"", "2a", "-a", "a-", "a--b", "A", "a b", "å", long + "a"} {
		require.ErrorContains(t, CheckName(bad), "cannot be a name", bad)
	}
}

func TestTracksBeginWithPilotAndEndWithLive(t *testing.T) {
	t.Parallel()
	require.NoError(t, CheckTracks([]string{"pilot", "early", "live"}))
	for _, bad := range [][]string{
		nil,
		{"pilot"},
		{"live", "pilot"},
		{"pilot", "Early", "live"},
		{"pilot", "a", "a", "live"},
		{"early", "live"},
		{"pilot", "early"},
	} {
		require.Error(t, CheckTracks(bad), "%v", bad)
	}
}

func TestStanding(t *testing.T) {
	t.Parallel()
	advance := func(v int64) Move { return Move{Kind: Advance, Version: v} }
	back := func(v int64) Move { return Move{Kind: Return, Version: v} }
	for _, tc := range []struct {
		name              string
		history           []Move
		current, fallback int64
	}{
		{"nothing yet", nil, 0, 0},
		{"the first has no fallback", []Move{advance(1)}, 1, 0},
		{"the one before is the fallback", []Move{advance(1), advance(2), advance(3)}, 3, 2},
		{"rolled back, what was before that is", []Move{advance(1), advance(2), advance(3), back(2)}, 2, 1},
		{"and never what was rolled back", []Move{advance(1), advance(2), back(1), advance(3)}, 3, 1},
		{"what goes on from the first has no fallback", []Move{advance(1), advance(2), back(1)}, 1, 0},
		{"what went to the top is not below any more", []Move{advance(1), advance(2), advance(1), back(2)}, 2, 0},
		{"it can be let go", []Move{advance(1), advance(2), {Kind: Advance, Version: 3, LetGo: true}}, 3, 0},
		{"an older one can go live again", []Move{advance(1), advance(2), advance(1)}, 1, 2},
		{"a track that returns to what it never named just names it", []Move{advance(2), back(1)}, 1, 2},
	} {
		t.Run(tc.name, func(t *testing.T) {
			t.Parallel()
			current, fallback := Standing(tc.history)
			require.Equal(t, tc.current, current)
			require.Equal(t, tc.fallback, fallback)
		})
	}
}

func TestWhyKeep(t *testing.T) {
	t.Parallel()
	require.Empty(t, Use{Sealed: true}.WhyKeep())
	require.Equal(t, []string{"1 of the hosts run it: a"}, Use{Sealed: true, Hosts: []string{"a"}}.WhyKeep())
	require.Equal(t, []string{"5 of the hosts run it: a, b, c, d, e"},
		Use{Sealed: true, Hosts: []string{"a", "b", "c", "d", "e"}}.WhyKeep())
	why := Use{
		Tracks: []string{"live"}, Fallback: true, Pools: []string{"back-office"},
		Hosts: []string{"a", "b", "c", "d", "e", "f"}, Rollover: "rollover 3",
	}.WhyKeep()
	require.Equal(t, []string{
		"only a sealed version can be retired", "track live names it", "it is the fallback of its image",
		"pool back-office is pinned to it",
		"6 of the hosts run it: a, b, c, d, e and 1 more", "rollover 3 takes hosts to it",
	}, why)
}
