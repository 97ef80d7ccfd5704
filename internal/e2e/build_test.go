package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/internal/servicetest"
	"nimblepane/store/storetest"
)

const printerSheet = `
image: counter-desk
base: {disk: vendor.qcow2}
machine: {site: north-quay}
steps:
  - name: Fare Desk
    install: {packages: [fare-desk]}
  - name: Printer
    put: {to: /etc/printer.conf, text: "queue = counter"}
  - name: Restart
    restart: {}
version: {stage: true}
`

func TestABuildGoesOnThoughItsServiceIsKilledInEveryState(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	dir := t.TempDir()
	scenario, sheet := filepath.Join(dir, "scenario.yaml"), filepath.Join(dir, "sheet.yaml")
	slow := strings.Replace(servicetest.Scenario, "rate: 300", "rate: 30", 1)
	// The copies at the other site arrive once the first start was proved.
	north, south, _ := strings.Cut(slow, "name: south-quay")
	slow = north + "name: south-quay" + strings.Replace(south, "deliver: 60s", "deliver: 600s", 1)
	require.NoError(t, os.WriteFile(scenario, []byte(slow), 0o600))
	require.NoError(t, os.WriteFile(sheet, []byte(printerSheet), 0o600))
	practice, address, database := port(t), port(t), storetest.URL(t)
	start(t, "nimblepane-practice", "serve", "--address", practice, "--scenario", scenario, "--state",
		filepath.Join(dir, "world.json"))
	serve := func() *exec.Cmd {
		s := start(t, "nimblepaned", "serve", "--database", database, "--listen", address, "--metrics-listen", port(t),
			"--practice-clock", "http://"+practice, "--log-level", "warn")
		ready(t, "http://"+address)
		return s
	}
	service := serve()
	add := exec.CommandContext(ctx, filepath.Join(bin, "nimblepaned"), "account", "add", "mira", "--database", database)
	add.Stdin = strings.NewReader(password + "\n")
	out, err := add.CombinedOutput()
	require.NoError(t, err, string(out))
	in, err := client.New("http://"+address, "").SignIn(ctx, "mira", password, "test")
	require.NoError(t, err)
	c := client.New("http://"+address, in.Token)
	estate := strings.ReplaceAll(servicetest.Estate, "WORLD", "http://"+practice)
	_, err = c.LoadEstate(ctx, []byte(estate), false)
	require.NoError(t, err)

	following := exec.CommandContext(ctx, filepath.Join(bin, "pane"), "build", "start", sheet, "--follow")
	following.Env = append(os.Environ(), "NIMBLEPANE_URL=http://"+address, "NIMBLEPANE_TOKEN="+in.Token)
	var said strings.Builder
	following.Stdout, following.Stderr = &said, t.Output()
	require.NoError(t, following.Start())
	for _, state := range []build.State{
		build.Preparing, build.Working, build.Checking, build.Sealing, build.Capturing, build.Proving,
		build.Delivering,
	} {
		for deadline := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
			b, err := c.Build(ctx, 1)
			if err == nil && b.State == state {
				break
			}
			require.False(t, err == nil && b.State.Ended(), "it is %s, and was never seen to be %s: %s", b.State, state,
				b.Why)
			require.True(t, time.Now().Before(deadline), "build 1 does not get to be %s", state)
		}
		require.NoError(t, service.Process.Kill())
		_ = service.Wait()
		service = serve()
	}
	require.NoError(t, following.Wait(), "pane waited through all of it, and says that the version is ready")
	require.Contains(t, said.String(), "build 1 of counter-desk: ready, version ")

	var b client.WholeBuild
	require.Eventually(t, func() bool {
		b, err = c.Build(ctx, 1)
		return err == nil && b.Settled
	}, time.Minute, 50*time.Millisecond, "its machine is discarded")
	for _, step := range b.Steps {
		require.Equal(t, build.StepDone, step.State)
		require.Equal(t, 1, step.Attempts)
	}
	entries, err := c.Trail(ctx, client.TrailQuery{Scope: "build 1"}, 100)
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, e := range entries {
		what := fmt.Sprintf("%s %s", e.Verb, e.Detail)
		require.False(t, seen[what], "%s stands in the trail twice", what)
		seen[what] = true
	}
	image, err := c.Image(ctx, "counter-desk")
	require.NoError(t, err)
	require.Equal(t, b.Version, image.Tracks[0].Version)
	site, err := c.Site(ctx, "north-quay")
	require.NoError(t, err)
	require.Len(t, site.BuildMachines, 1, "only the scenario's own is there")
	versions, err := c.Versions(ctx, "counter-desk")
	require.NoError(t, err)
	require.Len(t, versions, 1)
}
