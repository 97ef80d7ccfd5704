package estate

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/image"
	"nimblepane/core/machine"
)

func titles() *rapid.Generator[string] {
	return rapid.OneOf(
		rapid.SampledFrom([]string{
			"1.5", "017", "yes", "null", "~", "a: b", "# no comment", "- x", "{x", "'", `"`,
			"@home", "2026.11.1", "&a", "*a", "!x", "%x", "a #b", "Ida's desk", "0x10", "1e3",
		}),
		rapid.Map(rapid.String(), func(s string) string {
			s = strings.TrimSpace(strings.Map(func(r rune) rune {
				if unseen(r) {
					return -1
				}
				return r
			}, s))
			if runes := []rune(s); len(runes) > 100 {
				s = strings.TrimSpace(string(runes[:100]))
			}
			return s
		}),
	)
}

// random draws an estate that can be loaded.
func random(t *rapid.T) File {
	var f File
	name := rapid.StringMatching(`[a-z][a-z0-9]{0,8}(-[a-z0-9]{1,6})?`)
	span := rapid.Map(rapid.IntRange(0, 90*24*3600), func(s int) string { return Span(time.Duration(s) * time.Second) })
	unique := map[string]bool{}
	fresh := func(kind string) string {
		n := name.Filter(func(s string) bool { return !unique[kind+s] }).Draw(t, kind)
		unique[kind+n] = true
		return n
	}
	if rapid.Bool().Draw(t, "workshop") {
		f.Workshop = &Workshop{
			Currency: "EUR", Longest: rapid.SampledFrom([]string{"", "1m", "8h", "2160h"}).Draw(t, "longest"),
			Left:  rapid.SampledFrom([]string{"", "1h", "48h", "8760h"}).Draw(t, "left"),
			Rates: rapid.MapOf(name, rapid.SampledFrom([]machine.Rate{"0", "0.1", "12.3456"})).Draw(t, "rates"),
		}
	}
	for range rapid.IntRange(1, 3).Draw(t, "sites") {
		s := Site{
			Name: fresh("site"), Title: titles().Draw(t, "title"), Platform: Practice,
			Address: "http://127.0.0.1:7720", StartsPerMinute: rapid.IntRange(1, 500).Draw(t, "starts"),
			ClonesPerCopy: rapid.IntRange(1, 50).Draw(t, "clones"),
		}
		s.DeliveryRate = rapid.SampledFrom([]string{"", "100MiB", "1GiB"}).Draw(t, "rate")
		if rapid.Bool().Draw(t, "line") {
			f.Lines = append(f.Lines, Line{
				Name: s.Name + "-line", AtOnce: rapid.IntRange(0, 100).Draw(t, "at once"),
				Rate: "20MiB", Hours: []Hours{{
					From: "20:00", To: "6:00", Rate: "unlimited",
					TimeZone: "Europe/Lisbon",
				}},
			})
			s.Line = s.Name + "-line"
			s.DeliveryHours = []Hours{{From: "0:00", To: "23:59", Rate: "64KiB"}}
		}
		if rapid.Bool().Draw(t, "libvirt") {
			s.Platform, s.Address = Libvirt, ""
			s.MachineSettings = MachineSettings{
				Hypervisors: []Hypervisor{{
					Name: "hv-1", Address: "qemu+tls://hv-1.example.org/system",
					Storage: "nimble pane",
				}},
				ServiceAddress: rapid.SampledFrom([]string{"", "https://desks.example.org"}).Draw(t, "service"),
				MachineClasses: map[string]MachineClass{"standard": {
					Cores:  rapid.IntRange(1, 512).Draw(t, "cores"),
					Memory: "4GiB", Network: rapid.SampledFrom([]string{"", "bridge:br0"}).Draw(t, "network"),
				}},
			}
		}
		f.Sites = append(f.Sites, s)
	}
	for range rapid.IntRange(1, 3).Draw(t, "images") {
		testers, copies := rapid.IntRange(0, 100).Draw(t, "testers"), rapid.IntRange(1, 100).Draw(t, "copies")
		i := Image{
			Name: fresh("image"), Title: titles().Draw(t, "title"), MachineClass: "standard",
			Numbering: rapid.SampledFrom([]image.Scheme{"", image.Calendar, image.Semver}).Draw(t, "numbering"),
			Clearance: Clearance{Testers: &testers, Soak: span.Draw(t, "soak"), Copies: &copies},
		}
		if rapid.Bool().Draw(t, "tracks") {
			i.Tracks = []string{"pilot", "early", "live"}
		}
		f.Images = append(f.Images, i)
		site := rapid.SampledFrom(f.Sites).Draw(t, "site")
		for range rapid.IntRange(0, 2).Draw(t, "pools") {
			f.Pools = append(f.Pools, Pool{
				Name: fresh("pool"), Title: titles().Draw(t, "title"), Site: site.Name,
				Image: i.Name, Track: "live", Hosts: rapid.IntRange(1, 20).Draw(t, "hosts"),
				HostPrefix: fresh("prefix"), SeatsPerHost: rapid.IntRange(1, 500).Draw(t, "seats"),
				MachineClass: "standard",
			})
		}
	}
	return f
}

func TestAnEstateThatIsShownCanBeLoadedAndIsTheSame(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		text, err := random(t).Text()
		require.NoError(t, err)
		loaded, err := Parse(text)
		require.NoError(t, err, string(text))
		again, err := loaded.Text()
		require.NoError(t, err)
		same, err := Parse(again)
		require.NoError(t, err, string(again))
		require.Equal(t, loaded, same, string(again))
	})
}

func TestAnEstateIsWrittenAsPeopleWriteIt(t *testing.T) {
	t.Parallel()
	f, err := Parse([]byte(good))
	require.NoError(t, err)
	text, err := f.Text()
	require.NoError(t, err)
	require.Contains(t, string(text), "pools:\n  - name: ticket-counters\n    title: ticket-counters\n")
}

func TestSpansAreReadAsTheyAreWritten(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{
		30 * time.Second: "30s", 90 * time.Second: "1m30s", 0: "0s",
		24 * time.Hour: "24h", 90 * time.Minute: "1h30m", 10 * time.Minute: "10m", 20*time.Hour +
			10*time.Second: "20h0m10s",
	} {
		require.Equal(t, want, Span(d))
	}
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.IntRange(0, 1e7).Draw(t, "seconds")) * time.Second
		back, err := time.ParseDuration(Span(d))
		require.NoError(t, err)
		require.Equal(t, d, back)
	})
}

func TestWhatTheFileMayNotHold(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"hosts: 1.5":                  "1.5 is not a whole number",
		"hosts: 017":                  "017 could be taken for several numbers",
		"title: " + `"two\nlines"`:    "one line of at most 100 characters",
		"title: " + `"\u001b[31mred"`: "one line of at most 100 characters",
		"Hosts: 3":                    `line 3: there is no key "Hosts" in pools[0]: use name,`,
		"hosts: 3\n    hosts: 4":      "already defined",
	} {
		_, err := Parse(fmt.Appendf(nil, "pools:\n  - name: a\n    %s\n", line))
		require.ErrorContains(t, err, want)
	}
	_, err := Parse([]byte("images: [{name: a, machine-class: b, clearance: {soak: 500ms}}]"))
	require.ErrorContains(t, err, "in whole seconds")
}
