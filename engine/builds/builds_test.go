package builds_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/machine"
	"nimblepane/core/matter"
	"nimblepane/core/problem"
	"nimblepane/engine/builds"
	"nimblepane/internal/enginetest"
	"nimblepane/platform"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// workshop is a platform in whose build machines people work. It notes what the
// trail said last when it was asked to do something.
type workshop struct {
	platform.Platform
	platform.Builder // what a test does not expect panics
	trail            func() string
	told             []string
	failing          error
	machines         []platform.BuildMachine
}

func (*workshop) CheckRoom(context.Context, []string, string) error { return nil }

func (*workshop) Close() {}

func (w *workshop) BuildMachines(context.Context) ([]platform.BuildMachine, error) {
	return w.machines, w.failing
}

func (w *workshop) Exec(context.Context, string, platform.Command) (platform.Outcome, error) {
	w.told = append(w.told, w.trail())
	return platform.Outcome{ExitCode: 4}, w.failing
}

func inWorkshop(t *testing.T) (*enginetest.Played, *workshop) {
	st := storetest.Open(t)
	w := &workshop{}
	w.trail = func() string {
		var last string
		require.NoError(t, st.DB.Raw("select verb || ' ' || subject || ' ' || reason from trail order by seq desc "+
			"limit 1").
			Scan(&last).Error)
		return strings.TrimSpace(last)
	}
	return enginetest.OnPlatform(t, st, w), w
}

// ends ends the works that are open on machines, as succeeded or for the reason given.
func ends(t *testing.T, p *enginetest.Played, why string) {
	t.Helper()
	var keys []string
	require.NoError(t, p.Store.DB.Raw("select key from works where state in ('asked', 'under way') order by key").
		Scan(&keys).Error)
	require.NotEmpty(t, keys)
	end := platform.Progress{State: platform.Succeeded, Output: platform.MakeMachine.Output(platform.Nothing{})}
	if why != "" {
		end = platform.Progress{State: platform.Failed, Why: why}
	}
	for _, key := range keys {
		require.NoError(t, p.WorkEnded(t.Context(), key, end))
	}
}

// made is a build machine of Jonas that runs.
func made(t *testing.T, p *enginetest.Played, name string) store.Machine {
	t.Helper()
	_, err := p.Builds.CreateMachine(t.Context(), "jonas", builds.MachineRequest{
		Site: "north-quay", Name: name, BaseDisk: "x.qcow2", MachineClass: "standard", Purpose: "printers",
	})
	require.NoError(t, err)
	ends(t, p, "")
	return known(t, p, name)
}

// known is the last record of a machine.
func known(t *testing.T, p *enginetest.Played, name string) store.Machine {
	t.Helper()
	rows, err := store.MachineRows(p.Store.DB, store.MachineFilter{Name: name, Gone: true, Limit: 1})
	require.NoError(t, err)
	require.Len(t, rows, 1)
	return rows[0].Machine
}

func TestABuildMachineIsMadeFromWhatIsThere(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	m, err := p.Builds.CreateMachine(t.Context(), "jonas",
		builds.MachineRequest{Site: "north-quay", Name: "bm-new", Image: "desk", Version: p.Numbers[0]})
	require.NoError(t, err)
	require.Equal(t, machine.Making, m.State)
	require.NotNil(t, m.BaseID)
	require.Equal(t, "standard", m.MachineClass)
	require.NoError(t, p.Store.DB.Exec("update copies set state = 'failed' where version_id = 2").Error)
	standard := func(name string) builds.MachineRequest {
		return builds.MachineRequest{Name: name, BaseDisk: "x.qcow2", MachineClass: "standard"}
	}
	for name, r := range map[string]builds.MachineRequest{
		"has no copy at north-quay": {Image: "desk", Version: p.Numbers[1]},
		"is for machines of class standard": {
			Image: "desk", Version: p.Numbers[0], MachineClass: "graphics",
		},
		"co-001 is the name of a host":             standard("co-001"),
		"build-7 is the name of a build's machine": standard("build-7"),
		"build machine bm-new already exists":      standard("bm-new"),
		"needs a machine class":                    {BaseDisk: "x.qcow2"},
		"give one of them":                         {},
	} {
		r.Site = "north-quay"
		if r.Name == "" {
			r.Name = "bm-other"
		}
		_, err := p.Builds.CreateMachine(t.Context(), "jonas", r)
		require.ErrorContains(t, err, name)
	}
	require.NoError(t, p.Versions.Bar(t.Context(), "tove", "desk", p.Numbers[0], "tickets do not print"))
	_, err = p.Builds.CreateMachine(t.Context(), "jonas",
		builds.MachineRequest{Site: "north-quay", Name: "bm-more", Image: "desk", Version: p.Numbers[0]})
	require.ErrorIs(t, err, problem.VersionBlocked)
	rows, err := store.MachineRows(p.Store.DB, store.MachineFilter{Gone: true})
	require.NoError(t, err)
	require.Len(t, rows, 1, "nothing is left of what was refused")
}

