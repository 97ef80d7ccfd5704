package software_test

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/software"
)

func deb(name, version string) software.Entry {
	return software.Entry{Origin: software.Deb, Name: name, Version: version, Arch: "amd64"}
}

func with(e software.Entry, change func(*software.Entry)) software.Entry {
	change(&e)
	return e
}

func TestVersionsAreOrderedByTheRulesOfWhatInstalledThem(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		origin        software.Origin
		before, after string
	}{
		{software.Deb, "1.0~rc1-1", "1.0-1"},
		{software.Deb, "9.9-1", "1:0.1-1"},
		{software.Deb, "1.9-1", "1.10-1"},
		{software.Deb, "5.2.15-2+b2", "5.2.15-2+deb12u1"},
		{software.RPM, "4.0~beta-1.fc9", "4.0-1.fc9"},
		{software.RPM, "2.34-9.el9", "2.34-10.el9"},
		{software.Python, "2.0rc1", "2.0"},
		{software.Python, "1.0.dev3", "1.0a1"},
		{software.Python, "2.0", "1!1.0"},
		{software.NPM, "1.0.0-alpha.2", "1.0.0-alpha.10"},
		{software.NPM, "9.0.0", "10.0.0"},
		{software.Windows, "10.0.9.1", "10.0.22631"},
		{software.Folder, "v4.8", "5"},
		{software.Application, "6.1-1", "6.2-1"},
		{software.NPM, "v1.2.3-4", "=1.2.3-4-foo"},
		{software.NPM, "1.2.3beta", "1.2.3"},
		{software.NPM, "1.2.3-5-Foo", "1.2.3-5-foo"},
		{software.NPM, "1.2.3-a.b.c.5.d.100", "1.2.3-a.b.c.10.d.5"},
		{software.NPM, "1.99999999999999999999998.0", "1.99999999999999999999999.0"},
		{software.NPM, "1.0.0-rc99999999999999999999.1", "1.0.0-rc99999999999999999999.2"},
		{software.Python, "1.99999999999999999999998", "1.99999999999999999999999.dev1"},
		{software.Deb, "1.99999999999999999999998-1", "1.99999999999999999999999-1"},
		{software.RPM, "1.99999999999999999999998-1", "1.99999999999999999999999-1"},
		{software.Flatpak, "99999999999999999999998", "99999999999999999999999"},
	} {
		n, err := software.Compare(c.origin, c.before, c.after)
		require.NoError(t, err, "%v", c)
		require.Negative(t, n, "%v", c)
		n, err = software.Compare(c.origin, c.after, c.before)
		require.NoError(t, err, "%v", c)
		require.Positive(t, n, "%v", c)
	}
	for origin, pair := range map[software.Origin][2]string{
		software.Deb: {"1.0", "unstable"}, software.NPM: {"1.0.0", "latest"}, software.Folder: {"winter", "summer"},
		software.RPM: {"1-1", "--"}, software.Python: {"1.0", "one"}, software.Windows: {"1.0", ""},
		software.Flatpak: {"1", strings.Repeat("1.", 200)}, software.Application: {"2.0rc1", "2.0"},
	} {
		_, err := software.Compare(origin, pair[0], pair[1])
		require.Error(t, err, "%s %v", origin, pair)
	}
}

// TestPythonVersionsAreOrderedAsPEP440SaysThem has the examples of PEP 440 in their order, before and with an epoch.
func TestPythonVersionsAreOrderedAsPEP440SaysThem(t *testing.T) {
	t.Parallel()
	order := strings.Fields(`1.0.dev456 1.0a1 1.0a2.dev456 1.0a12.dev456 1.0a12 1.0b1.dev456 1.0b2 1.0b2.post345.dev456
		1.0b2.post345 1.0b2-346 1.0c1.dev456 1.0c1 1.0rc2 1.0c3 1.0 1.0.post456.dev34 1.0.post456 1.1.dev1 1.2+123abc
		1.2+123abc456 1.2+abc 1.2+abc123 1.2+abc123def 1.2+1234.abc 1.2+123456 1.2.r32+123456 1.2.rev33+123456`)
	for _, v := range order[:len(order):len(order)] {
		order = append(order, "1!"+v)
	}
	for i, a := range order {
		for j, b := range order {
			n, err := software.Compare(software.Python, a, b)
			require.NoError(t, err)
			require.Equal(t, cmp.Compare(i, j), cmp.Compare(n, 0), "%s %s", a, b)
		}
	}
	for a, b := range map[string]string{
		"1.0": "1.0.0", "1.0alpha1": "1.0a1", "1.0-alpha.1": "1.0a1", "1.0.PREVIEW2": "1.0rc2", "v1.0": "1.0",
		"1.0+ubuntu-1": "1.0+ubuntu.1", "1.0+ubuntu_1": "1.0+ubuntu.1", "1.0.post": "1.0.post0",
		"1.0-r4": "1.0.post4", "1.0.DEV": "1.0.dev0",
		"01.1": "1.1", "1.0a": "1.0a0",
	} {
		n, err := software.Compare(software.Python, a, b)
		require.NoError(t, err)
		require.Zero(t, n, "%s %s", a, b)
	}
}

