package flaw_test

import (
	"archive/zip"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/flaw"
	"nimblepane/core/software"
	"nimblepane/internal/fuzzlimit"
)

const record = `{
  "schema_version": "1.7.0", "id": "QUAY-2026-1", "aliases": ["CVE-2026-1001", "QUAY-2026-1"],
  "modified": "2026-11-20T08:00:00Z", "published": "2026-11-19T08:00:00+01:00",
  "summary": "Tickets are printed twice\nand more",
  "severity": [{"type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}],
  "references": [{"type": "WEB", "url": "https://quay.example/1"}, {"type": "WEB", "url": "javascript:alert(1)"}],
  "affected": [{
    "package": {"ecosystem": "Debian:12", "name": "libtide"},
    "ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "0"}, {"fixed": "2.9-1"}]}, {"type": "GIT", "repo": "x", "events": [{"introduced": "0"}]}],
    "versions": ["3.0-1"]
  }]
}`

func parsed(t *testing.T, text string) flaw.Record {
	t.Helper()
	r, err := flaw.Parse([]byte(text))
	require.NoError(t, err)
	return r
}

func TestARecordIsReadAsItIsMeant(t *testing.T) {
	t.Parallel()
	r := parsed(t, record)
	require.Equal(t, "QUAY-2026-1", r.ID)
	require.Equal(t, []string{"CVE-2026-1001"}, r.Aliases)
	require.Equal(t, "Tickets are printed twice", r.Summary)
	require.Equal(t, flaw.Critical, r.Severity)
	require.InDelta(t, 9.8, r.Score, 0.001)
	require.Equal(t, []string{"https://quay.example/1"}, r.Links)
	require.Equal(t, "2026-11-19 07:00", r.Published.Format("2006-01-02 15:04"))
	require.Len(t, r.Affected, 1)
	require.Len(t, r.Affected[0].Ranges, 1, "commits are nobody's version")

	vector := "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"
	for score, want := range map[string]flaw.Severity{
		`{"type": "CVSS_V4", "score": "CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N"}`: flaw.Critical,
		`{"type": "CVSS_V3", "score": "CVSS:3.0/AV:L/AC:H/PR:H/UI:R/S:U/C:L/I:N/A:N"}`:                    flaw.Low,
		`{"type": "CVSS_V2", "score": "AV:N/AC:M/Au:N/C:P/I:P/A:P"}`:                                      flaw.Medium,
		`{"type": "CVSS_V3", "score": "CVSS:3.1/nonsense"}`:                                               flaw.Unknown,
		`{"type": "Ubuntu", "score": "high"}`:                                                             flaw.High,
		`{"type": "Ubuntu", "score": "untriaged"}`:                                                        flaw.Unknown,
	} {
		require.Equal(t, want, parsed(t, strings.Replace(record, `{"type": "CVSS_V3", "score": "`+vector+`"}`, score, 1)).Severity,
			score)
	}
	byWord := strings.Replace(record, `"severity": [{"type": "CVSS_V3", "score": "`+vector+`"}],`,
		`"database_specific": {"severity": "MODERATE"},`, 1)
	require.Equal(t, flaw.Medium, parsed(t, byWord).Severity)
	require.True(t, flaw.High.Serious() && flaw.Critical.Serious() && !flaw.Medium.Serious() && !flaw.Unknown.Serious())
}

