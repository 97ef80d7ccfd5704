package estate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const good = `sites:
  - {name: north-quay, platform: practice, address: "http://127.0.0.1:7720"}
images:
  - name: counter-desk
    machine-class: standard
pools:
  - name: ticket-counters
    site: north-quay
    image: counter-desk
    track: live
    hosts: 3
    host-prefix: tc
    seats-per-host: 6
    machine-class: standard
`

func TestDefaultsAreFilledIn(t *testing.T) {
	t.Parallel()
	f, err := Parse([]byte(good))
	require.NoError(t, err)
	require.Equal(t, "north-quay", f.Sites[0].Title)
	require.Equal(t, 20, f.Sites[0].StartsPerMinute)
	require.Equal(t, 4, f.Sites[0].ClonesPerCopy)
	require.Equal(t, "counter-desk", f.Images[0].Title)
	require.Equal(t, 1, *f.Images[0].Clearance.Copies)
	require.Equal(t, []string{"pilot", "live"}, f.Images[0].Tracks)
	require.Equal(t, "24h", f.Images[0].Clearance.Soak)
	require.Equal(t, 2, *f.Images[0].Clearance.Testers)
	require.Equal(t, "ticket-counters", f.Pools[0].Title)
	require.Equal(t, "tc-003", HostName("tc", 3))
}

func TestAllProblemsAreSaidAtOnceWithTheirLines(t *testing.T) {
	t.Parallel()
	_, err := Parse([]byte(`sites:
  - name: North Quay
    platform: cloud
    address: over there
images:
  - name: counter-desk
    machine-class: standard
    tracks: [live, pilot]
    numbering: roman
    clearance: {testers: -1, soak: long, copies: 0}
pools:
  - name: a
    site: nowhere
    image: counter-desk
    track: beta
    hosts: 0
    host-prefix: tc
    seats-per-host: 0
    machine-class: graphics
  - name: a
    site: nowhere
    image: none
    track: live
    hosts: 1
    host-prefix: tc
    seats-per-host: 1
    machine-class: standard
`))
	var p Problems
	require.ErrorAs(t, err, &p)
	lines := map[string]int{
		`site name "North Quay" cannot be a name`: 2, `platform "cloud"`: 3, `address "over there"`: 4,
		"must begin with": 8, `"roman"`: 9,
		"-1 testers": 10, `soak of "long"`: 10, "0 copies": 10, `site "nowhere"`: 13, `no track "beta"`: 15,
		"0 hosts":          16,
		"0 seats per host": 18, `class "graphics"`: 19, "pool a is there twice": 20,
		`image "none" is not in this file; it has counter-desk`: 22, "another pool's": 25,
	}
	for text, line := range lines {
		found := false
		for _, x := range p {
			if strings.Contains(x.Text, text) {
				require.Equal(t, line, x.Line, x.Text)
				found = true
				break
			}
		}
		require.True(t, found, "%q is not among:\n%s", text, err)
	}
}

func TestWhatIsNotYAMLSaysWhere(t *testing.T) {
	t.Parallel()
	for text, line := range map[string]int{
		"sites:\n  - name: a\n   platform: b\n": 3, "sites: []\ntides: high\n": 2,
		"sites:\n  - name: [a]\n": 2,
	} {
		_, err := Parse([]byte(text))
		var p Problems
		require.ErrorAs(t, err, &p, text)
		require.Len(t, p, 1)
		require.InDelta(t, line, p[0].Line, 1, "%s: %s", text, err)
	}
	_, err := Parse(nil)
	require.ErrorContains(t, err, "empty")
}
