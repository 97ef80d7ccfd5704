package versions_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
	"nimblepane/platform"
	"nimblepane/store"
)

func versionOf(t *testing.T, p *enginetest.Played, number string) store.Version {
	img, err := store.ImageNamed(p.Store.DB, "desk")
	require.NoError(t, err)
	v, err := store.VersionNumbered(p.Store.DB, img, number)
	require.NoError(t, err)
	return v
}

func set(t *testing.T, p *enginetest.Played, number, what string, args ...any) {
	require.NoError(t, p.Store.DB.Exec("update versions set "+what+" where number = '"+number+"'", args...).Error)
}

func TestATrackNamesOnlyWhatCanBeUsed(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	set(t, p, p.Numbers[0], "barred = 'tickets do not print'")
	set(t, p, p.Numbers[1], "state = 'capturing'")
	set(t, p, p.Numbers[2], "state = 'retired'")
	for number, want := range map[string]string{
		p.Numbers[0]: "tickets do not print", p.Numbers[1]: "capturing", p.Numbers[2]: "retired",
	} {
		require.ErrorContains(t, p.Versions.Stage(ctx, "jonas", "desk", number, versions.Staging{}), want)
		require.ErrorContains(t, p.Versions.Activate(ctx, "tove", "desk", number,
			versions.Activation{Overrule: true, Reason: "now"}), want)
	}
	require.ErrorIs(t, p.Versions.Stage(ctx, "jonas", "desk", "2031.01.1", versions.Staging{}), store.ErrNotFound)
	require.ErrorIs(t, p.Versions.Stage(ctx, "jonas", "no-desk", p.Numbers[3], versions.Staging{}), store.ErrNotFound)
	require.Empty(t, p.Names(image.Pilot))
	require.Empty(t, p.Names(image.Live))

	require.NoError(t, p.Versions.Stage(ctx, "jonas", "desk", p.Numbers[3], versions.Staging{}))
	moves := func() (n int64) {
		require.NoError(t, p.Store.DB.Model(&store.TrackMove{}).Count(&n).Error)
		return n
	}
	before := moves()
	require.NoError(t, p.Versions.Stage(ctx, "jonas", "desk", p.Numbers[3], versions.Staging{}))
	require.Equal(t, before, moves(), "it is staged already")
	live := versions.Activation{Overrule: true, Reason: "next"}
	require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", p.Numbers[3], live))
	before = moves()
	require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", p.Numbers[3], versions.Activation{}))
	require.Equal(t, before, moves(), "it is live already, with or without clearance")
}

func TestAnActNamesWhatItLeaves(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	nothing, first := "", p.Numbers[0]
	require.NoError(t, p.Versions.Stage(ctx, "jonas", "desk", p.Numbers[0], versions.Staging{Leaves: &nothing}))
	err := p.Versions.Stage(ctx, "jonas", "desk", p.Numbers[1], versions.Staging{Leaves: &nothing})
	require.ErrorIs(t, err, problem.ChangedSinceRead)
	require.ErrorIs(t, err, problem.ChangedSinceRead)
	require.Equal(t, p.Numbers[0], p.Names(image.Pilot))
	require.NoError(t, p.Versions.Stage(ctx, "jonas", "desk", p.Numbers[1], versions.Staging{Leaves: &first}))
}

func TestWhoMadeAVersionDoesNotApproveIt(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	require.NoError(t, p.Store.DB.Exec("update images set testers = 2, independent = true").Error)
	require.NoError(t, p.Store.DB.Exec("update versions set captured_by = 'anton'").Error)
	require.NoError(t, p.Versions.Stage(ctx, "jonas", "desk", p.Numbers[0], versions.Staging{}))
	v := versionOf(t, p, p.Numbers[0])
	site, machine, _ := strings.Cut(v.Source, "/")
	// Wilma had a hand in it before the capture, and Ida works on the machine since.
	for actor, at := range map[string]time.Time{
		"wilma": v.CreatedAt.Add(-time.Minute),
		"ida":   v.CreatedAt.Add(time.Minute),
	} {
		require.NoError(t, p.Store.Change(ctx, actor, at, func(tx *store.Tx) error {
			tx.Record(store.Entry{
				Verb: "build-machine.run", Subject: "build machine " + machine, Detail: map[string]any{"site": site},
			})
			return nil
		}))
	}
	for _, tester := range []string{"anton", "wilma", "ida"} {
		require.NoError(t, p.Versions.SignOff(ctx, tester, "desk", p.Numbers[0], true, ""))
	}
	var refused *problem.Problem
	require.ErrorAs(t, p.Versions.Activate(ctx, "tove", "desk", p.Numbers[0], versions.Activation{}), &refused)
	require.Contains(t, refused.Reasons, "testers: 1 of 2 testers said yes: ida; that of anton and wilma does not "+
		"count: "+
		"the same person made the version")
}

