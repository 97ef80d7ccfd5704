// Package e2e drives the built programs as processes, and the console in a browser.
package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/rollover"
	"nimblepane/internal/servicetest"
	"nimblepane/store/localpg"
	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const password = "a long enough one"

// bin is where make puts the programs.
var bin, _ = filepath.Abs("../../bin")

func start(t *testing.T, program string, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, program), args...)
	cmd.Stdout, cmd.Stderr = t.Output(), t.Output()
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(t, cmd.Start(), "make build first")
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	return cmd
}

func ready(t *testing.T, url string) {
	t.Helper()
	require.Eventually(t, func() bool {
		resp, err := http.Get(url + "/readyz")
		if err != nil {
			return false
		}
		resp.Body.Close()
		return resp.StatusCode == http.StatusOK
	}, 30*time.Second, 50*time.Millisecond)
}

func port(t *testing.T) string {
	t.Helper()
	n, err := localpg.FreePort()
	require.NoError(t, err)
	return "127.0.0.1:" + strconv.Itoa(n)
}

// metric reads a counter of a service.
func metric(t *testing.T, address, name string) float64 {
	t.Helper()
	resp, err := http.Get("http://" + address + "/metrics")
	if err != nil {
		return 0
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	m := regexp.MustCompile(`(?m)^` + regexp.QuoteMeta(name) + ` (\S+)$`).FindSubmatch(text)
	if m == nil {
		return 0
	}
	n, err := strconv.ParseFloat(string(m[1]), 64)
	require.NoError(t, err)
	return n
}

// wellFormed has promtool check what a service exports.
func wellFormed(t *testing.T, address string) {
	t.Helper()
	resp, err := http.Get("http://" + address + "/metrics")
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	require.Contains(t, string(text), `nimblepane_http_requests_total{code="200",method="POST",route="/agent/v1/heartbeat"}`)
	check := exec.CommandContext(t.Context(), "promtool", "check", "metrics")
	check.Stdin = bytes.NewReader(text)
	out, err := check.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func TestTwoServicesShareTheWorkAndEitherCanBeKilled(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	dir := t.TempDir()
	scenario := filepath.Join(dir, "scenario.yaml")
	require.NoError(t, os.WriteFile(scenario, []byte(
		servicetest.Scenario+"crowds:\n  - {hosts: tc-, people: 10, shifts: [\"00:00-23:59\"]}\n"), 0o600))
	practice, database := port(t), storetest.URL(t)
	start(t, "nimblepane-practice", "serve", "--address", practice, "--scenario", scenario, "--state",
		filepath.Join(dir, "world.json"))

	addresses := [2]string{port(t), port(t)}
	metrics := [2]string{port(t), port(t)}
	serve := func(i int) *exec.Cmd {
		// The agents speak to the first, as they would to a balancer before both.
		return start(t, "nimblepaned", "serve", "--database", database, "--listen", addresses[i], "--metrics-listen",
			metrics[i],
			"--agent-url", "http://"+addresses[0], "--practice-clock", "http://"+practice, "--log-level", "warn")
	}
	services := [2]*exec.Cmd{serve(0), serve(1)}
	for _, a := range addresses {
		ready(t, "http://"+a)
	}
	add := exec.CommandContext(ctx, filepath.Join(bin, "nimblepaned"), "account", "add", "mira", "--database", database)
	add.Stdin = strings.NewReader(password + "\n")
	out, err := add.CombinedOutput()
	require.NoError(t, err, string(out))
	in, err := client.New("http://"+addresses[1], "").SignIn(ctx, "mira", password, "test")
	require.NoError(t, err)
	c := client.New("http://"+addresses[0], in.Token)
	until := func(what string, is func() bool) {
		t.Helper()
		deadline := time.Now().Add(2 * time.Minute)
		for !is() {
			require.True(t, time.Now().Before(deadline), "it did not come about: %s", what)
			time.Sleep(50 * time.Millisecond)
		}
	}
	settled := func(id int64) func() bool {
		return func() bool {
			r, err := c.Rollover(ctx, id)
			return err == nil && r.Settled
		}
	}
	roll := func(pool string, o client.Options) int64 {
		t.Helper()
		rows, _, err := c.StartRollovers(ctx, client.StartRollovers{Pools: []string{pool}, Options: o})
		require.NoError(t, err)
		return rows[0].ID
	}
	capture := func() string {
		t.Helper()
		v, err := c.Capture(ctx, "counter-desk", client.Capture{BuildMachine: "bm-counter"})
		require.NoError(t, err)
		until("the copies", func() bool {
			v, err = c.Version(ctx, "counter-desk", v.Number)
			require.NoError(t, err)
			present := 0
			for _, x := range v.Copies {
				if x.State == "present" {
					present++
				}
			}
			return present == 4
		})
		_, err = c.Stage(ctx, "counter-desk", v.Number, client.Staging{})
		require.NoError(t, err)
		until("the pilot", settled(roll("ticket-pilot", servicetest.Quick)))
		_, err = c.Sign(ctx, "counter-desk", v.Number, client.Sign{Yes: true})
		require.NoError(t, err)
		_, err = c.Activate(ctx, "counter-desk", v.Number, client.Activation{})
		require.NoError(t, err)
		return v.Number
	}
	file := bytes.ReplaceAll([]byte(servicetest.Estate), []byte("WORLD"), []byte("http://"+practice))
	_, err = c.LoadEstate(ctx, file, false)
	require.NoError(t, err)
	capture()
	until("the first version", settled(roll("ticket-counters", servicetest.Quick)))
	two := capture()

	id := roll("ticket-counters", client.Options{Batch: "3", Floor: "0", LogOff: "warn", Grace: "2m"})
	inFlight := func(n int) func() bool {
		return func() bool {
			r, err := c.Rollover(ctx, id)
			return err == nil && r.Phases["rebuilding"]+r.Phases["checking"] > 0 && r.Phases["done"] >= n
		}
	}
	until("the middle of the first batch", inFlight(0))
	for _, m := range metrics {
		require.Positive(t, metric(t, m, "nimblepane_rollover_ticks_total"), "both take their share")
		require.Equal(t, 1.0, metric(t, m, `nimblepane_rollovers{pool="ticket-counters",state="running"}`))
	}
	wellFormed(t, metrics[0])
	require.NoError(t, services[1].Process.Kill())
	until("the other to go on alone", inFlight(1))
	require.NoError(t, services[0].Process.Kill())
	_ = services[0].Wait()
	serve(0)
	ready(t, "http://"+addresses[0])
	until("the end", settled(id))

	r, err := c.Rollover(ctx, id)
	require.NoError(t, err)
	require.Equal(t, rollover.Finished, r.State)
	require.Equal(t, map[rollover.Phase]int{rollover.Done: 8}, r.Phases)
	for _, verb := range []string{"host.drain", "host.rebuild", "host.return"} {
		entries, err := c.Trail(ctx, client.TrailQuery{Scope: fmt.Sprintf("rollover %d", id), Verb: verb}, 100)
		require.NoError(t, err)
		seen := map[string]bool{}
		for _, e := range entries {
			seen[e.Subject] = true
		}
		require.Len(t, entries, 8, verb)
		require.Len(t, seen, 8, verb)
	}
	hosts, err := c.Hosts(ctx, client.HostQuery{Pool: "ticket-counters", Version: two, State: "serving"})
	require.NoError(t, err)
	require.Len(t, hosts, 8)
	verdict, err := c.VerifyTrail(ctx, "")
	require.NoError(t, err)
	require.Empty(t, verdict.Breaks)
}

func TestTheServiceSaysWhatItsOptionsLack(t *testing.T) {
	t.Parallel()
	run := func(args ...string) string {
		out, err := exec.CommandContext(context.Background(), filepath.Join(bin, "nimblepaned"),
			args...).CombinedOutput()
		require.Error(t, err)
		return string(out)
	}
	require.Contains(t, run("serve"), "NIMBLEPANE_DATABASE")
	require.Contains(t, run("serve", "--log-level", "loud", "--database", "x"), "debug, info, warn or error")
	require.Contains(t, run("serve", "--tls-cert", "a.pem", "--database", "x"), "go together")
	require.Contains(t, run("serve", "--database", "postgres://127.0.0.1:1/x?connect_timeout=1"), "database")
	require.Contains(t, run("account", "add", "x", "--role", "captain", "--database", storetest.URL(t)),
		"viewer, operator, approver, administrator")
	file := filepath.Join(t.TempDir(), "nimblepane.yaml")
	require.NoError(t, os.WriteFile(file, []byte("database: postgres://127.0.0.1:1/from-file?connect_timeout=1\n"),
		0o600))
	require.NotContains(t, run("serve", "--config", file), "no database is given")
	for text, want := range map[string]string{
		"databse: x\n":                `there is no option "databse"; there are: `,
		"Database: x\n":               `there is no option "Database"`,
		"database: x\ndatabase: y\n":  "already defined",
		"database: x\n---\nlisten: y": "a second document",
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		require.Contains(t, run("serve", "--config", file), want)
	}
}