func TestAMachineThatNobodyTouchesIsDiscardedAfterTwoNotices(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	made(t, p, "bm-new")
	after := func(d time.Duration) store.Machine {
		t.Helper()
		p.Time.At = p.Time.At.Add(d)
		require.NoError(t, p.Sweep(ctx))
		return known(t, p, "bm-new")
	}
	told := func() (titles []string) {
		t.Helper()
		today, err := p.Today(ctx)
		require.NoError(t, err)
		for _, m := range today {
			if m.Kind == matter.Machine {
				titles = append(titles, m.Title+": "+m.Detail)
			}
		}
		return titles
	}
	const day = 24 * time.Hour
	require.Zero(t, after(12*time.Hour).Notices)
	require.Empty(t, told())
	after(time.Minute)
	require.Equal(t, []string{
		"Build machine bm-new at north-quay has run for 12h1m, longer than the 12h that one may: " +
			"it is jonas's, for printers",
	}, told())
	_, err := p.Builds.StopMachine(ctx, "jonas", "north-quay", "bm-new")
	require.NoError(t, err)
	ends(t, p, "")
	require.Empty(t, told())
	require.Equal(t, int64(12*3600+60), known(t, p, "bm-new").RanSeconds)

	require.Zero(t, after(6*day-time.Second).Notices)
	require.Equal(t, 1, after(time.Second).Notices)
	require.Equal(t, 1, after(time.Hour).Notices)
	require.Equal(t, []string{
		"Build machine bm-new at north-quay is discarded on 2026-12-01 18:01 UTC: nobody has touched it since " +
			"2026-11-23 18:01 UTC; it is jonas's, for printers",
	}, told())
	_, err = p.Builds.KeepMachine(ctx, "jonas", "north-quay", "bm-new")
	require.NoError(t, err)
	require.Empty(t, told())
	require.Zero(t, after(6*day-time.Second).Notices)
	require.Equal(t, 1, after(time.Second).Notices)
	require.Equal(t, 2, after(day).Notices)
	require.Equal(t, machine.Off, after(day-time.Second).State)
	require.Equal(t, machine.Discarding, after(time.Second).State)
	require.Equal(t, machine.Discarding, after(time.Hour).State, "once is enough")
	ends(t, p, "the site's storage does not answer")
	m := known(t, p, "bm-new")
	require.Equal(t, machine.Off, m.State)
	require.Equal(t, "the site's storage does not answer", m.Why)
	require.Equal(t, machine.Discarding, after(time.Hour).State, "it is tried again")
	ends(t, p, "")
	require.Equal(t, machine.Gone, known(t, p, "bm-new").State)
	require.Empty(t, told())
	_, err = p.Builds.KeepMachine(ctx, "jonas", "north-quay", "bm-new")
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestAMachineThatIsBeingCapturedIsNotDiscarded(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	made(t, p, "bm-new")
	require.NoError(t, p.Store.DB.Exec("update versions set state = 'capturing', source = 'north-quay/bm-new' "+
		"where id = 4").Error)
	_, err := p.Builds.DiscardMachine(t.Context(), "jonas", "north-quay", "bm-new")
	require.ErrorIs(t, err, problem.Busy)
	require.NoError(t, p.Store.DB.Exec("update machines set notices = 2, noticed_at = touched_at").Error)
	p.Time.At = p.Time.At.Add(30 * 24 * time.Hour)
	require.NoError(t, p.Sweep(t.Context()))
	require.Equal(t, machine.Running, known(t, p, "bm-new").State)
}

func TestMachinesOfBuildsAreTheirs(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	b, err := p.Builds.StartBuild(ctx, "jonas", builds.Order{Text: "image: desk\nbase: {disk: x.qcow2}\n" +
		"machine: {site: north-quay}\n" +
		"steps: [{name: one, restart: {}}]\nversion: {notes: x}\n"}, 0, anyImage)
	require.NoError(t, err)
	require.NoError(t, p.Tick(ctx, store.BuildTicks, b.ID))
	m := known(t, p, "build-1")
	require.Equal(t, machine.Making, m.State)
	require.Equal(t, "build 1 of desk", m.Purpose)
	require.Equal(t, "jonas", m.Owner)
	for _, act := range []func(context.Context, string, string, string) (store.Machine, error){
		p.Builds.StartMachine, p.Builds.StopMachine, p.Builds.KeepMachine, p.Builds.DiscardMachine,
	} {
		_, err := act(ctx, "mira", "north-quay", "build-1")
		require.ErrorIs(t, err, problem.InUse)
	}
	ends(t, p, "")
	require.Equal(t, machine.Running, known(t, p, "build-1").State)
	p.Time.At = p.Time.At.Add(365 * 24 * time.Hour)
	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, machine.Running, known(t, p, "build-1").State, "a build sees to its machine itself")
	require.NoError(t, p.Tick(ctx, store.BuildTicks, b.ID)) // its time limit is over
	require.Equal(t, machine.Discarding, known(t, p, "build-1").State)
	ends(t, p, "")
	require.Equal(t, machine.Gone, known(t, p, "build-1").State)
}