// TestDebianVersionsAreOrderedAsDpkgOrdersThem asks the package manager itself.
func TestDebianVersionsAreOrderedAsDpkgOrdersThem(t *testing.T) {
	t.Parallel()
	dpkg, err := exec.LookPath("dpkg")
	if err != nil {
		t.Skip("there is no dpkg here")
	}
	piece := rapid.StringMatching(`[0-9]{1,4}|[a-z]{1,3}|[.+~]`)
	rapid.Check(t, func(t *rapid.T) {
		version := rapid.Custom(func(t *rapid.T) string {
			v := "1" + strings.Join(rapid.SliceOfN(piece, 0, 5).Draw(t, "upstream"), "")
			if rapid.Bool().Draw(t, "revised") {
				v += "-1" + strings.Join(rapid.SliceOfN(piece, 0, 3).Draw(t, "revision"), "")
			}
			if rapid.Bool().Draw(t, "epoch") {
				v = "1:" + v
			}
			return v
		})
		a, b := version.Draw(t, "a"), version.Draw(t, "b")
		n, err := software.Compare(software.Deb, a, b)
		require.NoError(t, err)
		relation := map[bool]string{true: "lt", false: "ge"}[n < 0]
		require.NoError(t, exec.CommandContext(t.Context(), dpkg, "--compare-versions", a, relation, b).Run(),
			"%s %s %s", a, relation, b)
	})
}

func TestAListIsWrittenAndReadAgain(t *testing.T) {
	t.Parallel()
	l := software.List{
		Entries: []software.Entry{
			{Origin: software.System, Name: "debian", Version: "12"},
			with(deb("fare-desk", "6.2-1"), func(e *software.Entry) {
				e.Source, e.SourceVersion, e.Licence, e.Noticed = "fares", "6.2", "Apache-2.0", true
				e.Opens, e.Summary, e.Publisher = []string{"/usr/bin/fare-desk"}, "sells tickets", "Ida Brandt"
			}),
			with(deb("libtide1", "2.9-1+deb12u1"), func(e *software.Entry) { e.Security = true }),
			{Origin: software.Python, Name: "tide_tables", Version: "1.0", Path: "/opt/tides"},
			{Origin: software.NPM, Name: "@quay/berths", Version: "1.2.3", Path: "/usr/lib/node_modules/@quay/berths"},
			{Origin: software.Folder, Name: "berth planner", Version: "5", Path: "/opt/berth planner"},
			deb("evil\x1b[31m<script>", "1"),
		},
		Facts: software.Facts{Kernel: "6.1.0-13-amd64", Ports: []software.Port{{
			Protocol: "tcp", Address: "::",
			Port: 22,
		}}},
	}
	l.Applications([]software.App{
		{Name: "Fare Desk", Command: "/usr/bin/fare-desk"}, {Name: "Crew Roster", Command: "/usr/bin/crew-roster"},
	})
	require.Equal(t, "6.2-1", l.Entries[1].Version)
	require.Empty(t, l.Entries[0].Version, "nothing was seen to have its command")
	s := software.Subject{
		Image: "counter-desk", Number: "2026.11.1", Digest: "sha256:" + strings.Repeat("a", 64),
		Taken: time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC), Tool: "pane-agent", Version: "1.0",
	}
	document, err := l.Document(s)
	require.NoError(t, err)
	again, err := l.Document(s)
	require.NoError(t, err)
	require.Equal(t, string(document), string(again))
	unpacked, err := software.Unpack(software.Pack(document))
	require.NoError(t, err)
	read, about, err := software.Read(unpacked)
	require.NoError(t, err)
	require.Equal(t, l.Entries, read.Entries)
	require.Equal(t, l.Facts, read.Facts)
	s.Digest = ""
	require.Equal(t, s, about)

	var raw struct {
		Format     string `json:"bomFormat"`
		Version    string `json:"specVersion"`
		Components []struct {
			Name, PURL, Type string
		}
	}
	require.NoError(t, json.Unmarshal(document, &raw))
	require.Equal(t, "CycloneDX 1.6", raw.Format+" "+raw.Version)
	urls := map[string]string{}
	for _, c := range raw.Components {
		urls[c.Name] = c.PURL
	}
	require.Equal(t, "pkg:deb/debian/fare-desk@6.2-1?arch=amd64&distro=debian-12&upstream=fares%406.2",
		urls["fare-desk"])
	require.Equal(t, "pkg:pypi/tide-tables@1.0", urls["tide_tables"])
	require.Equal(t, "pkg:npm/%40quay/berths@1.2.3", urls["@quay/berths"])
	require.Equal(t, "pkg:generic/berth%20planner@5", urls["berth planner"])
}

