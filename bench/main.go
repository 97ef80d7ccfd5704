// Command bench measures how fast the product is and prints a table.
//
// It starts a PostgreSQL of its own, with its usual care for the disk, and
// measures what people wait for: a decision, a page of hosts, heartbeats taken
// in over HTTP by a service process, and the engine's actions in a rollover of
// practice hosts that take no time. Beside it stands what pgbench makes that
// same PostgreSQL write.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"golang.org/x/sync/errgroup"

	"nimblepane/agent"
	"nimblepane/client"
	"nimblepane/core/host"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/engine/subjects"
	"nimblepane/platform/kinds"
	"nimblepane/platform/practice/world"
	"nimblepane/store"
	"nimblepane/store/localpg"
)

func main() {
	if text := os.Getenv(orderVariable); text != "" {
		var o order
		if err := json.Unmarshal([]byte(text), &o); err != nil {
			panic(err) // it is from this program
		}
		if err := o.follow(context.Background()); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		return
	}
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// results is the table.
type results struct{ t table.Writer }

func (r *results) add(what, measured, wanted string) {
	r.t.AppendRow(table.Row{what, measured, wanted})
	fmt.Fprintf(os.Stderr, "%s: %s\n", what, measured)
}

func run(ctx context.Context) (err error) {
	dir, err := os.MkdirTemp("/var/tmp", "nimblepane-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	port, err := localpg.FreePort()
	if err != nil {
		return err
	}
	db, err := localpg.Start(ctx, filepath.Join(dir), port, false)
	if err != nil {
		return err
	}
	defer db.Stop()
	r := &results{table.NewWriter()}
	r.t.AppendHeader(table.Row{"What", "Measured", "Wanted"})
	for _, m := range []struct {
		name    string
		measure func(context.Context, *results, *localpg.Server, string) error
	}{
		{"decision", decide},
		{"sheets", sheets},
		{"console", consoleOf}, // before what leaves the database much to tidy up
		{"log", logOf},
		{"machines", machines},
		{"software", softwareLists},
		{"bases", bases},
		{"deliveries", deliveries},
		{"pgbench", pgbench},
		{"page", hostPage},
		{"heartbeats", heartbeats},
		{"tick", idleTick},
		{"actions", actions},
	} {
		// All of them, or those that are named.
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], m.name) {
			continue
		}
		if err := m.measure(ctx, r, db, dir); err != nil {
			return fmt.Errorf("%s: %w", m.name, err)
		}
	}
	fmt.Printf("Measured %s on %d cores (%s), Go %s, with PostgreSQL and the senders on the same machine.\n\n%s\n",
		time.Now().UTC().Format(time.DateOnly), runtime.NumCPU(), cpu(), strings.TrimPrefix(runtime.Version(), "go"),
		r.t.RenderMarkdown())
	return nil
}

func cpu() string {
	text, _ := os.ReadFile("/proc/cpuinfo")
	m := regexp.MustCompile(`model name\s*: (.*)`).FindSubmatch(text)
	if m == nil {
		return runtime.GOARCH
	}
	return string(m[1])
}

// decide measures one decision for 10,000 hosts with 40,000 sessions.
func decide(_ context.Context, r *results, _ *localpg.Server, _ string) error {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	plan := rollover.DefaultOptions.Plan(rollover.Pool{Hosts: 10_000, SeatsPerHost: 6})
	plan.State, plan.Target, plan.LogOff = rollover.Running, 2, rollover.Warn
	s := rollover.Snapshot{Listening: now, Site: rollover.Site{ClonesLeft: 100, StartsLeft: 100}}
	for i := range 10_000 {
		h := rollover.Host{
			ID: int64(i), Name: fmt.Sprintf("h-%05d", i), State: host.Serving, Version: 1, Machine: true,
			Seats: 6, Phase: rollover.Queued, Since: now, Seen: now,
		}
		for n := range 4 {
			h.Sessions = append(h.Sessions, rollover.Session{Key: strconv.Itoa(n)})
		}
		if i < 1000 {
			h.State, h.Phase, h.Batch, h.Confirmed = host.Draining, rollover.Draining, 1, true
		}
		s.Hosts = append(s.Hosts, h)
	}
	b := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			rollover.Decide(plan, s, now)
		}
	})
	r.add("a decision for 10,000 hosts with 40,000 sessions", fmt.Sprintf("%.1f ms", float64(b.NsPerOp())/1e6),
		"under 20 ms")
	return nil
}