func TestASealedMachineThatCouldNotBeDiscardedIsSealed(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	b, err := p.Builds.StartBuild(ctx, "jonas", builds.Order{Text: "image: desk\nbase: {disk: x.qcow2}\n" +
		"machine: {site: north-quay}\n" +
		"steps: [{name: one, restart: {}}]\n"}, 0, anyImage)
	require.NoError(t, err)
	require.NoError(t, p.Tick(ctx, store.BuildTicks, b.ID))
	ends(t, p, "")
	require.NoError(t, p.Store.DB.Exec("insert into works (key, kind, subject, attempt, site_id, input, state, "+
		"asked_at) values ('seal-1', 'seal-machine', 'build 1', 1, 1, '{}', 'succeeded', now())").Error)
	p.Time.At = p.Time.At.Add(24 * time.Hour)
	require.NoError(t, p.Tick(ctx, store.BuildTicks, b.ID)) // its time limit is over
	require.Equal(t, machine.Discarding, known(t, p, "build-1").State)
	ends(t, p, "the site's storage does not answer")
	m := known(t, p, "build-1")
	require.Equal(t, machine.Sealed, m.State)
	require.Equal(t, "the site's storage does not answer", m.Why)
}

func TestWhatSitesSayOfTheirMachinesIsWrittenDown(t *testing.T) {
	t.Parallel()
	p, w := inWorkshop(t)
	ctx := t.Context()
	seen := func(name string, state platform.MachineState) platform.BuildMachine {
		return platform.BuildMachine{Name: name, MachineClass: "standard", Base: "disk y.qcow2", State: state}
	}
	observed := func(machines ...platform.BuildMachine) {
		t.Helper()
		w.machines = machines
		require.NoError(t, p.Builds.Observe(ctx))
	}
	made(t, p, "bm-new")
	p.Time.At = p.Time.At.Add(time.Hour)
	observed(seen("bm-new", platform.MachineOff))
	m := known(t, p, "bm-new")
	require.Equal(t, machine.Off, m.State, "somebody powered it off")
	require.Equal(t, int64(3600), m.RanSeconds)
	observed(seen("bm-new", platform.MachineCapturing))
	require.Equal(t, machine.Off, known(t, p, "bm-new").State)
	observed(seen("bm-new", platform.MachineRunning))
	require.Equal(t, machine.Running, known(t, p, "bm-new").State)

	_, err := p.Builds.StopMachine(ctx, "jonas", "north-quay", "bm-new")
	require.NoError(t, err)
	observed(seen("bm-new", platform.MachineOff))
	require.Equal(t, machine.Stopping, known(t, p, "bm-new").State, "who stops it says how that ends")
	ends(t, p, "")
	w.failing = errors.New("no answer")
	observed()
	require.Equal(t, machine.Off, known(t, p, "bm-new").State, "who does not answer says nothing")
	w.failing = nil

	// A machine that could not be made, because the site has one of that name of its own.
	_, err = p.Builds.CreateMachine(ctx, "jonas", builds.MachineRequest{
		Site: "north-quay", Name: "bm-own", BaseDisk: "x.qcow2", MachineClass: "standard",
	})
	require.NoError(t, err)
	ends(t, p, "there is a build machine bm-own already")
	own := seen("bm-own", platform.MachineRunning)
	own.Own = true
	observed(seen("bm-new", platform.MachineOff), seen("bm-old", platform.MachineRunning), own)
	require.Equal(t, machine.Gone, known(t, p, "bm-own").State, "the site's own is not taken for it")
	m = known(t, p, "bm-old")
	require.Equal(t, machine.Running, m.State)
	require.Empty(t, m.Owner)
	require.Equal(t, "found at its site", m.Purpose)
	require.Equal(t, "y.qcow2", m.BaseDisk)
	p.Time.At = p.Time.At.Add(365 * 24 * time.Hour)
	require.NoError(t, p.Sweep(ctx))
	require.Zero(t, known(t, p, "bm-old").Notices, "nobody's machine is discarded by nobody")
	observed()
	require.Equal(t, machine.Gone, known(t, p, "bm-old").State)
	require.Equal(t, machine.Gone, known(t, p, "bm-new").State)
	rows, err := store.MachineRows(p.Store.DB, store.MachineFilter{Gone: true})
	require.NoError(t, err)
	require.Len(t, rows, 3)
}

