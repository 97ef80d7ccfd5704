package estate

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const lined = `lines:
  - name: harbour-link
    rate: 20MiB
    hours:
      - {from: "20:00", to: "6:00", rate: 100MiB, time-zone: Europe/Lisbon}
      - {from: "2:30", to: "3:00", rate: unlimited}
    at-once: 3
  - name: other
sites:
  - name: south-quay
    platform: practice
    address: http://127.0.0.1:7720
    line: harbour-link
    delivery-rate: 8MiB
    delivery-hours: [{from: "0:00", to: "0:00", rate: 4MiB}]
images: []
pools: []
`

func TestLinesAndSitesSayHowMuchGoes(t *testing.T) {
	t.Parallel()
	f, err := Parse([]byte(lined))
	require.NoError(t, err)
	require.Equal(t, []int{3, 2}, []int{f.Lines[0].AtOnce, f.Lines[1].AtOnce})
	require.Equal(t, "harbour-link", f.Lines[0].Title)
	l := f.Lines[0].Limit()
	for hour, want := range map[int]int64{4: 100 << 20, 12: 20 << 20, 23: 100 << 20} {
		require.Equal(t, want, l.At(time.Date(2026, 11, 28, hour, 0, 0, 0, time.UTC)), hour)
	}
	require.Zero(t, l.At(time.Date(2026, 11, 28, 2, 45, 0, 0, time.UTC)))
	require.Equal(t, int64(4<<20), f.Sites[0].Deliveries.Limit().At(time.Now()))
	require.Zero(t, f.Lines[1].Limit().At(time.Now()))
	require.Zero(t, Deliveries{}.Limit().At(time.Now()))
	require.Equal(t, int64(32<<20), f.Sites[0].Deliveries.Reading())
	require.Equal(t, int64(5<<20), Deliveries{ReadRate: "5MiB"}.Reading())
}

func TestWhatIsWrongWithLinesIsSaid(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ replace, with, want string }{
		{"rate: 20MiB", "rate: fast", `line 3: line harbour-link: rate: rate: "fast" is no size`},
		{"rate: 20MiB", "rate: 1KiB", "rate of 1KiB a second: use 64KiB or more"},
		{"at-once: 3", "at-once: 101", "line 7: line harbour-link: 101 deliveries at once: use 1 to 100"},
		{"at-once: 3", "at-once: -1", "-1 deliveries at once"},
		{"name: other", "name: harbour-link", "line harbour-link is there twice"},
		{"name: other", "name: Über", "line name"},
		{`"20:00"`, `"24:00"`, `line 5: line harbour-link: hours: from: "24:00" is no time of day: write one such as 20:00`},
		{`"6:00"`, `"6:0"`, `to: "6:0" is no time of day`},
		{`"6:00"`, `"6:60"`, "is no time of day"},
		{`"6:00"`, `"six"`, "is no time of day"},
		{"Europe/Lisbon", "Europe/Atlantis", `time-zone "Europe/Atlantis" is not known`},
		{"Europe/Lisbon", "Local", `time-zone "Local" is not known`},
		{"rate: unlimited", `rate: "0"`, "is no size"},
		{"line: harbour-link", "line: far-link", `line 13: site south-quay: line "far-link" is not in this file; it has ` +
			"harbour-link, other"},
		{"delivery-rate: 8MiB", "read-rate: \"8\"", "site south-quay: read-rate: rate of 8 a second: use 64KiB or " +
			"more"},
		{"delivery-rate: 8MiB", "delivery-rate: \"8\"", "site south-quay: delivery-rate: rate of 8 a second"},
		{`{from: "0:00", to: "0:00"`, `{from: "0:00", to: ""`, `site south-quay: delivery-hours: to: "" is no time of day`},
	} {
		require.Contains(t, lined, c.replace)
		_, err := Parse([]byte(strings.Replace(lined, c.replace, c.with, 1)))
		require.ErrorContains(t, err, c.want, c.with)
	}
}
