package versions_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/engine/fleet"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
	"nimblepane/platform"
	"nimblepane/store"
)

// kept says which versions would go by a rule, and why the others stay.
func kept(t *testing.T, p *enginetest.Played, rule image.Retention) (goes []string, why map[string][]string) {
	t.Helper()
	img, err := store.ImageNamed(p.Store.DB, "desk")
	require.NoError(t, err)
	all, err := versions.Retention(p.Store.DB, img, rule, p.Time.At)
	require.NoError(t, err)
	why = map[string][]string{}
	for _, k := range all {
		why[k.Number] = k.Why
	}
	return versions.Going(all), why
}

func TestARuleRetiresWhatNobodyNeeds(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	// The first is pinned, the second the fallback, the third live, and of the fourth a build is under way.
	for _, n := range p.Numbers[1:3] {
		require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", n,
			versions.Activation{Overrule: true, Reason: "x"}))
	}
	require.NoError(t, p.Fleet.Pin(ctx, "tove", "office", p.Numbers[0], fleet.Pinning{
		Reason: "stays", Approved: true, Overrule: true,
	}))
	old := store.Version{
		ImageID: 1, Number: "2026.08.1", State: image.Sealed, Digest: "sha256:old", Source: "north-quay/bm",
		SizeBytes: 100,
		CreatedAt: p.Time.At.AddDate(0, -3, 0),
	}
	require.NoError(t, p.Store.DB.Create(&old).Error)
	require.NoError(t, p.Store.DB.Create(&store.Copy{
		VersionID: old.ID, SiteID: 1, Ordinal: 1, State: image.CopyPresent,
	}).Error)
	rule := image.Retention{Keep: 1}
	goes, why := kept(t, p, rule)
	require.Equal(t, []string{"2026.08.1"}, goes)
	require.Equal(t, map[string][]string{
		"2026.08.1": nil, p.Numbers[0]: {"pool office is pinned to it"},
		p.Numbers[1]: {"it is the fallback of its image"},
		p.Numbers[2]: {"track live names it"}, p.Numbers[3]: {"it is among the newest 1"},
	}, why)

	// A kept sheet that begins with it by its number keeps it as well, also from a person.
	sheetOf := store.Sheet{
		Name: "counters", Image: "desk", Text: "image: desk\nbase: {version: 2026.08.1}\n", ChangedAt: p.Time.At,
	}
	require.NoError(t, p.Store.DB.Create(&sheetOf).Error)
	goes, why = kept(t, p, rule)
	require.Empty(t, goes)
	require.Equal(t, []string{"sheet counters begins with it"}, why["2026.08.1"])
	require.ErrorIs(t, p.Versions.Retire(ctx, "tove", "desk", "2026.08.1", "old"), problem.InUse)
	sheetOf.Text = "image: desk\nbase: {version: 2026.08.10}\n# not 2026.08.1\n"
	require.NoError(t, p.Store.DB.Save(&sheetOf).Error)
	goes, _ = kept(t, p, rule)
	require.Equal(t, []string{"2026.08.1"}, goes)

	// It is set only with what was shown, and what was shown is what goes.
	require.ErrorIs(t, p.Versions.SetRetention(ctx, "jonas", "desk", rule, nil), problem.ChangedSinceRead)
	require.ErrorIs(t, p.Versions.SetRetention(ctx, "jonas", "desk", rule, p.Numbers[:1]), problem.ChangedSinceRead)
	require.ErrorIs(t, p.Versions.SetRetention(ctx, "jonas", "desk", image.Retention{Days: 3},
		nil), problem.InvalidRequest)
	p.Step()
	require.Equal(t, image.Sealed, versionOf(t, p, "2026.08.1").State)
	require.NoError(t, p.Versions.SetRetention(ctx, "jonas", "desk", rule, goes))
	p.Step()
	require.Equal(t, image.Retired, versionOf(t, p, "2026.08.1").State)
	var reason string
	require.NoError(t, p.Store.DB.Raw("select reason from trail where verb = 'version.retire'").Scan(&reason).Error)
	require.Equal(t, "by the image's rule, which keeps the newest 1", reason)
	p.Step() // its deletions end
	copies, err := store.Copies(p.Store.DB, old.ID)
	require.NoError(t, err)
	require.Empty(t, copies)

	// Once a version is needed by nobody any more it goes, too, without anybody's doing.
	require.NoError(t, p.Fleet.Unpin(ctx, "tove", "office", ""))
	p.Time.At = p.Time.At.Add(time.Hour)
	p.Step()
	require.Equal(t, image.Retired, versionOf(t, p, p.Numbers[0]).State)
	for _, n := range p.Numbers[1:] {
		require.Equal(t, image.Sealed, versionOf(t, p, n).State, n)
	}

	// And nothing goes any more when everything is kept.
	require.NoError(t, p.Retain(image.Retention{}))
	require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", p.Numbers[3],
		versions.Activation{Overrule: true, Reason: "x", LetGo: true}))
	p.Time.At = p.Time.At.Add(time.Hour)
	p.Step()
	require.Equal(t, image.Sealed, versionOf(t, p, p.Numbers[1]).State)
}

