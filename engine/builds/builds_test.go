package builds_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/engine"
	"nimblepane/engine/builds"
	"nimblepane/internal/enginetest"
	"nimblepane/platform"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// workshop is a platform that makes build machines. It notes what the trail
// said last when it was asked to do something.
type workshop struct {
	platform.Platform
	platform.Builder // what a test does not expect panics
	trail            func() string
	told             []string
	made             platform.BuildSpec
	failing          error
}

func (*workshop) CheckRoom(context.Context, []string, string) error { return nil }

func (*workshop) Close() {}

func (w *workshop) Create(_ context.Context, s platform.BuildSpec) error {
	w.told, w.made = append(w.told, w.trail()), s
	return w.failing
}

func (w *workshop) PowerOnBuild(context.Context, string) error {
	w.told = append(w.told, w.trail())
	return w.failing
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

func TestABuildMachineIsMadeFromTheCopiesThatAreAtItsSite(t *testing.T) {
	t.Parallel()
	p, w := inWorkshop(t)
	require.NoError(t, p.Builds.Create(t.Context(), "jonas",
		builds.BuildRequest{Site: "north-quay", Name: "bm-new", Image: "desk", Version: p.Numbers[0]}))
	require.Equal(t, platform.BuildSpec{
		Name: "bm-new", MachineClass: "standard", Base: "desk " + p.Numbers[0], Digest: "sha256:" + p.Numbers[0],
		Copies: []string{"desk-" + p.Numbers[0] + "-copy-1"},
	}, w.made)

	require.NoError(t, p.Store.DB.Exec("update copies set state = 'failed' where version_id = 2").Error)
	w.told = nil
	for name, r := range map[string]builds.BuildRequest{
		"has no copy at north-quay: deliver it there first": {Image: "desk", Version: p.Numbers[1]},
		"is for machines of class standard": {
			Image: "desk", Version: p.Numbers[0],
			MachineClass: "graphics",
		},
		"co-001 is the name of a host": {
			Name: "co-001", BaseDisk: "x.qcow2",
			MachineClass: "standard",
		},
		"needs a machine class":               {BaseDisk: "x.qcow2"},
		"what the build machine is made from": {},
	} {
		r.Site = "north-quay"
		if r.Name == "" {
			r.Name = "bm-other"
		}
		require.ErrorContains(t, p.Builds.Create(t.Context(), "jonas", r), name)
	}
	require.NoError(t, p.Versions.Bar(t.Context(), "tove", "desk", p.Numbers[0], "tickets do not print"))
	require.ErrorContains(t, p.Builds.Create(t.Context(), "jonas",
		builds.BuildRequest{Site: "north-quay", Name: "bm-new", Image: "desk", Version: p.Numbers[0]}), "is barred")
	require.Empty(t, w.told, "what is refused is not asked of the platform")
}

func TestWhatIsDoneToABuildMachineIsInTheTrailBeforeItIsDone(t *testing.T) {
	t.Parallel()
	p, w := inWorkshop(t)
	ctx := t.Context()
	require.NoError(t, p.Builds.Start(ctx, "jonas", "north-quay", "bm-counter"))
	o, err := p.Builds.Run(ctx, "jonas", "north-quay", "bm-counter",
		platform.Command{Path: "/usr/bin/apt", Args: []string{"update"}})
	require.NoError(t, err)
	require.Equal(t, 4, o.ExitCode)
	require.Equal(t, "build-machine.run-ended build machine bm-counter", w.trail())
	require.Equal(t, []string{
		"build-machine.start build machine bm-counter", "build-machine.run build machine bm-counter",
	}, w.told)
}

func TestWhatFailsOnABuildMachineIsSaidAndKept(t *testing.T) {
	t.Parallel()
	p, w := inWorkshop(t)
	w.failing = fmt.Errorf("start: %w", &platform.Refusal{Why: "bm-counter has no disk"})
	var problem *engine.Problem
	require.ErrorAs(t, p.Builds.Start(t.Context(), "jonas", "north-quay", "bm-counter"), &problem)
	require.EqualError(t, problem, "bm-counter has no disk")
	require.Contains(t, w.trail(), "build-machine.start-failed build machine bm-counter start: ")

	w.failing = errors.New("connection reset")
	require.EqualError(t, p.Builds.Start(t.Context(), "jonas", "north-quay", "bm-counter"), "connection reset")

	w.failing = context.DeadlineExceeded
	_, err := p.Builds.Run(t.Context(), "jonas", "north-quay", "bm-counter", platform.Command{Path: "/bin/sleep"})
	require.ErrorContains(t, err, "/bin/sleep did not end in time on bm-counter; it may still run there")
}

func TestASiteWithoutBuildMachinesSaysSo(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	require.ErrorContains(t, p.Builds.Start(t.Context(), "jonas", "north-quay", "bm-counter"),
		"build machines are not made here")
	require.ErrorIs(t, p.Builds.Start(t.Context(), "jonas", "no-quay", "bm-counter"), store.ErrNotFound)
}
