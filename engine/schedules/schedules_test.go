package schedules_test

import (
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/schedule"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/builds"
	"nimblepane/engine/schedules"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const monthly = "image: desk\nbase: {track: live}\nmachine: {site: north-quay}\nsteps:\n  - {name: hello, script: " +
	"{text: \"#!/bin/sh\\necho hello\\n\"}}\n"

// opened is an estate with a kept sheet of Jonas.
func opened(t *testing.T) *enginetest.Played {
	t.Helper()
	p := enginetest.Open(t)
	require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[0],
		versions.Activation{Overrule: true, Reason: "first"}))
	require.NoError(t, p.Store.DB.Create(&store.Account{Name: "jonas", Role: role.Operator, Password: "x"}).Error)
	save(t, p, 0, monthly)
	return p
}

func save(t *testing.T, p *enginetest.Played, revision int, text string) {
	t.Helper()
	_, err := p.Builds.SaveSheet(t.Context(), "jonas", engine.At(revision), builds.Order{Name: "desk", Text: text},
		func(string) error { return nil })
	require.NoError(t, err)
}

func add(t *testing.T, p *enginetest.Played, mode schedule.Mode, rule string) {
	t.Helper()
	r := schedules.Request{Name: "monthly", Sheet: "desk", Mode: mode, Rule: rule}
	if rule != "" {
		r.Zone = "Europe/Paris"
	}
	_, err := p.Schedules.Add(t.Context(), "jonas", r)
	require.NoError(t, err)
}

// at goes to a time, has the schedules looked at, and returns the runs so far, the last first.
func at(t *testing.T, p *enginetest.Played, when string) []store.ScheduleRunRow {
	t.Helper()
	var err error
	p.Time.At, err = time.Parse(time.RFC3339, when)
	require.NoError(t, err)
	require.NoError(t, p.Schedules.Follow(t.Context()))
	runs, err := store.ScheduleRuns(p.Store.DB, 1, 100)
	require.NoError(t, err)
	return runs
}

func ended(t *testing.T, p *enginetest.Played, state string) {
	t.Helper()
	require.NoError(t, p.Store.DB.Exec("update builds set state = ?, settled = true, ended_at = now() where not "+
		"settled", state).Error)
}

func waits(t *testing.T, p *enginetest.Played) string {
	t.Helper()
	s, err := store.ScheduleNamed(p.Store.DB, "monthly")
	require.NoError(t, err)
	return s.Waits
}

const firstMonday = "FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30" // Monday 7 December 2026 is the next one

func TestABuildStartsOnItsDateAndMissedOnesOnce(t *testing.T) {
	t.Parallel()
	p := opened(t)
	add(t, p, schedule.Dates, firstMonday)
	require.Empty(t, at(t, p, "2026-12-07T01:29:59Z"))
	runs := at(t, p, "2026-12-07T01:30:00Z")
	require.Len(t, runs, 1)
	require.NotNil(t, runs[0].BuildID)
	b, err := store.BuildByID(p.Store.DB, *runs[0].BuildID)
	require.NoError(t, err)
	require.Equal(t, "jonas", b.StartedBy)
	require.Equal(t, "monthly", b.Schedule)
	require.Len(t, at(t, p, "2026-12-07T01:31:00Z"), 1, "once")

	// The next one waits for it, and says so.
	require.Len(t, at(t, p, "2027-01-04T01:30:00Z"), 1)
	require.Equal(t, "build 1 goes on, which it started before", waits(t, p))
	ended(t, p, "ready")
	runs = at(t, p, "2027-01-04T05:00:00Z")
	require.Len(t, runs, 2)
	require.Empty(t, waits(t, p))
	ended(t, p, "failed")

	// The service was away from February to May.
	runs = at(t, p, "2027-05-20T12:00:00Z")
	require.Len(t, runs, 3)
	require.Equal(t, "2027-02-01T01:30:00Z", runs[0].DueAt.UTC().Format(time.RFC3339))
	ended(t, p, "ready")
	require.Len(t, at(t, p, "2027-06-07T00:29:00Z"), 3)
	require.Len(t, at(t, p, "2027-06-07T00:30:00Z"), 4)
}