func TestWhatIsWrongWithARecordIsSaid(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ replace, with, want string }{
		{record, "hello", "it is no record of OSV"},
		{record, strings.Repeat("x", flaw.MostOfRecord+1), "a record has at most"},
		{`"id": "QUAY-2026-1"`, `"id": ""`, "id is missing"},
		{`"id": "QUAY-2026-1"`, `"id": "a\u001b[31m"`, "it has to be one word"},
		{
			`"modified": "2026-11-20T08:00:00Z"`, `"modified": "20.11.2026"`,
			`QUAY-2026-1: modified "20.11.2026" is no date: write one such as 2026-11-28T09:00:00Z`,
		},
		{`"modified": "2026-11-20T08:00:00Z"`, `"modified": "2026-02-30T08:00:00Z"`, "is no date"},
		{`"published": "2026-11-19T08:00:00+01:00"`, `"published": "9026-11-19T08:00:00Z"`, "is no date"},
		{`"published"`, `"withdrawn": "never", "published"`, `withdrawn "never" is no date`},
		{`"name": "libtide"`, `"name": ""`, `QUAY-2026-1: affected[0]: package has ecosystem "Debian:12" and name ""`},
		{`"ECOSYSTEM"`, `"MOON"`, `affected[0].ranges[0]: type "MOON" is not known`},
		{
			`{"introduced": "0"}, {"fixed"`, `{"introduced": "0", "fixed": "1"}, {"fixed"`,
			"affected[0].ranges[0].events[0]: an event has one of",
		},
		{`{"introduced": "0"}, {"fixed"`, `{}, {"fixed"`, "an event has one of"},
		{`"affected": [{`, `"affected": [` + strings.Repeat(`{},`, 10_000) + `{`, "at most 10000 are read"},
	} {
		require.Contains(t, record, c.replace)
		_, err := flaw.Parse([]byte(strings.Replace(record, c.replace, c.with, 1)))
		require.ErrorContains(t, err, c.want)
	}
}

// listOf is what is in a version: Debian 12 with the entries.
func listOf(entries ...software.Entry) software.List {
	return software.List{Entries: append([]software.Entry{{Origin: software.System, Name: "debian", Version: "12"}},
		entries...)}
}

func deb(name, version, source string) software.Entry {
	return software.Entry{Origin: software.Deb, Name: name, Version: version, Source: source}
}

func TestAFlawIsFoundByWhatASourceIsCalled(t *testing.T) {
	t.Parallel()
	r := parsed(t, record)
	found := flaw.Find(listOf(deb("libtide1", "2.8-4", "libtide"), deb("tide-bin", "2.8-4", "libtide"), deb("other",
		"1", "")),
		[]flaw.Record{r})
	require.Len(t, found, 1)
	f := found[0]
	require.Equal(t, "CVE-2026-1001", f.ID)
	require.Equal(t, []string{"QUAY-2026-1"}, f.Records)
	require.Equal(t, []string{"libtide1 2.8-4", "tide-bin 2.8-4"}, f.Software)
	require.Equal(t, []string{"libtide", "2.8-4", "2.9-1", ""}, []string{f.Package, f.Version, f.Fixed, f.Perhaps})

	none := func(l software.List, of ...flaw.Record) {
		t.Helper()
		require.Empty(t, flaw.Find(l, append(of, r)))
	}
	none(listOf(deb("libtide1", "2.9-1", "libtide")))
	none(listOf(deb("libtide1", "2.8-4", "otherlib")))
	trixie := listOf(deb("libtide1", "2.8-4", "libtide"))
	trixie.Entries[0].Version = "13"
	none(trixie)
	none(listOf(software.Entry{Origin: software.Python, Name: "libtide", Version: "2.8"}))
	found = flaw.Find(listOf(deb("libtide1", "3.0-1", "libtide")), []flaw.Record{r})
	require.Len(t, found, 1, "a version by itself")
	require.Empty(t, found[0].Fixed)
	withdrawn := r
	withdrawn.Withdrawn = &r.Modified
	require.Empty(t, flaw.Find(listOf(deb("libtide1", "2.8-4", "libtide")), []flaw.Record{withdrawn}))

	// What cannot be ordered is perhaps there.
	found = flaw.Find(listOf(deb("libtide1", "two ebbs", "libtide")), []flaw.Record{r})
	require.Len(t, found, 1)
	require.Contains(t, found[0].Perhaps, "two ebbs")
}