// pgbench says what this PostgreSQL writes at most: single updates, and rows in batches.
func pgbench(ctx context.Context, r *results, db *localpg.Server, dir string) error {
	programs, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if len(programs) == 0 {
		return errors.New("pgbench is not installed: it comes with PostgreSQL's server package")
	}
	bench := func(args ...string) (float64, error) {
		cmd := exec.CommandContext(ctx, programs[len(programs)-1],
			append(args, "-h", "127.0.0.1", "-p", strconv.Itoa(db.Port), "-U", "nimblepane", "postgres")...)
		cmd.Env = append(os.Environ(), "PGPASSWORD="+db.Password)
		out, err := cmd.CombinedOutput()
		if err != nil {
			return 0, fmt.Errorf("pgbench: %w: %s", err, out)
		}
		m := regexp.MustCompile(`tps = ([0-9.]+)`).FindSubmatch(out)
		if m == nil {
			return 0, nil
		}
		return strconv.ParseFloat(string(m[1]), 64)
	}
	if _, err := bench("-i", "-q", "-s", "5"); err != nil {
		return err
	}
	single, err := bench("-N", "-c", "16", "-j", "2", "-T", "5")
	if err != nil {
		return err
	}
	r.add("pgbench: single updates a second", fmt.Sprintf("%.0f", single), "-")
	const rows = 1000
	script := filepath.Join(dir, "batch.sql")
	text := fmt.Sprintf("\\set at random(1, 499000)\nupdate pgbench_accounts set abalance = abalance + 1 where aid "+
		"between :at and :at + %d;\n", rows-1)
	if err := os.WriteFile(script, []byte(text), 0o644); err != nil {
		return err
	}
	batches, err := bench("-n", "-f", script, "-c", "2", "-j", "2", "-T", "5")
	if err != nil {
		return err
	}
	r.add("pgbench: rows updated a second, in batches of 1,000", fmt.Sprintf("%.0f", batches*rows), "-")
	return nil
}