func TestADatePassesOnWhichNothingHasChanged(t *testing.T) {
	t.Parallel()
	p := opened(t)
	add(t, p, schedule.IfChanged, firstMonday)
	require.NotNil(t, at(t, p, "2026-12-07T02:00:00Z")[0].BuildID)
	ended(t, p, "failed")
	require.NotNil(t, at(t, p, "2027-01-04T02:00:00Z")[0].BuildID, "the last one failed")
	ended(t, p, "ready")
	runs := at(t, p, "2027-02-01T02:00:00Z")
	require.Nil(t, runs[0].BuildID)
	require.Equal(t, schedule.NothingChanged, runs[0].Why)
	require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[1],
		versions.Activation{Overrule: true, Reason: "a newer base"}))
	require.NotNil(t, at(t, p, "2027-03-01T02:00:00Z")[0].BuildID)
	ended(t, p, "ready")
	save(t, p, 1, monthly+"time-limit: 2h\n")
	require.NotNil(t, at(t, p, "2027-04-05T02:00:00Z")[0].BuildID)
}

func TestAChangeStartsABuildAtOnce(t *testing.T) {
	t.Parallel()
	p := opened(t)
	add(t, p, schedule.OnChanges, "")
	require.Empty(t, at(t, p, "2026-12-01T09:59:00Z"), "nothing has changed yet")
	save(t, p, 1, monthly+"time-limit: 3h\n")
	require.Len(t, at(t, p, "2026-12-01T10:00:00Z"), 1)
	require.Len(t, at(t, p, "2026-12-01T10:01:00Z"), 1)
	ended(t, p, "failed")
	require.Len(t, at(t, p, "2026-12-01T10:02:00Z"), 1, "what failed is not begun again and again")
	save(t, p, 2, "image: desk\n")
	require.Len(t, at(t, p, "2026-12-01T10:03:00Z"), 1)
	require.Contains(t, waits(t, p), "the base is missing")
	save(t, p, 3, monthly+"time-limit: 2h\n")
	runs := at(t, p, "2026-12-01T10:04:00Z")
	require.Len(t, runs, 2)
	require.Nil(t, runs[0].DueAt)
	require.Empty(t, waits(t, p))
}

func TestAChangeOfALibraryStepStartsABuild(t *testing.T) {
	t.Parallel()
	p := opened(t)
	library := func(text string) {
		t.Helper()
		own, err := sheet.ReadLibrary(fstest.MapFS{"fonts.yaml": {Data: []byte("about: has fonts\nsteps:\n" +
			"  - {name: fonts, script: {text: \"#!/bin/sh\\n" + text + "\"}}\n")}})
		require.NoError(t, err)
		p.Library = func() (sheet.Library, error) { return own, nil }
	}
	library("echo fonts")
	save(t, p, 1, "image: desk\nbase: {track: live}\nmachine: {site: north-quay}\nsteps:\n"+
		"  - {name: fonts, ready: {step: fonts}}\n")
	add(t, p, schedule.IfChanged, firstMonday)
	require.NotNil(t, at(t, p, "2026-12-07T02:00:00Z")[0].BuildID)
	ended(t, p, "ready")
	require.Nil(t, at(t, p, "2027-01-04T02:00:00Z")[0].BuildID)
	library("echo other fonts")
	require.NotNil(t, at(t, p, "2027-02-01T02:00:00Z")[0].BuildID)
}

func TestAPausedScheduleLeavesItsDatesOut(t *testing.T) {
	t.Parallel()
	p := opened(t)
	add(t, p, schedule.Dates, firstMonday)
	_, err := p.Schedules.Pause(t.Context(), "tove", "monthly", " ")
	require.ErrorIs(t, err, problem.ReasonRequired)
	_, err = p.Schedules.Pause(t.Context(), "tove", "monthly", "the quay is closed")
	require.NoError(t, err)
	_, err = p.Schedules.Pause(t.Context(), "jonas", "monthly", "again")
	require.ErrorIs(t, err, problem.WrongState)
	require.Empty(t, at(t, p, "2027-01-10T12:00:00Z"))
	s, err := p.Schedules.Resume(t.Context(), "tove", "monthly")
	require.NoError(t, err)
	require.Equal(t, "2027-02-01T01:30:00Z", s.NextAt.UTC().Format(time.RFC3339))
	require.Empty(t, at(t, p, "2027-01-10T12:01:00Z"))
	_, err = p.Schedules.Resume(t.Context(), "tove", "monthly")
	require.ErrorIs(t, err, problem.WrongState)
}

func TestAScheduleStartsNothingForWhoMayNot(t *testing.T) {
	t.Parallel()
	p := opened(t)
	add(t, p, schedule.Dates, firstMonday)
	require.NoError(t, p.Store.DB.Exec("update accounts set disabled = true").Error)
	runs := at(t, p, "2026-12-07T02:00:00Z")
	require.Nil(t, runs[0].BuildID)
	require.Contains(t, runs[0].Why, "it belongs to jonas, who may not start builds any more")
}

