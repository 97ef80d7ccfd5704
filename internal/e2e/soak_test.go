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
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/agent"
	"nimblepane/client"
	"nimblepane/internal/servicetest"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

// used is what processes and their database take up when nothing goes on.
type used map[string]float64

// What is kept for good, because it is what happened, and the answers to
// repeated requests, which are kept for a day. All other rows are counted.
var history = []string{
	"trail", "rollovers", "rollover_hosts", "works", "versions", "track_moves", "sign_offs", "replies",
	"software", "software_lists", "software_in", "provenances", // of versions
	"events", // the newest 10,000, as is seen below
}

// allowed is how much of a thing there may be at the end, by what there was at the beginning.
func allowed(what string, before float64) float64 {
	if strings.HasPrefix(what, "rows") {
		return before*1.2 + 60
	}
	// Connections that are kept open come and go with what was asked last.
	return before*1.2 + 40
}

// TestSoak has people, rollovers, kills and broken agents at work for a while
// (NIMBLEPANE_SOAK, three minutes if it is not given), and sees that sockets,
// goroutines, memory and rows are at the end what they were after a sixth of it.
func TestSoak(t *testing.T) {
	t.Parallel()
	total := 3 * time.Minute
	if text := os.Getenv("NIMBLEPANE_SOAK"); text != "" {
		var err error
		total, err = time.ParseDuration(text)
		require.NoError(t, err)
	}
	dir := t.TempDir()
	scenario := filepath.Join(dir, "scenario.yaml")
	require.NoError(t, os.WriteFile(scenario, []byte(
		servicetest.Scenario+"crowds:\n  - {hosts: tc-, people: 12, shifts: [\"00:00-23:59\"]}\n  - {hosts: bo-, "+
			"people: 6, shifts: [\"00:00-23:59\"]}\n"), 0o600))
	practice, address, metrics, database := port(t), port(t), port(t), storetest.URL(t)
	playing := start(t, "nimblepane-practice", "serve", "--address", practice, "--scenario", scenario, "--state",
		filepath.Join(dir, "world.json"))
	serve := func() *exec.Cmd {
		cmd := start(t, "nimblepaned", "serve", "--database", database, "--listen", address, "--metrics-listen",
			metrics, "--practice-clock", "http://"+practice, "--log-level", "error")
		ready(t, "http://"+address)
		return cmd
	}
	service := serve()
	ctx := context.Background()
	add := exec.CommandContext(ctx, filepath.Join(bin, "nimblepaned"), "account", "add", "mira", "--database", database)
	add.Stdin = strings.NewReader(password + "\n")
	out, err := add.CombinedOutput()
	require.NoError(t, err, string(out))
	in, err := client.New("http://"+address, "").SignIn(ctx, "mira", password, "soak")
	require.NoError(t, err)
	c := client.New("http://"+address, in.Token)
	_, err = c.LoadEstate(ctx, bytes.ReplaceAll([]byte(servicetest.Estate), []byte("WORLD"),
		[]byte("http://"+practice)), false)
	require.NoError(t, err)
	st, err := store.Open(ctx, database)
	require.NoError(t, err)
	defer st.Close()

	var versions []string
	for range 2 {
		v, err := c.Capture(ctx, "counter-desk", client.Capture{BuildMachine: "bm-counter"})
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			v, err = c.Version(ctx, "counter-desk", v.Number)
			return err == nil && len(v.Copies) == 4 && !slices.ContainsFunc(v.Copies,
				func(x client.Copy) bool { return x.State != "present" })
		}, time.Minute, 100*time.Millisecond)
		versions = append(versions, v.Number)
	}

	// Load stops at the gate while things are measured. What fails because the
	// service is away is what is to be survived.
	var gate sync.RWMutex
	loading, stop := context.WithCancel(ctx)
	var load sync.WaitGroup
	defer load.Wait()
	defer stop()
	again := func(every time.Duration, do func(n int)) {
		load.Go(func() {
			tick := time.NewTicker(every)
			defer tick.Stop()
			for n := 0; ; n++ {
				select {
				case <-loading.Done():
					return
				case <-tick.C:
				}
				gate.RLock()
				do(n)
				gate.RUnlock()
			}
		})
	}
	settled := func() bool {
		open, err := c.Rollovers(ctx, "", "", true, 10)
		for _, r := range open {
			if r.State == "paused" {
				_, _ = c.ChangeRollover(ctx, r.ID, "resume", "")
			}
		}
		return err == nil && len(open) == 0
	}
	again(500*time.Millisecond, func(n int) {
		if !settled() {
			if n%9 == 0 {
				if open, err := c.Rollovers(ctx, "", "", true, 10); err == nil && len(open) > 0 {
					_, _ = c.ChangeRollover(ctx, open[0].ID, "stop", "soak")
				}
			}
			return
		}
		_, _ = c.Activate(ctx, "counter-desk", versions[n%2], client.Activation{
			Overrule: true, Reason: "soak",
			Redirect: n%3 > 0,
		})
		_, _, _ = c.StartRollovers(ctx, client.StartRollovers{
			Pools:   []string{"ticket-counters", "back-office"},
			Options: client.Options{Batch: "50%", Floor: "0", LogOff: "warn", Grace: "1m"},
		})
	})
	plain := &http.Client{Timeout: 10 * time.Second}
	send := func(method, path, bearer, body string) {
		req, err := http.NewRequestWithContext(ctx, method, "http://"+address+path, strings.NewReader(body))
		if err != nil {
			return
		}
		req.Header.Set("Authorization", "Bearer "+bearer)
		req.Header.Set("Content-Type", "application/json")
		if resp, err := plain.Do(req); err == nil {
			_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
			resp.Body.Close()
		}
	}
	junk := []string{
		`{"stamp":"\u0000"}`, `{`, `{"done":[1,2,3]}`, `{"load":1e300}`, strings.Repeat("[", 5000),
		`{"sessions":[{"key":"a","person":"b","state":"idle","since":"0000-01-01T00:00:00Z"}]}`,
	}
	again(20*time.Millisecond, func(n int) {
		send("POST", agent.HeartbeatPath, fmt.Sprintf("nobody-%d", n%100), junk[n%len(junk)])
	})
	again(5*time.Second, func(n int) {
		send("POST", "/api/v1/session", "", fmt.Sprintf(`{"name":"guess-%d","password":"a guess of mine"}`, n%20))
	})
	again(300*time.Millisecond, func(n int) {
		_, _ = c.Today(ctx)
		_, _ = c.Hosts(ctx, client.HostQuery{})
		_, _ = c.Sessions(ctx, client.SessionQuery{})
		watching, done := context.WithTimeout(ctx, 200*time.Millisecond)
		_ = c.Watch(watching, func(client.Event) error { return nil })
		done()
	})

	var tables []string
	require.NoError(t, st.DB.Raw("select table_name from information_schema.tables where table_schema = 'public' "+
		"and table_type = 'BASE TABLE' and table_name not in ? order by 1", history).Scan(&tables).Error)
	count := func(what string) (n float64) {
		require.NoError(t, st.DB.Raw("select count(*) from "+what).Scan(&n).Error)
		return n
	}
	heap := func() float64 { return metric(t, metrics, "go_memstats_heap_inuse_bytes") }
	measure := func() used {
		gate.Lock()
		defer gate.Unlock()
		plain.CloseIdleConnections()
		require.Eventually(t, settled, 2*time.Minute, 200*time.Millisecond, "the rollovers do not end")
		require.Eventually(t, func() bool { return count("river_job") < 20 }, 3*time.Minute, time.Second,
			"jobs that were done are not forgotten")
		require.Zero(t, count("replies where created_at < now() - interval '25 hours'"))
		require.LessOrEqual(t, count("events"), 10_500.0)
		least := used{}
		note := func(what string, n float64) {
			if have, ok := least[what]; !ok || n < have {
				least[what] = n
			}
		}
		// The least of some looks is what is there when nothing goes on.
		for range 20 {
			for name, p := range map[string]*exec.Cmd{"service": service, "practice": playing} {
				files, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", p.Process.Pid))
				require.NoError(t, err)
				note("open files of the "+name, float64(len(files)))
			}
			note("goroutines of the service", metric(t, metrics, "go_goroutines"))
			for _, table := range tables {
				note("rows of "+table, count(table))
			}
			select {
			case <-ctx.Done():
			case <-time.After(200 * time.Millisecond): // between two looks
			}
		}
		return least
	}
	// kill ends the service as a power cut would, and starts it again.
	kill := func() {
		require.NoError(t, service.Process.Kill())
		_ = service.Wait()
		service = serve()
	}
	wait := func(d time.Duration) {
		select {
		case <-ctx.Done():
		case <-time.After(d):
		}
	}
	wait(total / 12)
	kill()
	wait(total / 12)
	before, memory := measure(), heap()
	rolled := count("rollovers")
	for range 2 {
		wait(total / 8)
		kill()
	}
	wait(total - total/6 - total/4)
	after := measure()
	require.Greater(t, count("rollovers"), 2*rolled, "rollovers went on to the end")
	for what, n := range before {
		t.Logf("%s: %.0f, then %.0f", what, n, after[what])
		require.LessOrEqual(t, after[what], allowed(what, n), what)
	}
	// What is not used any more is collected after two minutes at the latest.
	require.Eventually(t, func() bool { return heap() <= memory*1.5+24<<20 }, 3*time.Minute, time.Second,
		"memory in use: %.0f bytes, then %.0f", memory, heap())
	verdict, err := c.VerifyTrail(ctx, "")
	require.NoError(t, err)
	require.Empty(t, verdict.Breaks)
	require.Greater(t, verdict.Entries, int64(200), "something went on")
}