func TestADocumentHasPackageURLsAndLicencesAsTheStandardsWriteThem(t *testing.T) {
	t.Parallel()
	l := software.List{Entries: []software.Entry{
		{Origin: software.System, Name: "rocky", Version: "9"},
		{Origin: software.RPM, Name: "tide-rpm", Version: "1:2.3-4.el9", Arch: "x86_64", Licence: "apache-2.0"},
		{Origin: software.RPM, Name: "fare-rpm", Version: "2.3-4.el9", Licence: "MIT OR Apache-2.0"},
		{Origin: software.RPM, Name: "berth-rpm", Version: "2.3-4.el9", Licence: "Harbour's own"},
	}}
	document, err := l.Document(software.Subject{Image: "desk", Number: "1"})
	require.NoError(t, err)
	text := strings.NewReplacer(`\u0026`, "&", ` "`, `"`, "\n", "", "  ", "", "{ ", "{").Replace(string(document))
	for _, want := range []string{
		`pkg:rpm/rocky/tide-rpm@2.3-4.el9?arch=x86_64&distro=rocky-9&epoch=1`, `{"license":{"id":"Apache-2.0"}}`,
		`{"expression":"MIT OR Apache-2.0"}`, `{"license":{"name":"Harbour's own"}}`,
	} {
		require.Contains(t, text, want)
	}
	again, _, err := software.Read(document)
	require.NoError(t, err)
	require.Contains(t, again.Entries, software.Entry{
		Origin: software.RPM, Name: "tide-rpm", Version: "1:2.3-4.el9", Arch: "x86_64", Licence: "Apache-2.0",
	})
	elsewhere := strings.ReplaceAll(string(document), "1:2.3-4.el9", "2.3-4.el9")
	again, _, err = software.Read([]byte(elsewhere))
	require.NoError(t, err)
	require.Contains(t, again.Entries, software.Entry{
		Origin: software.RPM, Name: "tide-rpm", Version: "1:2.3-4.el9", Arch: "x86_64", Licence: "Apache-2.0",
	}, "an epoch that only the package URL has")
}

func TestWhatIsNoListIsRefusedWithAReason(t *testing.T) {
	t.Parallel()
	component := func(text string) string {
		return `{"bomFormat": "CycloneDX", "specVersion": "1.5", "components": [` + text + `]}`
	}
	for text, why := range map[string]string{
		"":                              "it is no JSON",
		"<bom/>":                        "it is no JSON",
		`{"spdxVersion": "SPDX-2.3"}`:   "it is no CycloneDX: bomFormat is \"\"",
		`{"bomFormat": "CycloneDX"}`:    `it is CycloneDX "": write one of 1.2, 1.3`,
		component(``):                   "it lists no components",
		component(`{"version": "1"}`):   "component 1: it has no name",
		component(`{"name": 5}`):        "it is no CycloneDX 1.5",
		component(`{"name": "\u0000"}`): "",
		component(fmt.Sprintf(`{"name": %q}`, strings.Repeat("n", 3000))): "is longer than 2000 bytes",
	} {
		l, _, err := software.Read([]byte(text))
		if why == "" {
			require.NoError(t, err)
			require.Equal(t, "\uFFFD", l.Entries[0].Name)
			continue
		}
		require.ErrorContains(t, err, why, "%.100s", text)
	}
	_, err := software.Unpack(software.Pack(make([]byte, 100<<20)))
	require.ErrorContains(t, err, "it has more than 67108864 bytes")
	_, err = software.Unpack([]byte("plain"))
	require.ErrorContains(t, err, "not packed by gzip")
}

