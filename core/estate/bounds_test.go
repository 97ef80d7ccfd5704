package estate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// each puts values between what stands before and after them.
func each(before, after string, values ...string) []string {
	for i := range values {
		values[i] = before + values[i] + after
	}
	return values
}

// TestBoundsAreWhereTheMessagesSay puts something else in the place of a part
// of a file that is right: the last that fits, and the first that does not.
func TestBoundsAreWhereTheMessagesSay(t *testing.T) {
	t.Parallel()
	const (
		class   = "machine-class: standard\npools:"
		address = `address: "http://127.0.0.1:7720"`
		classes = "    machine-classes:"
	)
	forty, hundred := strings.Repeat("a", 40), strings.Repeat("ö", 100)
	for _, c := range []struct {
		file, part string
		fit, not   []string
		complaint  string
	}{
		{
			good, "hosts: 3", each("hosts: ", "", "1", "100000"), each("hosts: ", "", "0", "-1", "100001"),
			"use 1 to 100000",
		},
		{
			good, "host: 6", each("host: ", "", "1", "500"), each("host: ", "", "0", "501"),
			"seats per host: use 1 to 500",
		},
		{
			good, "name: ticket-counters", each("name: ", "", "a", forty), each("name: ", "", "A", forty+"a"),
			"cannot be a name",
		},
		{good, "prefix: tc", each("prefix: ", "", "t"), each("prefix: ", "", "T", `"1"`), "host prefix"},
		{
			good, "track: live", each("track: live\n    title: ", "", "x", hundred),
			each("track: live\n    title: ", "", hundred+"x", `" x"`, `"x "`, `"x\u202ey"`, `"x\ufffd"`, `"x\u2028y"`),
			"one line of at most 100 characters",
		},
		{good, "name: north-quay", nil, each("name: ", "", "A", forty+"a"), `: site name "`},
		{good, "name: counter-desk", nil, each("name: ", "", "A", forty+"a"), `: image name "`},
		{
			good, address, each(address+", title: ", "", "x", hundred), each(address+", title: ", "", hundred+"x", `" x"`),
			"site north-quay: its title",
		},
		{
			good, class, each("title: ", "\n    "+class, "x", hundred), each("title: ", "\n    "+class, hundred+"x", `" x"`),
			"image counter-desk: its title",
		},
		{good, class, nil, []string{"machine-class: A\npools:"}, "image counter-desk: machine class"},
		{
			good, class, each("clearance: {testers: ", "}\n    "+class, "0", "100"),
			each("clearance: {testers: ", "}\n    "+class, "-1", "101"), "testers: use 0 to 100",
		},
		{
			good, class, each("clearance: {copies: ", "}\n    "+class, "1", "100"),
			each("clearance: {copies: ", "}\n    "+class, "0", "101"), "copies: use 1 to 100",
		},
		{
			good, class, each("copies: ", "\n    "+class, "1", "100"), each("copies: ", "\n    "+class, "-1", "101"),
			"copies: use 1 to 100",
		},
		{
			good, class, each("copies-at: {north-quay: ", "}\n    "+class, "1", "100"),
			each("copies-at: {north-quay: ", "}\n    "+class, "0", "101"), "copies-at north-quay: ",
		},
		{good, class, nil, []string{"copies-at: {west-quay: 1}\n    " + class}, `site "west-quay" is not in this file`},
		{
			good, class,
			[]string{"clearance: {copies: 3}\n    copies: 3\n    " + class},
			[]string{"clearance: {copies: 3}\n    copies: 2\n    " + class},
			"copies: 2: clearance asks for 3 at each site",
		},
		{
			good, class, each("retention: {", "}\n    "+class, "", "keep: 1", "keep: 1000, days: 3650, tagged: [a, b]"),
			each("retention: {", "}\n    "+class, "days: 3", "keep: -1", "keep: 1001", "keep: 1, days: 3651",
				`keep: 1, tagged: ["a,b"]`), "image counter-desk: retention: ",
		},
		{
			good, class, each("clearance: {soak: ", "}\n    "+class, "0s", "1s", "2160h"),
			each("clearance: {soak: ", "}\n    "+class, "-1s", "2160h1s", "1500ms", "long"),
			"write a time in whole seconds",
		},
		{
			good, address, each(address+", starts-per-minute: ", "", "1", "100000"),
			each(address+", starts-per-minute: ", "", "-1", "100001"), "starts per minute: use 1 to 100000",
		},
		{
			good, address, each(address+", clones-per-copy: ", "", "1", "10000"),
			each(address+", clones-per-copy: ", "", "-1", "10001"), "clones per copy: use 1 to 10000",
		},
		{
			good, address, each("address: ", "", `"https://practice.example.org"`),
			each("address: ", "", `"ftp://127.0.0.1"`, `"http://"`, `"127.0.0.1:7720"`, `"http://[::1"`, `""`),
			"write where its practice process listens",
		},
		{good, "m: practice", nil, each("m: ", "", "cloud", `""`), "use practice or libvirt"},
		{metal, "cores: 2", each("cores: ", "", "1", "512"), each("cores: ", "", "0", "513"), "cores: use 1 to 512"},
		{
			metal, "memory: 4GiB", each("memory: ", "", "64MiB", "1EiB"), each("memory: ", "", "63MiB"),
			"use 64MiB or more",
		},
		{metal, "memory: 4GiB", nil, each("memory: ", "", "2EiB", "0GiB", "lots"), "is no size"},
		{
			metal, `network: "bridge:br0"`, each("network: ", "", "user", `"network:desks"`),
			each("network: ", "", `"bridge:"`, "bridge", `"user:x"`, "br0"), "use user, network:NAME or bridge:NAME",
		},
		{metal, "firmware: uefi", each("firmware: ", "", "bios"), each("firmware: ", "", "rom"), "use bios or uefi"},
		{metal, "display: spice", each("display: ", "", "vnc", "none"), each("display: ", "", "tv"), "use none or vnc"},
		{
			metal, `"qemu:///system"`, each("", "", `"qemu:///session"`, `"qemu+tls://hv/system"`,
				`"qemu+unix:///system"`),
			each("", "", `"qemu:///"`, `"qemu+tcp://hv/system"`, `"qemu:///system/x"`, `"%"`), "write a libvirt URI",
		},
		{
			metal, "storage: nimblepane", each("storage: ", "", "panes"),
			each("storage: ", "", "/var/lib", `""`, `"a\nb"`),
			"write the name of its storage pool",
		},
		{
			metal, classes, each("    accelerator: ", "\n"+classes, "probe", "kvm", "tcg"),
			each("    accelerator: ", "\n"+classes, "steam"), "use probe or kvm or tcg",
		},
		{
			metal, classes, each("    service-address: ", "\n"+classes, `"http://a"`, `"https://a:1"`),
			each("    service-address: ", "\n"+classes, `"ftp://a"`, `"http://"`, "a", `"%"`),
			"write where its machines find the service",
		},
		{
			metal, classes, each("    delivery-rate: ", "\n"+classes, "1MiB", "100MB"),
			each("    delivery-rate: ", "\n"+classes, "fast", `"0"`), "it is per second",
		},
		{metal, "graphics: {", each("", ": {", "g"), each("", ": {", "Graphics", "g_1"), "machine class"},
		{metal, "room: 20GiB", each("room: ", "", "1MiB"), each("room: ", "", "none"), "room:"},
	} {
		require.Contains(t, c.file, c.part)
		for _, with := range c.fit {
			_, err := Parse([]byte(strings.Replace(c.file, c.part, with, 1)))
			require.NoError(t, err, with)
		}
		for _, with := range c.not {
			_, err := Parse([]byte(strings.Replace(c.file, c.part, with, 1)))
			require.ErrorContains(t, err, c.complaint, with)
		}
	}
}

func TestAProblemSaysItsLineIfItHasOne(t *testing.T) {
	t.Parallel()
	require.EqualError(t, Problems{{0, "it is empty"}, {1, "no"}, {3, "neither"}},
		"it is empty\nline 1: no\nline 3: neither")
}

func TestAFileWithNothingInItIsEmpty(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"", "\n", "# sites and pools\n", "---\n", "---\n# later\n"} {
		_, err := Parse([]byte(text))
		require.EqualError(t, err, "line 1: the file is empty", "%q", text)
	}
}

func TestWhatIsLeftOutIsSaidWhereItShouldBe(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"sites:\n\n  - {}\n": "line 3: site name",
		"sites:\n  - {\n      platform: practice, address: \"http://a\"}\n":          "line 2: site name",
		"sites:\n  -\n    title: North Quay\n":                                       "line 3: site name",
		"pools: [{}]":                                                                "line 1: pool name",
		"images:\n  - name: desk\n    machine-class: standard\n    tracks: [live]\n": "line 4: image desk",
		"pools:\n  - name: a\n    site: b\n    image: c\n":                           "line 2: pool a: 0 hosts",
		"- 1": "line 1: ",
	} {
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
}