func TestEcosystemsAreThoseOfWhatInstalledIt(t *testing.T) {
	t.Parallel()
	of := func(ecosystem, name string) []flaw.Record {
		r := parsed(t, record)
		r.Affected[0].Ecosystem, r.Affected[0].Name = ecosystem, name
		return []flaw.Record{r}
	}
	python := listOf(software.Entry{Origin: software.Python, Name: "Tide.Tables", Version: "2.8"})
	require.Len(t, flaw.Find(python, of("PyPI", "tide-tables")), 1)
	require.Empty(t, flaw.Find(python, of("Debian:12", "tide-tables")))
	npm := listOf(software.Entry{Origin: software.NPM, Name: "@quay/berth", Version: "2.8.0"})
	require.Len(t, flaw.Find(npm, of("npm", "@quay/berth")), 1)
	debian := listOf(deb("libtide1", "2.8-4", "libtide"))
	for ecosystem, want := range map[string]int{
		"Debian": 1, "Debian:12": 1, "debian:12": 1, "Debian:11": 0, "Debian:1": 0, "Ubuntu:12": 0, "Alpine:v3.20": 0,
	} {
		require.Len(t, flaw.Find(debian, of(ecosystem, "libtide")), want, ecosystem)
	}
	rocky := listOf(software.Entry{Origin: software.RPM, Name: "tide", Version: "2.8-1.el9", Source: "libtide"})
	rocky.Entries[0].Name, rocky.Entries[0].Version = "Rocky Linux", "9.4"
	require.Len(t, flaw.Find(rocky, of("Rocky Linux:9", "libtide")), 1)
	require.Empty(t, flaw.Find(rocky, of("Rocky Linux:8", "libtide")))
	require.Empty(t, flaw.Find(software.List{Entries: rocky.Entries[1:]}, of("Rocky Linux:9", "libtide")), "of no "+
		"known system")
	require.Equal(t, []string{"@quay/berth", "libtide", "tide-tables"}, flaw.Names(software.List{Entries: slices.Concat(
		python.Entries, npm.Entries, debian.Entries, debian.Entries)}))
}

// TestRecordsThatNameEachOtherAreOneFlaw has them do so in a circle.
func TestRecordsThatNameEachOtherAreOneFlaw(t *testing.T) {
	t.Parallel()
	a, b, c := parsed(t, record), parsed(t, record), parsed(t, record)
	a.ID, a.Aliases, a.Severity, a.Score = "A-1", []string{"B-1"}, flaw.Low, 2
	b.ID, b.Aliases = "B-1", []string{"C-1"}
	c.ID, c.Aliases = "C-1", []string{"A-1"}
	found := flaw.Find(listOf(deb("libtide1", "2.8-4", "libtide")), []flaw.Record{a, b, c})
	require.Len(t, found, 1)
	require.Equal(t, "A-1", found[0].ID)
	require.Equal(t, []string{"B-1", "C-1"}, found[0].Records)
	require.Equal(t, flaw.Critical, found[0].Severity, "the worst that is said of it")

	old := found
	c.Aliases = nil
	d := parsed(t, record)
	d.ID, d.Aliases = "D-1", nil
	now := flaw.Find(listOf(deb("libtide1", "2.8-4", "libtide")), []flaw.Record{c, d})
	diff := flaw.Diff(old, now)
	require.Empty(t, diff.Mends, "the same by another name")
	require.Len(t, diff.Brings, 1)
	require.Equal(t, "D-1", diff.Brings[0].ID)
	require.Len(t, flaw.Diff(now, nil).Mends, 2)
	require.Len(t, flaw.Serious(now), 2)
	now[0].Severity = flaw.Medium
	require.Len(t, flaw.Serious(now), 1)
}