func TestADifferenceIsInTheOrderInWhichItMatters(t *testing.T) {
	t.Parallel()
	noticed := func(e *software.Entry) { e.Noticed = true }
	security := func(e *software.Entry) { e.Security = true }
	of := func(source string) func(*software.Entry) { return func(e *software.Entry) { e.Source = source } }
	app := func(version string) software.Entry {
		return software.Entry{Origin: software.Application, Name: "Fare Desk", Version: version}
	}
	a := software.List{Entries: []software.Entry{
		app("6.1-1"), deb("bash", "5.2-1"), with(deb("viewer", "2-1"), noticed), deb("libtide1", "2.8-1"),
		with(deb("quayd", "1-1"), of("quay")), with(deb("libquay1", "1-1"), of("quay")), deb("gone", "1"),
		deb("linux-image-6.1.0-13-amd64", "6.1.55-1"), deb("printer", "winter"), deb("fonts", "3-1"),
	}}
	b := software.List{Entries: []software.Entry{
		app("6.2-1"), deb("bash", "5.2-1"), with(deb("viewer", "1-1"), noticed),
		with(deb("libtide1", "2.8-1+deb12u1"), security),
		with(deb("quayd", "1-2"), of("quay")), with(deb("libquay1", "1-2"), of("quay")), deb("new", "1"),
		deb("linux-image-6.1.0-18-amd64", "6.1.76-1"), deb("printer", "summer"),
		with(deb("fonts", "4-1"), noticed),
	}}
	d := software.Diff(a, b)
	require.Equal(t, 1, d.Same)
	var lines []string
	for _, c := range d.Changes {
		lines = append(lines, fmt.Sprintf("%s %s %s %s>%s %s%v", c.Group, c.What, c.Name, c.Before, c.After, c.Was,
			c.Packages))
	}
	require.Equal(t, []string{
		"applications updated Fare Desk 6.1-1>6.2-1 []",
		"noticed downgraded viewer 2-1>1-1 []",
		"noticed updated fonts 3-1>4-1 []",
		"security updated libtide1 2.8-1>2.8-1+deb12u1 []",
		"rest removed gone 1> []",
		"rest changed printer winter>summer []",
		"rest updated linux-image-6.1.0-18-amd64 6.1.55-1>6.1.76-1 linux-image-6.1.0-13-amd64[]",
		"rest updated quay 1-1>1-2 [libquay1 quayd]",
		"rest added new >1 []",
	}, lines)
	require.Equal(t, 6, d.Count(software.Updated))
	require.Contains(t, d.Changes[5].Why, `version "winter" follows none of Debian's rules`)
}

func TestAnApplicationIsToldOnceAndFoundInWhatNoSheetListed(t *testing.T) {
	t.Parallel()
	desk := func(version string) software.Entry {
		return with(deb("fare-desk", version), func(e *software.Entry) {
			e.Noticed, e.Opens = true, []string{"/usr/bin/fare-desk"}
		})
	}
	byHand := software.List{Entries: []software.Entry{desk("6.1-1")}}
	bySheet := software.List{Entries: []software.Entry{desk("6.2-1")}}
	bySheet.Applications([]software.App{{Name: "Fare Desk", Command: "/usr/bin/fare-desk"}})
	for _, d := range []software.Difference{software.Diff(byHand, bySheet), software.Diff(bySheet, byHand)} {
		require.Len(t, d.Changes, 1)
		require.Equal(t, software.Applications, d.Changes[0].Group)
		require.Equal(t, "Fare Desk", d.Changes[0].Name)
	}
	require.Equal(t, software.Updated, software.Diff(byHand, bySheet).Changes[0].What)
	without := software.List{Entries: []software.Entry{deb("bash", "1")}}
	require.Equal(t, software.Added, software.Diff(without, bySheet).Changes[0].What)
}

// TestADifferenceLosesNothing checks over random lists that what is in them is
// in the difference, or the same, and that nothing differs from itself.
func TestADifferenceLosesNothing(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		list := rapid.Custom(func(t *rapid.T) (l software.List) {
			for range rapid.IntRange(0, 12).Draw(t, "entries") {
				l.Entries = append(l.Entries, with(deb(
					rapid.SampledFrom([]string{"bash", "kernel-6.1", "kernel-6.2", "lib1", "lib2"}).Draw(t, "name"),
					rapid.SampledFrom([]string{"1", "2", "2~rc", "odd version", ""}).Draw(t, "version"),
				), func(e *software.Entry) { e.Source = rapid.SampledFrom([]string{"", "base"}).Draw(t, "source") }))
			}
			return l
		})
		a, b := list.Draw(t, "a"), list.Draw(t, "b")
		d := software.Diff(a, b)
		was, is := d.Same, d.Same
		sides := 0
		for _, c := range d.Changes {
			n := c.Size()
			sides += n
			if c.What != software.Added {
				was += n
			}
			if c.What != software.Removed {
				is += n
			}
		}
		require.LessOrEqual(t, was, len(a.Entries))
		require.LessOrEqual(t, is, len(b.Entries))
		require.Empty(t, software.Diff(a, a).Changes)
		back := software.Diff(b, a)
		require.Equal(t, d.Count(software.Added), back.Count(software.Removed))
		require.Equal(t, d.Count(software.Updated), back.Count(software.Downgraded))
	})
}