func TestWhatIsDoneInABuildMachineIsInTheTrailBeforeItIsDone(t *testing.T) {
	t.Parallel()
	p, w := inWorkshop(t)
	ctx := t.Context()
	made(t, p, "bm-new")
	o, err := p.Builds.Run(ctx, "jonas", "north-quay", "bm-new",
		platform.Command{Path: "/usr/bin/apt", Args: []string{"update"}})
	require.NoError(t, err)
	require.Equal(t, 4, o.ExitCode)
	require.Equal(t, "build-machine.run-ended build machine bm-new", w.trail())
	require.Equal(t, []string{"build-machine.run build machine bm-new"}, w.told)

	w.failing = fmt.Errorf("run: %w", &platform.Refusal{Why: "bm-new has no shell"})
	var refused *problem.Problem
	_, err = p.Builds.Run(ctx, "jonas", "north-quay", "bm-new", platform.Command{Path: "/bin/true"})
	require.ErrorAs(t, err, &refused)
	require.EqualError(t, refused, "bm-new has no shell")
	require.Contains(t, w.trail(), "build-machine.run-failed build machine bm-new run: ")
	w.failing = context.DeadlineExceeded
	_, err = p.Builds.Run(ctx, "jonas", "north-quay", "bm-new", platform.Command{Path: "/bin/sleep"})
	require.ErrorIs(t, err, problem.TimedOut)
}

func TestNothingIsRunWhereNobodyCan(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	made(t, p, "bm-new")
	_, err := p.Builds.Run(t.Context(), "jonas", "north-quay", "bm-new", platform.Command{Path: "/bin/true"})
	require.ErrorIs(t, err, problem.NotConfigured)
	_, err = p.Builds.StartMachine(t.Context(), "jonas", "no-quay", "bm-new")
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = p.Builds.StartMachine(t.Context(), "jonas", "north-quay", "bm-none")
	require.ErrorIs(t, err, store.ErrNotFound)
}