func TestWhatIsBeingMadeOfAVersionKeepsIt(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	db := p.Store.DB
	exec := func(sql string) { require.NoError(t, db.Exec(sql).Error) }
	of := func(i int) int64 { return versionOf(t, p, p.Numbers[i]).ID }
	exec("update copies set state = 'delivering' where version_id = (select id from versions where number = " +
		"'2026.11.1')")
	require.NoError(t, db.Create(&store.Machine{
		SiteID: 1, Name: "bm-try", BaseID: ptr(of(1)), MachineClass: "standard", State: "running", AskedAt: p.Time.At,
		TouchedAt: p.Time.At, WorkedAt: p.Time.At,
	}).Error)
	_, why := kept(t, p, image.Retention{Keep: 1})
	require.Equal(t, []string{"it is being delivered to north-quay: wait until that is done"}, why[p.Numbers[0]])
	require.Equal(t, []string{"build machine bm-try is made from it"}, why[p.Numbers[1]])
	require.Empty(t, why[p.Numbers[2]])
	exec("update machines set state = 'gone', gone_at = now()")
	_, why = kept(t, p, image.Retention{Keep: 1})
	require.Empty(t, why[p.Numbers[1]])
}

func ptr[T any](v T) *T { return &v }

func TestSitesGetAsManyCopiesAsClonesNeed(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	plan := func() store.CopyPlanRow {
		p.Step()
		rows, err := store.CopyPlans(p.Store.DB, 1)
		require.NoError(t, err)
		require.Len(t, rows, 1)
		return rows[0]
	}
	one := plan()
	require.Equal(t, 1, one.Copies)
	require.Equal(t, "pool counters takes 1 host together; how long a clone takes here was not seen yet; 100 can be "+
		"cloned from a copy at a time", one.Why)
	load := func(edit string) {
		_, err := p.Fleet.LoadEstate(ctx, "tove", []byte(edit), false)
		require.NoError(t, err)
	}
	const sites = "sites: [{name: north-quay, platform: practice, address: 'http://127.0.0.1:1', clones-per-copy: 1}]\n"
	load(sites + "images: [{name: desk, machine-class: standard, clearance: {testers: 0, soak: 0s, copies: " +
		"3}}]\npools: []\n")
	require.Equal(t, 3, plan().Copies, "as many as clearance asks for")
	load(sites + "images: [{name: desk, machine-class: standard, clearance: {testers: 0, soak: 0s}, copies: " +
		"4}]\npools: []\n")
	one = plan()
	require.Equal(t, 4, one.Copies)
	require.Equal(t, "as the estate file says", one.Why)
	load(sites + "images: [{name: desk, machine-class: standard, clearance: {testers: 0, soak: 0s}, copies: 4, " +
		"copies-at: {north-quay: 2}}]\npools: []\n")
	require.Equal(t, 2, plan().Copies)
	var entries int64
	require.NoError(t, p.Store.DB.Raw("select count(*) from trail where verb = 'copies.plan'").Scan(&entries).Error)
	require.EqualValues(t, 4, entries, "each number once")

	// What a site lacks by now is delivered to it.
	n, err := p.Versions.Redeliver(ctx, "jonas", "desk", p.Numbers[0])
	require.NoError(t, err)
	require.Equal(t, 1, n)
}