// TestARangeIsReadAsTheFormatSays compares with the format's own rule: events in order, the last one at or before
// the version counts.
func TestARangeIsReadAsTheFormatSays(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		numbers := rapid.SliceOfNDistinct(rapid.IntRange(1, 30), 0, 6, rapid.ID).Draw(t, "events")
		events := []flaw.Event{{Introduced: "0"}}
		type at struct {
			n     int
			event flaw.Event
		}
		sorted := []at{{0, events[0]}}
		for _, n := range numbers {
			e := flaw.Event{}
			switch text := strconv.Itoa(n); rapid.IntRange(0, 2).Draw(t, "kind") {
			case 0:
				e.Introduced = text
			case 1:
				e.Fixed = text
			case 2:
				e.LastAffected = text
			}
			events, sorted = append(events, e), append(sorted, at{n, e})
		}
		slices.SortFunc(sorted, func(a, b at) int { return cmp.Compare(a.n, b.n) })
		version := rapid.IntRange(0, 31).Draw(t, "version")
		want := false
		for _, s := range sorted {
			switch {
			case s.event.Introduced != "" && version >= s.n:
				want = true
			case s.event.Fixed != "" && version >= s.n, s.event.LastAffected != "" && version > s.n:
				want = false
			}
		}
		r := flaw.Record{ID: "A", Affected: []flaw.Affected{{
			Ecosystem: "Debian", Name: "x", Ranges: []flaw.Range{{Events: rapid.Permutation(events).Draw(t, "order")}},
		}}}
		found := flaw.Find(listOf(deb("x", strconv.Itoa(version), "")), []flaw.Record{r})
		require.Equal(t, want, len(found) == 1)
		if want {
			fixed := ""
			for _, s := range sorted {
				if s.event.Fixed != "" && s.n > version && fixed == "" {
					fixed = s.event.Fixed
				}
			}
			require.Equal(t, fixed, found[0].Fixed)
		}
	})
	limited := flaw.Record{ID: "A", Affected: []flaw.Affected{{
		Ecosystem: "Debian", Name: "x", Ranges: []flaw.Range{{Events: []flaw.Event{{Introduced: "0"}, {Limit: "5"}}}},
	}}}
	require.Len(t, flaw.Find(listOf(deb("x", "4", "")), []flaw.Record{limited}), 1)
	require.Empty(t, flaw.Find(listOf(deb("x", "5", "")), []flaw.Record{limited}))
	events := &limited.Affected[0].Ranges[0].Events
	*events = append(*events, flaw.Event{Limit: "7"}) // one of them is enough
	require.Len(t, flaw.Find(listOf(deb("x", "6", "")), []flaw.Record{limited}), 1)
	require.Empty(t, flaw.Find(listOf(deb("x", "7", "")), []flaw.Record{limited}))
	*events = append(*events, flaw.Event{Limit: "*"})
	require.Len(t, flaw.Find(listOf(deb("x", "7", "")), []flaw.Record{limited}), 1)
}

func TestAnAdvisoryAboutSeveralFlawsDoesNotMakeThemOne(t *testing.T) {
	t.Parallel()
	text := func(id, field string, ids ...string) flaw.Record {
		t.Helper()
		named := `"` + field + `": ["` + strings.Join(ids, `", "`) + `"], `
		r := parsed(t, strings.Replace(record, `"aliases": ["CVE-2026-1001", "QUAY-2026-1"],`, named, 1))
		r.ID = id
		return r
	}
	list := listOf(deb("libtide1", "2.8-4", "libtide"))
	for _, field := range []string{"aliases", "upstream"} {
		advisory := text("QUAY-2026-31", field, "CVE-2026-1", "CVE-2026-2")
		one := text("QUAY-CVE-2026-1", field, "CVE-2026-1")
		found := flaw.Find(list, []flaw.Record{advisory, one})
		require.Len(t, found, 2, field)
		require.Equal(t, []string{"CVE-2026-1", "CVE-2026-2"}, []string{found[0].ID, found[1].ID})
		require.Equal(t, []string{"QUAY-CVE-2026-1"}, found[0].Records)
		require.Equal(t, []string{"QUAY-2026-31"}, found[1].Advisories)
		mended := flaw.Diff(found, found[:1])
		require.Len(t, mended.Mends, 1)
		require.Equal(t, "CVE-2026-2", mended.Mends[0].ID, "the advisory is about another one as well")
	}
	// Names that lead from one CVE to another do not either.
	a, b := text("A-1", "aliases", "CVE-2026-1", "B-1"), text("B-1", "aliases", "CVE-2026-2")
	require.Len(t, flaw.Find(list, []flaw.Record{a, b}), 2)
}