// loadEstate fills a database with a pool of n hosts that are enrolled: the
// credential of the nth host is its number.
func loadEstate(ctx context.Context, st *store.Store, address string, n int) error {
	now := time.Now()
	return st.Change(ctx, "bench", now, func(tx *store.Tx) error {
		for _, sql := range []string{
			fmt.Sprintf("insert into sites (name, title, platform, address, starts_per_minute, clones_per_copy) "+
				"values ('a', 'a', 'practice', '%s', 1000000, 1000)", address),
			"insert into images (name, title, numbering, machine_class, testers, soak_seconds, copies) values " +
				"('desk', 'desk', 'calendar', 'standard', 0, 0, 1)",
			"insert into tracks (image_id, name, position) select id, 'pilot', 0 from images",
			"insert into tracks (image_id, name, position) select id, 'live', 1 from images",
			fmt.Sprintf("insert into pools (name, title, site_id, image_id, track, host_count, host_prefix, "+
				"seats_per_host, machine_class) select 'p', 'p', s.id, i.id, 'pilot', %d, 'h', 4, 'standard' from "+
				"sites s, images i", n),
			fmt.Sprintf("insert into hosts (name, pool_id, state, since) select 'h-' || to_char(n, 'FM000000'), "+
				"p.id, 'off', now() from pools p, generate_series(1, %d) n", n),
			"insert into pulses (host_id, credential) select id, sha256(convert_to(id::text, 'UTF8')) from hosts",
		} {
			if err := tx.Exec(sql).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

func database(ctx context.Context, db *localpg.Server, name string) (*store.Store, error) {
	st, err := store.Open(ctx, db.URL("postgres"))
	if err != nil {
		return nil, err
	}
	defer st.Close()
	if err := st.DB.Exec("create database " + name).Error; err != nil {
		return nil, err
	}
	return store.Open(ctx, db.URL(name))
}

func hostPage(ctx context.Context, r *results, db *localpg.Server, _ string) error {
	st, err := database(ctx, db, "page")
	if err != nil {
		return err
	}
	defer st.Close()
	if err := loadEstate(ctx, st, "http://127.0.0.1:1", 10_000); err != nil {
		return err
	}
	if err := st.DB.Exec("analyze").Error; err != nil {
		return err
	}
	service, err := serve(db, "page", "")
	if err != nil {
		return err
	}
	defer service.stop()
	c, err := service.signIn(ctx)
	if err != nil {
		return err
	}
	took := make([]time.Duration, 201)
	for i := range took {
		began := time.Now()
		if _, err := c.HostPage(ctx, client.HostQuery{Pool: "p"}, 200); err != nil {
			return err
		}
		took[i] = time.Since(began)
	}
	slices.Sort(took)
	r.add(fmt.Sprintf("a page of 200 hosts out of 10,000, over HTTP, median of %d", len(took)),
		fmt.Sprintf("%.1f ms", float64(took[len(took)/2].Microseconds())/1000), "under 50 ms")
	return nil
}

// service is a service process.
type service struct {
	cmd *exec.Cmd
	url string
	db  *localpg.Server
	of  string
}

func serve(db *localpg.Server, name, practice string, more ...string) (*service, error) {
	port, err := localpg.FreePort()
	if err != nil {
		return nil, err
	}
	args := []string{
		"serve", "--database", db.URL(name), "--listen", fmt.Sprintf("127.0.0.1:%d", port),
		"--metrics-listen", "", "--log-level", "warn",
	}
	if practice != "" {
		args = append(args, "--practice-clock", practice)
	}
	args = append(args, more...)
	s := &service{
		cmd: exec.Command("bin/nimblepaned", args...), url: fmt.Sprintf("http://127.0.0.1:%d", port), db: db,
		of: name,
	}
	s.cmd.Stderr = os.Stderr
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if resp, err := http.Get(s.url + "/readyz"); err == nil {
			resp.Body.Close()
			return s, nil
		}
	}
	s.stop()
	return nil, errors.New("the service did not get ready")
}

func (s *service) stop() {
	_ = s.cmd.Process.Signal(os.Interrupt)
	_ = s.cmd.Wait()
}

const benchPassword = "only for the bench"

func (s *service) signIn(ctx context.Context) (*client.Client, error) {
	add := exec.CommandContext(ctx, "bin/nimblepaned", "account", "add", "bench", "--database", s.db.URL(s.of))
	add.Stdin = strings.NewReader(benchPassword)
	if out, err := add.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	in, err := client.New(s.url, "").SignIn(ctx, "bench", benchPassword, "bench")
	return client.New(s.url, in.Token), err
}

// heartbeats sends as many as the service takes in: the first of 100,000
// hosts, whose credentials it has to look up, and those from then on.
func heartbeats(ctx context.Context, r *results, db *localpg.Server, _ string) error {
	const hosts, senders, lasts = 100_000, 256, 15 * time.Second
	st, err := database(ctx, db, "beats")
	if err != nil {
		return err
	}
	defer st.Close()
	if err := loadEstate(ctx, st, "http://127.0.0.1:1", hosts); err != nil {
		return err
	}
	if err := st.DB.Exec("vacuum analyze").Error; err != nil {
		return err
	}
	service, err := serve(db, "beats", "")
	if err != nil {
		return err
	}
	defer service.stop()
	var first int64
	if err := st.DB.Raw("select min(id) from hosts").Scan(&first).Error; err != nil {
		return err
	}
	people := make([]agent.Session, 3)
	for i := range people {
		people[i] = agent.Session{Key: strconv.Itoa(i), Person: "Ida Strand", State: agent.Active, Since: time.Now()}
	}
	body, err := json.Marshal(agent.Heartbeat{Stamp: "desk 2026.11.1", Sessions: people})
	if err != nil {
		return err
	}
	var next, failed atomic.Int64
	// send has all senders at work, and returns how many heartbeats a second were taken in.
	send := func(more func(n int64) bool) (float64, error) {
		from, began := next.Load(), time.Now()
		var all errgroup.Group
		for range senders {
			all.Go(func() error {
				s, err := dial(service.url)
				if err != nil {
					return err
				}
				defer s.conn.Close()
				for n := next.Add(1); more(n); n = next.Add(1) {
					switch status, err := s.beat(first+n%hosts, body); {
					case err != nil:
						return err
					case status != http.StatusOK:
						failed.Add(1)
					}
				}
				next.Add(-1)
				return nil
			})
		}
		err := all.Wait()
		return float64(next.Load()-from) / time.Since(began).Seconds(), err
	}
	rate, err := send(func(n int64) bool { return n <= hosts })
	if err != nil {
		return err
	}
	r.add("heartbeats taken in a second, the first of each of 100,000 hosts",
		fmt.Sprintf("%.0f (%d failed)", rate, failed.Load()), "3,000")
	until := time.Now().Add(lasts)
	if rate, err = send(func(int64) bool { return time.Now().Before(until) }); err != nil {
		return err
	}
	r.add("heartbeats taken in a second from then on", fmt.Sprintf("%.0f (%d failed)", rate, failed.Load()), "10,000")
	return nil
}

// sender is a connection of an agent that costs this machine as little as it
// can: agents have machines of their own.
type sender struct {
	conn net.Conn
	in   *bufio.Reader
	out  bytes.Buffer
}

func dial(address string) (*sender, error) {
	conn, err := net.Dial("tcp", strings.TrimPrefix(address, "http://"))
	if err != nil {
		return nil, err
	}
	return &sender{conn: conn, in: bufio.NewReader(conn)}, nil
}

// beat sends a heartbeat of the host and waits for the answer.
func (s *sender) beat(host int64, body []byte) (status int, err error) {
	s.out.Reset()
	fmt.Fprintf(&s.out, "POST %s HTTP/1.1\r\nHost: bench\r\nAuthorization: Bearer %d\r\n"+
		"Content-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", agent.HeartbeatPath, host, len(body), body)
	if _, err := s.conn.Write(s.out.Bytes()); err != nil {
		return 0, err
	}
	resp, err := http.ReadResponse(s.in, nil)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	_, err = io.Copy(io.Discard, resp.Body)
	return resp.StatusCode, err
}

// idleTick measures a tick of a rollover of 2,000 hosts in which nothing happens.
func idleTick(ctx context.Context, r *results, db *localpg.Server, _ string) error {
	const hosts, rounds = 2000, 50
	st, err := database(ctx, db, "ticks")
	if err != nil {
		return err
	}
	defer st.Close()
	if err := loadEstate(ctx, st, "http://127.0.0.1:1", hosts); err != nil {
		return err
	}
	e, err := engine.New(st, engine.RealClock{}, engine.Options{
		Platforms: kinds.All(),
		Log:       slog.New(slog.DiscardHandler),
	})
	if err != nil {
		return err
	}
	subjects.Add(e, 0)
	options := rollover.DefaultOptions
	plan := options.Plan(rollover.Pool{Hosts: hosts, SeatsPerHost: 4})
	plan.State, plan.Target = rollover.Running, 1
	for _, sql := range []string{
		"insert into versions (image_id, number, state, source, captured_by, created_at) select id, '2026.11.1', " +
			"'sealed', 'a/bm', 'bench', now() from images",
		"alter table hosts disable trigger host_changes_state",
		// A batch of a tenth drains, and its people stay.
		"update hosts set state = 'serving', machine = true, unserved = false",
		"update hosts set state = 'draining', drain_order = 1 where id % 10 = 0",
		"alter table hosts enable trigger host_changes_state",
		`update pulses set seen_at = now(), drain_confirmed = (host_id % 10 = 0)::int, sessions = '[{"key": "1", "person": "Ida Strand"}, {"key": "2", "person": "Tove Dyke"}]'`,
	} {
		if err := st.DB.Exec(sql).Error; err != nil {
			return err
		}
	}
	row := store.Rollover{
		PoolID: 1, TargetID: 1, State: rollover.Running,
		Options: store.JSON[rollover.Options]{V: options}, Plan: store.JSON[rollover.Plan]{V: plan}, CreatedBy: "bench",
		CreatedAt: time.Now(),
	}
	if err := st.DB.Create(&row).Error; err != nil {
		return err
	}
	if err := st.DB.Exec("insert into rollover_hosts (rollover_id, host_id, phase, since, batch) select ?, id, case "+
		"when id % 10 = 0 then 'draining' else 'queued' end, now(), case when id % 10 = 0 then 1 else 0 end from hosts",
		row.ID).Error; err != nil {
		return err
	}
	if err := st.DB.Exec("vacuum analyze").Error; err != nil {
		return err
	}
	written := func() (n int64, err error) {
		err = st.DB.Raw("select pg_current_wal_insert_lsn() - '0/0'").Scan(&n).Error
		return n, err
	}
	tick := func() error { return e.Tick(ctx, store.RolloverTicks, row.ID) }
	if err := errors.Join(tick(), tick()); err != nil { // the first one may have something to say
		return err
	}
	before, err := written()
	if err != nil {
		return err
	}
	began := time.Now()
	for range rounds {
		if err := tick(); err != nil {
			return err
		}
	}
	took := time.Since(began)
	after, err := written()
	if err != nil {
		return err
	}
	r.add(fmt.Sprintf("a tick of a rollover of %d hosts, a tenth of which drain, in which nothing happens", hosts),
		fmt.Sprintf("%.1f ms, %d bytes written", float64(took.Microseconds())/1000/rounds, (after-before)/rounds),
		"under 20 ms, none")
	return nil
}

const instant = `
seed: 5
rate: 10
sites: [{name: a, clones-per-copy: 1000}]
build-machines: [{name: bm, site: a, machine-class: standard, base: vendor}]
`

// practising plays a scenario on loopback until it is stopped, and returns the address.
func practising(ctx context.Context, scenario string) (address string, stop func(), err error) {
	parsed, err := world.ParseScenario([]byte(scenario))
	if err != nil {
		return "", nil, err
	}
	w, err := world.New(parsed, "", slog.New(slog.DiscardHandler))
	if err != nil {
		return "", nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	playing, cancel := context.WithCancel(ctx)
	go func() { _ = w.Run(playing) }()
	server := &http.Server{Handler: w.Handler()}
	go func() { _ = server.Serve(listener) }()
	return listener.Addr().String(), func() {
		cancel()
		_ = server.Close()
	}, nil
}

// actions rolls 2,000 practice hosts that take no time, and counts what the engine did to them.
func actions(ctx context.Context, r *results, db *localpg.Server, _ string) error {
	const hosts = 2000
	address, stop, err := practising(ctx, instant)
	if err != nil {
		return err
	}
	defer stop()
	st, err := database(ctx, db, "actions")
	if err != nil {
		return err
	}
	defer st.Close()
	if err := loadEstate(ctx, st, "http://"+address, hosts); err != nil {
		return err
	}
	service, err := serve(db, "actions", "http://"+address)
	if err != nil {
		return err
	}
	defer service.stop()
	c, err := service.signIn(ctx)
	if err != nil {
		return err
	}
	began := time.Now()
	id, err := rollAll(ctx, c, "100%")
	if err != nil {
		return err
	}
	for done := false; !done; {
		time.Sleep(200 * time.Millisecond)
		one, err := c.Rollover(ctx, id)
		if err != nil {
			return err
		}
		if one.State == rollover.Paused || time.Since(began) > 5*time.Minute {
			hosts, _ := c.RolloverHosts(ctx, one.ID)
			text, _ := json.Marshal(hosts[:min(len(hosts), 3)])
			return fmt.Errorf("the rollover did not finish: %s: %s", one.PausedWhy, text)
		}
		done = one.Settled
	}
	took := time.Since(began)
	var n int64
	if err := st.DB.Raw("select count(*) from trail where scope = ? and subject like 'host %'",
		fmt.Sprintf("rollover %d", id)).Scan(&n).Error; err != nil {
		return err
	}
	r.add(fmt.Sprintf("host actions a second, rollover of %d hosts that take no time", hosts),
		fmt.Sprintf("%.0f (%d in %s)", float64(n)/took.Seconds(), n, took.Round(100*time.Millisecond)), "300")
	return nil
}