func TestClearanceKeepsAVersionOffLive(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	require.NoError(t, p.Store.DB.Exec("update images set testers = 2").Error)
	activate := func(a versions.Activation) error {
		return p.Versions.Activate(ctx, "tove", "desk", p.Numbers[0], a)
	}
	var refused *problem.Problem
	require.ErrorAs(t, activate(versions.Activation{}), &refused)
	require.Equal(t, problem.NotCleared, refused.Type)
	require.NotEmpty(t, refused.Reasons)
	require.ErrorIs(t, p.Versions.SignOff(ctx, "wilma", "desk", p.Numbers[0], true, ""), problem.WrongState)
	require.NoError(t, p.Versions.Stage(ctx, "jonas", "desk", p.Numbers[0], versions.Staging{}))
	require.ErrorIs(t, p.Versions.SignOff(ctx, "wilma", "desk", p.Numbers[0], false, " "), problem.ReasonRequired)
	require.NoError(t, p.Versions.SignOff(ctx, "wilma", "desk", p.Numbers[0], false, "no tickets"))
	require.NoError(t, p.Versions.SignOff(ctx, "anton", "desk", p.Numbers[0], true, ""))
	require.ErrorAs(t, activate(versions.Activation{}), &refused)
	require.Contains(t, refused.Reasons, "testers: no from wilma (no tickets); 1 of 2 testers said yes: anton")
	require.NoError(t, p.Versions.SignOff(ctx, "wilma", "desk", p.Numbers[0], true, "they print now"))
	require.ErrorAs(t, activate(versions.Activation{}), &refused)
	require.Len(t, refused.Reasons, 1, "the last word of each counts: only the pilot hosts are missing")

	require.ErrorIs(t, activate(versions.Activation{Overrule: true}), problem.ReasonRequired)
	require.Empty(t, p.Names(image.Live))
	require.NoError(t, activate(versions.Activation{Overrule: true, Reason: "a security hole"}))
	require.Equal(t, p.Numbers[0], p.Names(image.Live))
	var verb string
	require.NoError(t, p.Store.DB.Raw("select verb from trail order by seq desc limit 1").Scan(&verb).Error)
	require.Equal(t, "version.activate", verb)
}

func TestActivatingKeepsTheWayBackUnlessItIsLetGo(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	activate := func(number string, letGo bool) string {
		require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", number,
			versions.Activation{Overrule: true, Reason: "next", LetGo: letGo}))
		var fallback string
		require.NoError(t, p.Store.DB.Raw(`select coalesce(v.number, '') from tracks t
			left join versions v on v.id = t.fallback_id where t.name = 'live'`).Scan(&fallback).Error)
		return fallback
	}
	require.Empty(t, activate(p.Numbers[0], false))
	require.Equal(t, p.Numbers[0], activate(p.Numbers[1], false))
	require.Empty(t, activate(p.Numbers[2], true), "2026.11.2 was let go, and nothing is kept in its stead")
	require.Equal(t, p.Numbers[2], activate(p.Numbers[3], false))
}

func TestWhatIsUsedIsNeitherBarredNorRetired(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	for _, n := range p.Numbers[:2] {
		require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", n,
			versions.Activation{Overrule: true, Reason: "x"}))
	}
	require.ErrorIs(t, p.Versions.Bar(ctx, "tove", "desk", p.Numbers[1], "bad"), problem.InUse)
	require.ErrorIs(t, p.Versions.Bar(ctx, "tove", "desk", p.Numbers[2], ""), problem.ReasonRequired)
	var refused *problem.Problem
	for _, n := range p.Numbers[:2] { // fallback and live
		require.ErrorAs(t, p.Versions.Retire(ctx, "jonas", "desk", n, ""), &refused)
		require.NotEmpty(t, refused.Reasons)
	}
	set(t, p, p.Numbers[3], "state = 'capturing'")
	require.ErrorIs(t, p.Versions.Bar(ctx, "tove", "desk", p.Numbers[3], "bad"), problem.WrongState)

	require.NoError(t, p.Versions.Bar(ctx, "tove", "desk", p.Numbers[2], "tickets do not print"))
	require.ErrorIs(t, p.Versions.Bar(ctx, "tove", "desk", p.Numbers[2], "again"), problem.WrongState)
	v := versionOf(t, p, p.Numbers[2])
	require.Equal(t, "tove", v.BarredBy)
	require.True(t, v.BarredAt.Equal(p.Time.At))
}

func TestRetiringGivesUpCopiesAndDisk(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	require.NoError(t, p.Versions.Retire(ctx, "jonas", "desk", p.Numbers[0], "two years old"))
	v := versionOf(t, p, p.Numbers[0])
	require.Equal(t, image.Retired, v.State)
	var asked []string
	require.NoError(t, p.Store.DB.Raw("select kind from works order by kind").Scan(&asked).Error)
	require.ElementsMatch(t, []string{string(store.WorkDeleteCopy), string(store.WorkDeleteDisk)}, asked)

	// A deletion that fails is asked for again, and the copy says why it is there still.
	var w store.Work
	require.NoError(t, p.Store.DB.Where("kind = ?", store.WorkDeleteCopy).First(&w).Error)
	require.NoError(t, p.WorkEnded(ctx, w.Key, platform.Progress{State: platform.Failed, Why: "it is in use"}))
	copies, err := store.Copies(p.Store.DB, v.ID)
	require.NoError(t, err)
	require.Len(t, copies, 1)
	require.Equal(t, "it is in use", copies[0].Failure)
	last, err := store.LastAttempt(p.Store.DB, store.WorkDeleteCopy, w.Subject)
	require.NoError(t, err)
	require.Equal(t, 2, last)
	p.Step() // all works end well
	copies, err = store.Copies(p.Store.DB, v.ID)
	require.NoError(t, err)
	require.Empty(t, copies)
	require.ErrorContains(t, p.Versions.Stage(ctx, "jonas", "desk", p.Numbers[0], versions.Staging{}), "retired")
}

