package practice_test

import (
	"context"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/platform"
	"nimblepane/platform/platformtest"
	"nimblepane/platform/practice"
	"nimblepane/platform/practice/world"
)

const scenario = `
seed: 3
rate: 600
sites:
  - name: north-quay
    knobs: {clone: 2m, spread: 0.2, boot: 30s, check: 30s, capture: 2m, deliver: 2m}
build-machines:
  - {name: bm-counter, site: north-quay, machine-class: standard, base: vendor}
crowds:
  - {hosts: h-, people: 3, shifts: ["00:00-23:59"]}
`

// play runs a world until the test ends or stop is called, and returns its site.
func play(t *testing.T, file string) (site *practice.Site, w *world.World, stop func()) {
	t.Helper()
	s, err := world.ParseScenario([]byte(scenario))
	require.NoError(t, err)
	w, err = world.New(s, file, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- w.Run(ctx) }()
	server := httptest.NewServer(w.Handler())
	stopped := false
	stop = func() {
		if !stopped {
			stopped = true
			cancel()
			require.NoError(t, <-ended)
			server.Close()
		}
	}
	t.Cleanup(stop)
	return practice.New(server.URL, "north-quay"), w, stop
}

func TestConformance(t *testing.T) {
	t.Parallel()
	site, _, _ := play(t, "")
	platformtest.Test(t, platformtest.Bench{
		Platform: site, Site: "north-quay", BuildMachine: "bm-counter", MachineClass: "standard",
		Base: "vendor.qcow2", Patience: 20 * time.Second,
		Reach: func(address string) string { return address },
	})
}

func TestAWorldGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "world.json")
	site, w, stop := play(t, file)
	capture := platform.CaptureMachine.Of(platform.Capture{
		BuildMachine: "bm-counter", Disk: "d", Stamp: "desk d",
		MachineClass: "standard",
	})
	require.NoError(t, site.Start(t.Context(), "k", capture))
	stop()
	before := w.Clock().Shows

	again, w, _ := play(t, file)
	require.WithinRange(t, w.Clock().Shows, before, before.Add(time.Minute), "its clock stood still meanwhile")
	require.NoError(t, again.Start(t.Context(), "k", capture), "the key is known")
	require.Eventually(t, func() bool {
		p, err := again.Ask(t.Context(), "k")
		require.NoError(t, err)
		return p.State == platform.Succeeded
	}, 10*time.Second, 20*time.Millisecond)
}

func TestAFileThatIsNoWorldIsNotOverwritten(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "world.json")
	require.NoError(t, os.WriteFile(file, []byte("my diary"), 0o600))
	_, err := world.New(world.Scenario{}, file, slog.New(slog.DiscardHandler))
	require.ErrorContains(t, err, "does not hold a practice world")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, "my diary", string(text))
}

func TestBadScenariosAreExplained(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"sites: [{name: a, knobs: {spread: 2}}]":                                          "spread of 2",
		"sites: [{name: a, knobs: {faults: [{hosts: x, kind: floods, chance: 1}]}}]":      `"floods" is not known`,
		"sites: [{name: a, knobs: {faults: [{hosts: x, kind: check-fails, chance: 7}]}}]": "chance of 7",
		"crowds: [{hosts: x-, people: 3, shifts: [noon]}]":                                `shift "noon"`,
		"crowds: [{hosts: x-, people: 3}]":                                                "no shifts",
		"rate: -1":                                                                        "backwards",
		"tides: high":                                                                     "tides",
	} {
		_, err := world.ParseScenario([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
}
