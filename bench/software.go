package main

import (
	"context"
	"fmt"
	"testing"
	"time"

	"nimblepane/core/image"
	core "nimblepane/core/software"
	"nimblepane/engine/software"
	"nimblepane/platform"
	"nimblepane/store"
	"nimblepane/store/localpg"
)

// listEntries is how long the software lists are that are measured, and listVersions how many versions have one.
const listEntries, listVersions = 5000, 300

// listOf is a list of so many packages, some of which change from version to version.
func listOf(version int) core.List {
	l := core.List{Entries: []core.Entry{{Origin: core.System, Name: "debian", Version: "12"}}}
	for i := range listEntries - 1 {
		newest := version / 10 * 10 // most change seldom
		if i%20 == 0 {
			newest = version
		}
		l.Entries = append(l.Entries, core.Entry{
			Origin: core.Deb, Name: fmt.Sprintf("libquay%d-%d", i%50, i), Version: fmt.Sprintf("1.%d-%d", newest,
				1+i%3),
			Arch: "amd64", Source: fmt.Sprintf("quay%d", i/4), Licence: "LGPL-2.1+",
			Summary: fmt.Sprintf("part %d of what holds a desk together", i), Security: i%30 == 0,
		})
	}
	return l
}

// softwareLists measures how long it takes to compare two lists, to take one and find something in it, and to find
// who has something.
func softwareLists(ctx context.Context, r *results, db *localpg.Server, _ string) error {
	a, b := listOf(1), listOf(2)
	compared := testing.Benchmark(func(t *testing.B) {
		for t.Loop() {
			core.Diff(a, b)
		}
	})
	r.add(fmt.Sprintf("comparing two lists of %d entries", listEntries), ms(compared.NsPerOp()), "under 50 ms")

	s, err := database(ctx, db, "software")
	if err != nil {
		return err
	}
	defer s.Close()
	now := time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC)
	img := store.Image{Name: "desk", Numbering: image.Calendar, MachineClass: "standard"}
	if err := s.DB.Create(&img).Error; err != nil {
		return err
	}
	var took, found time.Duration
	for n := range listVersions {
		document, err := listOf(n).Document(core.Subject{Taken: now, Tool: "bench"})
		if err != nil {
			return err
		}
		packed := core.Pack(document)
		v := store.Version{ImageID: img.ID, Number: fmt.Sprintf("2026.11.%d", n+1), State: image.Sealed, CreatedAt: now}
		if err := s.DB.Create(&v).Error; err != nil {
			return err
		}
		begin := time.Now()
		err = s.Change(ctx, "bench", now, func(tx *store.Tx) error {
			return software.Sealed(tx, v, platform.Captured{Software: packed})
		})
		if err != nil {
			return err
		}
		kept := time.Now()
		l, err := software.ListOf(s.DB, img, v)
		if err != nil {
			return err
		}
		entries, err := core.UnpackEntries(l.Packed)
		if err != nil || len(core.Search(entries, "libquay7-")) == 0 {
			return fmt.Errorf("nothing was found in the list of %s: %w", v.Number, err)
		}
		took, found = took+kept.Sub(begin), found+time.Since(kept)
	}
	r.add(fmt.Sprintf("a list of %d entries read, kept and searched (mean of %d)", listEntries, listVersions),
		fmt.Sprintf("%s, of which the search %s", ms((took+found).Nanoseconds()/listVersions),
			ms(found.Nanoseconds()/listVersions)), "under 200 ms")
	begin := time.Now()
	const asks = 20
	for range asks {
		holders, err := software.Who(s.DB, software.Question{Name: "libquay0-0", Below: fmt.Sprintf("1.%d-1",
			listVersions-1), All: true})
		if err != nil || len(holders) != listVersions-1 {
			return fmt.Errorf("%d versions were found, of %d: %w", len(holders), listVersions-1, err)
		}
	}
	r.add(fmt.Sprintf("who has something below a version, over %d versions", listVersions),
		ms(time.Since(begin).Nanoseconds()/asks), "under 100 ms")
	return nil
}

func ms(nanoseconds int64) string { return fmt.Sprintf("%.1f ms", float64(nanoseconds)/1e6) }