func archive(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for name, text := range files {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}

func TestAListIsReadFromArchivesAndFiles(t *testing.T) {
	t.Parallel()
	other := strings.Replace(record, `"id": "QUAY-2026-1"`, `"id": "QUAY-2026-2"`, 1)
	for _, list := range [][]byte{
		archive(t, map[string]string{"a/1.json": record, "2.json": other, "README.md": "hello", "a/": ""}),
		[]byte("[" + record + "," + other + "]"),
	} {
		var ids []string
		n, err := flaw.Read(bytes.NewReader(list), int64(len(list)), func(r flaw.Record) error {
			ids = append(ids, r.ID)
			return nil
		})
		require.NoError(t, err)
		require.Equal(t, 2, n)
		require.ElementsMatch(t, []string{"QUAY-2026-1", "QUAY-2026-2"}, ids)
	}
	n, err := flaw.Read(strings.NewReader(record), int64(len(record)), func(flaw.Record) error { return nil })
	require.NoError(t, err)
	require.Equal(t, 1, n)
	mine := errors.New("mine")
	_, err = flaw.Read(strings.NewReader(record), int64(len(record)), func(flaw.Record) error { return mine })
	require.ErrorIs(t, err, mine)

	// A directory of a size that no reader should hold in memory.
	endless := archive(t, map[string]string{"a.json": record})
	copy(endless[len(endless)-22+12:], "\xff\xff\xff\x7f")
	many := map[string]string{}
	for i := range 100 {
		many[fmt.Sprintf("%d.json", i)] = "{}"
	}
	for want, list := range map[string][]byte{
		`"a.json": QUAY-2026-1: modified "soon" is no date`: archive(t, map[string]string{
			"a.json": strings.Replace(record, "2026-11-20T08:00:00Z", "soon", 1), "b.json": record,
		}),
		"QUAY-2026-1 is in the list twice":     archive(t, map[string]string{"a.json": record, "b.json": record}),
		"it has no record":                     archive(t, map[string]string{"a.txt": record}),
		"it is no zip that can be read":        []byte("PK\x03\x04 and no more"),
		"the file is no array of records":      []byte("[" + record),
		"the file: it is no record of OSV":     []byte("hello"),
		"record 2: id is missing":              []byte("[" + record + ",{}]"),
		"id is missing: each record of OSV":    archive(t, many),
		"record 1 has more than 4194304 bytes": []byte(`[{"id":"` + strings.Repeat("x", 5<<20) + `"}]`),
		"something behind its array":           []byte("[" + record + "] []"),
		"the zip's directory has more than":    endless,
	} {
		_, err := flaw.Read(bytes.NewReader(list), int64(len(list)), func(flaw.Record) error { return nil })
		var problems flaw.Problems
		require.ErrorAs(t, err, &problems, want)
		require.ErrorContains(t, err, want)
		require.LessOrEqual(t, len(problems), 20)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(record))
	f.Fuzz(func(t *testing.T, text []byte) {
		defer fuzzlimit.Check(t)()
		if r, err := flaw.Parse(text); err == nil {
			flaw.Find(listOf(deb("libtide1", "2.8-4", "libtide")), []flaw.Record{r, r})
		}
	})
}

func FuzzList(f *testing.F) {
	f.Add([]byte("[" + record + "]"))
	f.Add([]byte(record))
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	w, err := z.Create("a.json")
	if err != nil {
		f.Fatal(err)
	}
	_, _ = w.Write([]byte(record))
	_ = z.Close()
	f.Add(packed.Bytes())
	f.Fuzz(func(t *testing.T, list []byte) {
		defer fuzzlimit.Check(t)()
		_, _ = flaw.Read(bytes.NewReader(list), int64(len(list)), func(flaw.Record) error { return nil })
	})
}
