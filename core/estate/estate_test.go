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

// TestAllProblemsOfAFileAreToldAtOnce has keys that are not known, values of another kind, and values that are wrong.
func TestAllProblemsOfAFileAreToldAtOnce(t *testing.T) {
	t.Parallel()
	_, err := Parse([]byte(`sites:
- {name: north quay, platform: practice, address: "http://127.0.0.1:1", starts-per-minute: many}
- {name: south-quay, platform: practice, address: "http://127.0.0.1:2", starts: 3}
images:
- {name: desk, machine-class: standard, clearance: {testers: -1, soak: soon, tester: 2}}
pools:
- {name: a, site: nowhere, image: desk, track: life, hosts: x, host-prefix: a, seats-per-host: 4, machine-class: standard}
- nothing
tides: high
`))
	require.EqualError(t, err, `line 2: sites[0].starts-per-minute has to be a whole number, and is the text "many"
line 2: site name "north quay" cannot be a name: use lower-case letters, digits and single dashes, beginning with a letter, at most 40
line 3: there is no key "starts" in sites[1]: use name, title, platform, address, starts-per-minute, clones-per-copy, line, delivery-rate, delivery-hours, read-rate, hypervisors, service-address, accelerator or machine-classes
line 5: there is no key "tester" in images[0].clearance: use testers, soak, copies, keep-applications, no-downgrades, no-serious-flaws or independent
line 5: image desk: -1 testers: use 0 to 100
line 5: image desk: soak of "soon": write a time in whole seconds, such as 24h, 90m or 30s, at least 0s and at most 2160h
line 7: pools[0].hosts has to be a whole number, and is the text "x"
line 7: pool a: site "nowhere" is not in this file; it has north quay, south-quay
line 7: pool a: image desk has no track "life"; it has pilot, live
line 8: pools[1] has to be keys with values, and is the text "nothing"
line 9: there is no key "tides": use lines, sites, images, pools or workshop`)
}

func TestWhatIsNotYAMLSaysWhere(t *testing.T) {
	t.Parallel()
	for text, line := range map[string]int{
		"sites:\n  - name: a\n   platform: b\n": 3, "sites: []\ntides: high\n": 2,
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