func TestCopiesThatSomebodyMayGoBackToAreReadAgain(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx, db := t.Context(), p.Store.DB
	for _, n := range p.Numbers[1:3] {
		require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", n,
			versions.Activation{Overrule: true, Reason: "x"}))
	}
	open := func() (subjects []string) {
		require.NoError(t, db.Raw("select subject from works where kind = ? and state in ('asked', 'under way')",
			store.WorkReadCopy).Scan(&subjects).Error)
		return subjects
	}
	copyOf := func(i int) store.Copy {
		rows, err := store.Copies(db, versionOf(t, p, p.Numbers[i]).ID)
		require.NoError(t, err)
		return rows[0]
	}
	require.NoError(t, p.Sweep(ctx))
	require.Empty(t, open(), "they were read when they came")

	p.Time.At = p.Time.At.Add(25 * time.Hour)
	require.NoError(t, p.Sweep(ctx))
	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, []string{store.CopySubject(copyOf(1).ID)}, open(), "one of a site at a time")
	p.Step()
	require.True(t, copyOf(1).ReadAt.Equal(p.Time.At))
	p.Step()
	require.True(t, copyOf(2).ReadAt.Equal(p.Time.At), "and that of live, which the next one would go back to")
	p.Step()
	require.Empty(t, open(), "those of other versions are not read")
	require.False(t, copyOf(3).ReadAt.After(p.Time.At.Add(-24*time.Hour)))

	// One that could not be read is left alone for a while, and nothing is said of it.
	end := func(progress platform.Progress) {
		t.Helper()
		var w store.Work
		require.NoError(t, db.Where("kind = ? and state = 'asked'", store.WorkReadCopy).First(&w).Error)
		require.NoError(t, p.WorkEnded(ctx, w.Key, progress))
	}
	p.Time.At = p.Time.At.Add(25 * time.Hour)
	require.NoError(t, p.Sweep(ctx))
	end(platform.Progress{State: platform.Failed, Why: "the line is down"})
	require.Equal(t, image.CopyPresent, copyOf(1).State)
	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, []string{store.CopySubject(copyOf(2).ID)}, open(), "the other one meanwhile")
	p.Step()
	p.Time.At = p.Time.At.Add(time.Hour)
	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, []string{store.CopySubject(copyOf(1).ID)}, open())
	var kept int64
	require.NoError(t, db.Raw("select count(*) from works where kind = ? and subject = ?", store.WorkReadCopy,
		store.CopySubject(copyOf(1).ID)).Scan(&kept).Error)
	require.EqualValues(t, 2, kept, "the last one, and the one under way")

	// One that is not what it was is not used any more, and can be delivered again.
	end(platform.Progress{
		State: platform.Succeeded, Output: platform.ReadCopy.Output(platform.Read{Wrong: "it was changed on qk-1"}),
	})
	require.Equal(t, image.CopyFailed, copyOf(1).State)
	require.Equal(t, "it was changed on qk-1", copyOf(1).Failure)
	matters, err := p.Today(ctx)
	require.NoError(t, err)
	titles := map[string]engine.Matter{}
	for _, m := range matters {
		titles[m.Title] = m
	}
	require.Equal(t, "pane version deliver desk 2026.11.2",
		titles["A copy of desk 2026.11.2 at north-quay cannot be used"].Command)
	require.Contains(t, titles["The pools of desk could not all be rolled back"].Detail,
		"pools counters and office: copy 1 at north-quay cannot be used: it was changed on qk-1")
	n, err := p.Versions.Redeliver(ctx, "jonas", "desk", p.Numbers[1])
	require.NoError(t, err)
	require.Equal(t, 1, n)
	p.Step()
	require.True(t, copyOf(1).ReadAt.Equal(p.Time.At), "it was read back when it came")
}

func TestReadingGivesWayToHostsThatAreMadeAnew(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx, db := t.Context(), p.Store.DB
	require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", p.Numbers[0],
		versions.Activation{Overrule: true, Reason: "x"}))
	p.Time.At = p.Time.At.Add(25 * time.Hour)
	require.NoError(t, p.Sweep(ctx))
	require.NoError(t, db.Exec(`insert into works (key, kind, subject, attempt, site_id, input, state, asked_at)
		values ('r', 'rebuild', 'rollover 1 host 1', 1, 1, '{}', 'under way', now())`).Error)
	var w store.Work
	require.NoError(t, db.Where("kind = ?", store.WorkReadCopy).First(&w).Error)
	_, err := p.Versions.AskReading(ctx, db, w)
	var busy *platform.Busy
	require.ErrorAs(t, err, &busy)
	require.Contains(t, busy.Why, "hosts are being made anew there")
	p.Time.At = p.Time.At.Add(25 * time.Hour)
	_, err = p.Versions.AskReading(ctx, db, w)
	require.NoError(t, err, "it has waited for long enough")
	p.Time.At = p.Time.At.Add(-25 * time.Hour)
	require.NoError(t, db.Exec("delete from works where key = 'r'").Error)
	asked, err := p.Versions.AskReading(ctx, db, w)
	require.NoError(t, err)
	require.Equal(t, platform.Reading{Copy: "desk-2026.11.1-copy-1", Digest: "sha256:2026.11.1", Rate: 32 << 20}, asked)

	// What is not there any more by then is not read.
	require.NoError(t, db.Exec("update copies set state = 'deleted'").Error)
	_, err = p.Versions.AskReading(ctx, db, w)
	var refusal *platform.Refusal
	require.ErrorAs(t, err, &refusal)
	require.Contains(t, refusal.Why, "desk-2026.11.1-copy-1 is deleted, and its version sealed")
}