func TestAScheduleThatWouldNotWorkIsNotWrittenDown(t *testing.T) {
	t.Parallel()
	p := opened(t)
	for why, r := range map[string]schedules.Request{
		"needs a recurrence rule":   {Mode: schedule.Dates},
		"is no recurrence rule":     {Mode: schedule.Dates, Rule: "every monday", Zone: "UTC"},
		"there is no time zone":     {Mode: schedule.Dates, Rule: "FREQ=DAILY", Zone: "Sea/Bottom"},
		"have no recurrence rule":   {Mode: schedule.OnChanges, Rule: "FREQ=DAILY", Zone: "UTC"},
		"sheet \"none\": not found": {Mode: schedule.OnChanges, Sheet: "none"},
		"there is no parameter":     {Mode: schedule.OnChanges, Params: map[string]string{"queue": "x"}},
		"schedule name":             {Name: "Monthly Build", Mode: schedule.OnChanges},
	} {
		if r.Name == "" {
			r.Name = "monthly"
		}
		if r.Sheet == "" {
			r.Sheet = "desk"
		}
		_, err := p.Schedules.Add(t.Context(), "jonas", r)
		require.ErrorContains(t, err, why)
	}
	add(t, p, schedule.OnChanges, "")
	_, err := p.Schedules.Add(t.Context(), "jonas", schedules.Request{
		Name: "monthly", Sheet: "desk",
		Mode: schedule.OnChanges,
	})
	require.ErrorIs(t, err, problem.NameTaken)
	require.ErrorIs(t, p.Builds.DeleteSheet(t.Context(), "jonas", "desk", engine.At(1),
		func(string) error { return nil }), problem.InUse)
	require.NoError(t, p.Schedules.Delete(t.Context(), "jonas", "monthly"))
	require.NoError(t, p.Builds.DeleteSheet(t.Context(), "jonas", "desk", engine.At(1),
		func(string) error { return nil }))
}

func TestAClockThatWasYearsAheadFreezesNothing(t *testing.T) {
	t.Parallel()
	p := opened(t)
	add(t, p, schedule.Dates, "FREQ=MONTHLY;BYMONTHDAY=1;BYHOUR=2")
	now := p.Time.At
	runs := at(t, p, now.AddDate(10, 0, 0).Format(time.RFC3339))
	require.Len(t, runs, 1)
	require.NoError(t, p.Store.DB.Exec("update pulses set seen_at = ?; ", p.Time.At).Error)
	require.NoError(t, p.Store.DB.Exec("update copies set read_at = ?", p.Time.At).Error)
	require.NoError(t, p.Store.DB.Exec("update copy_plans set at = ?", p.Time.At).Error)
	for _, turn := range []string{"works set next_poll_at", "hosts set look_at", "builds set next_tick_at"} {
		require.NoError(t, p.Store.DB.Exec("update "+turn+" = now() + interval '10 years'").Error)
	}

	p.Time.At = now.Add(time.Minute)
	require.NoError(t, p.Store.MendFutureTimes(t.Context(), "service", p.Time.At, 10*time.Minute))
	require.NoError(t, p.Schedules.Recompute(t.Context()))
	s, err := store.ScheduleNamed(p.Store.DB, "monthly")
	require.NoError(t, err)
	require.Less(t, s.NextAt.Sub(now), 63*24*time.Hour)
	require.NotEqual(t, *runs[0].DueAt, *s.NextAt, "it ran for that date already")
	var late int64
	require.NoError(t, p.Store.DB.Raw(`select (select count(*) from pulses where seen_at > @now)
		+ (select count(*) from copies where read_at > @now) + (select count(*) from copy_plans where at > @now)
		+ (select count(*) from works where next_poll_at > now() + interval '1 day')
		+ (select count(*) from hosts where look_at > now() + interval '1 day')
		+ (select count(*) from builds where next_tick_at > now() + interval '1 day')`,
		map[string]any{"now": p.Time.At}).Scan(&late).Error)
	require.Zero(t, late)

	// Repeated, it changes nothing.
	before := entries(t, p)
	require.NoError(t, p.Store.MendFutureTimes(t.Context(), "service", p.Time.At, 10*time.Minute))
	require.NoError(t, p.Schedules.Recompute(t.Context()))
	require.Equal(t, before, entries(t, p))
}

func entries(t *testing.T, p *enginetest.Played) (n int64) {
	t.Helper()
	require.NoError(t, p.Store.DB.Raw("select count(*) from trail").Scan(&n).Error)
	return n
}