func TestCopiesThatDidNotArriveAreDeliveredAgain(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	_, err := p.Versions.Redeliver(ctx, "jonas", "desk", p.Numbers[0])
	require.ErrorIs(t, err, problem.NothingToDo)
	v := versionOf(t, p, p.Numbers[0])
	require.NoError(t, p.Store.DB.Exec("update copies set state = 'failed', failure = 'full' where version_id = ?",
		v.ID).Error)
	n, err := p.Versions.Redeliver(ctx, "jonas", "desk", p.Numbers[0])
	require.NoError(t, err)
	require.Equal(t, 1, n)
	_, err = p.Versions.Redeliver(ctx, "jonas", "desk", p.Numbers[0])
	require.ErrorIs(t, err, problem.NothingToDo, "it is on its way")
	require.ErrorIs(t, p.Versions.Retire(ctx, "jonas", "desk", p.Numbers[0], ""), problem.InUse)

	// A copy whose number is between those of others is missing, too.
	require.NoError(t, p.Store.DB.Exec("update copies set ordinal = 2 where version_id = ?", v.ID).Error)
	n, err = p.Versions.Redeliver(ctx, "jonas", "desk", p.Numbers[0])
	require.NoError(t, err)
	require.Equal(t, 1, n)
	require.NoError(t, p.Store.DB.Exec("delete from works where kind = ? and input->>'copy' = (select id::text from "+
		"copies where version_id = ? and ordinal = 1)", store.WorkDeliver, v.ID).Error)
	require.NoError(t, p.Store.DB.Exec("delete from copies where version_id = ? and ordinal = 1", v.ID).Error)
	require.NoError(t, p.Store.DB.Exec("update copies set ordinal = 1 where version_id = ?", v.ID).Error)

	// What arrives with another digest has not arrived.
	var w store.Work
	require.NoError(t, p.Store.DB.Where("kind = ?", store.WorkDeliver).First(&w).Error)
	require.NoError(t, p.WorkEnded(ctx, w.Key, platform.Progress{
		State: platform.Succeeded, Output: platform.DeliverCopy.Output(platform.Made{Digest: "sha256:other"}),
	}))
	copies, err := store.Copies(p.Store.DB, v.ID)
	require.NoError(t, err)
	require.Equal(t, image.CopyFailed, copies[0].State)
	require.Contains(t, copies[0].Failure, "the disk has digest sha256:other, and desk 2026.11.1 has sha256:2026.11.1")

	n, err = p.Versions.Redeliver(ctx, "jonas", "desk", p.Numbers[0])
	require.NoError(t, err)
	require.Equal(t, 1, n)
	p.Step()
	copies, err = store.Copies(p.Store.DB, v.ID)
	require.NoError(t, err)
	require.Equal(t, image.CopyPresent, copies[0].State)
}

func TestAnEditNamesTheRevisionThatItChanges(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	v := versionOf(t, p, p.Numbers[0])
	notes, tags, never := "December fixes", []string{"winter"}, (*time.Time)(nil)
	edit := versions.VersionEdit{Notes: &notes, Tags: &tags, EndOfLife: &never, Revisions: engine.At(v.Revision)}
	require.NoError(t, p.Versions.EditVersion(t.Context(), "jonas", "desk", v.Number, edit))
	other := "something else"
	err := p.Versions.EditVersion(t.Context(), "mira", "desk", v.Number,
		versions.VersionEdit{Notes: &other, Revisions: engine.At(v.Revision)})
	require.ErrorIs(t, err, problem.ChangedSinceRead)
	require.ErrorIs(t, err, problem.ChangedSinceRead)
	err = p.Versions.EditVersion(t.Context(), "mira", "desk", v.Number,
		versions.VersionEdit{Revisions: engine.At(v.Revision + 1)})
	require.ErrorIs(t, err, problem.InvalidRequest)
	past := ptr(p.Time.At.AddDate(0, 0, -1))
	err = p.Versions.EditVersion(t.Context(), "mira", "desk", v.Number, versions.VersionEdit{
		EndOfLife: &past,
		Revisions: engine.At(v.Revision + 1),
	})
	require.ErrorIs(t, err, problem.InvalidRequest)
	now := versionOf(t, p, v.Number)
	require.Equal(t, notes, now.Notes)
	require.Equal(t, store.Strings(tags), now.Tags)
	require.Equal(t, v.Revision+1, now.Revision)
}