func TestCopiesThatAreTooManyGoOnceNoHostIsMadeFromThem(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx, db := t.Context(), p.Store.DB
	states := func(i int) (list []string) {
		require.NoError(t, db.Raw("select ordinal || ' ' || state from copies where version_id = ? order by ordinal",
			versionOf(t, p, p.Numbers[i]).ID).Scan(&list).Error)
		return list
	}
	load := func(copies int) {
		_, err := p.Fleet.LoadEstate(ctx, "tove", fmt.Appendf(nil, `sites:
  - {name: north-quay, platform: practice, address: "http://127.0.0.1:1"}
images:
  - {name: desk, machine-class: standard, clearance: {testers: 0, soak: 0s}, copies: %d}
pools: []
`, copies), false)
		require.NoError(t, err)
	}
	load(3)
	for _, n := range p.Numbers[:3] {
		_, err := p.Versions.Redeliver(ctx, "jonas", "desk", n)
		require.NoError(t, err)
	}
	p.Step()
	require.NoError(t, db.Exec("update copies set state = 'failed' where version_id = 1 and ordinal = 1").Error)
	require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", p.Numbers[1], versions.Activation{
		Overrule: true, Reason: "x",
	}))
	load(1)
	p.Step()
	require.NoError(t, p.Retain(image.Retention{Keep: 4}))
	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, []string{"1 leaving", "2 present", "3 leaving"}, states(0), "what can be used stays")
	require.Equal(t, []string{"1 present", "2 present", "3 present"}, states(1), "live names it")
	require.Equal(t, []string{"1 present", "2 leaving", "3 leaving"}, states(2))
	rows, err := store.CopiesAt(db, versionOf(t, p, p.Numbers[2]).ID, 1)
	require.NoError(t, err)
	require.Len(t, rows, 1, "nothing is made from those that leave")
	_, err = p.Versions.Redeliver(ctx, "jonas", "desk", p.Numbers[2])
	require.ErrorIs(t, err, problem.NothingToDo)

	// One that cannot be deleted stays on its way, also when the version is retired.
	var w store.Work
	require.NoError(t, db.Where("kind = ? and subject = 'copy 10'", store.WorkDeleteCopy).First(&w).Error)
	p.Time.At = p.Time.At.Add(time.Hour)
	require.NoError(t, p.Sweep(ctx))
	require.NoError(t, p.WorkEnded(ctx, w.Key, platform.Progress{State: platform.Failed, Why: "it is in use"}))
	require.NoError(t, p.Sweep(ctx))
	p.Step()
	require.Equal(t, []string{"1 present", "2 deleted", "3 deleted"}, states(2))

	// And what is lacking later on is delivered under the same name.
	load(2)
	n, err := p.Versions.Redeliver(ctx, "jonas", "desk", p.Numbers[2])
	require.NoError(t, err)
	require.Equal(t, 1, n)
	p.Step()
	require.Equal(t, []string{"1 present", "2 present", "3 deleted"}, states(2))
	load(1)
	require.NoError(t, p.Sweep(ctx)) // which thinks over how many there are to be
	p.Time.At = p.Time.At.Add(time.Hour)
	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, []string{"1 present", "2 leaving", "3 deleted"}, states(2))
	require.NoError(t, p.Versions.Retire(ctx, "jonas", "desk", p.Numbers[2], "not needed"))
	p.Step()
	require.Equal(t, []string{"1 deleted", "2 deleted", "3 deleted"}, states(2))
}
