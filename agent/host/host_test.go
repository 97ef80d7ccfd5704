package host_test

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/agent"
	"nimblepane/agent/host"
	"nimblepane/agent/seed"
)

// system is a machine of which a test says who is on it.
type system struct {
	mu       sync.Mutex
	sessions []agent.Session
	unknown  error // why the sessions are not known
	sentence string
	told     []string
	name     string
}

func (s *system) locked(fn func()) { s.mu.Lock(); defer s.mu.Unlock(); fn() }

func (s *system) Sessions(context.Context) ([]agent.Session, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sessions, s.unknown
}

func (s *system) Refuse(_ context.Context, sentence string) error {
	s.locked(func() { s.sentence = sentence })
	return nil
}

func (s *system) Admit(context.Context) error { s.locked(func() { s.sentence = "" }); return nil }

func (s *system) Tell(_ context.Context, key, text string) error {
	s.locked(func() { s.told = append(s.told, key+": "+text) })
	return nil
}

func (s *system) SignOff(_ context.Context, key string) error {
	s.locked(func() { s.sessions = nil })
	return nil
}

func (s *system) Load(context.Context) (float64, error) { return 0.5, nil }

func (s *system) Rename(_ context.Context, name string) error {
	s.locked(func() { s.name = name })
	return nil
}

// service answers as a test says, and remembers heartbeats.
type service struct {
	mu     sync.Mutex
	answer agent.Answer
	down   bool
	token  string
	beats  []agent.Heartbeat
}

func (s *service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.down:
		w.WriteHeader(http.StatusServiceUnavailable)
	case r.URL.Path == agent.EnrolPath:
		var in agent.EnrolRequest
		if json.NewDecoder(r.Body).Decode(&in) != nil || in.Token != s.token {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		s.token = ""
		_ = json.NewEncoder(w).Encode(agent.EnrolReply{Host: "tc-001", Credential: "secret of " + in.Token})
	case r.Header.Get("Authorization") != "Bearer secret of t-1":
		w.WriteHeader(http.StatusUnauthorized)
	default:
		var b agent.Heartbeat
		_ = json.NewDecoder(r.Body).Decode(&b)
		s.beats = append(s.beats, b)
		answer := s.answer
		answer.NextMillis = 5
		_ = json.NewEncoder(w).Encode(answer)
	}
}

func (s *service) set(a agent.Answer) { s.mu.Lock(); defer s.mu.Unlock(); s.answer = a }

func (s *service) last() (b agent.Heartbeat, n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if n = len(s.beats); n > 0 {
		b = s.beats[n-1]
	}
	return b, n
}

type bench struct {
	*testing.T
	system  *system
	service *service
	url     string
	options host.Options
}

func newBench(t *testing.T) *bench {
	b := &bench{T: t, system: &system{}, service: &service{token: "t-1"}}
	server := httptest.NewServer(b.service)
	t.Cleanup(server.Close)
	b.url = server.URL
	dir := t.TempDir()
	b.options = host.Options{
		Stamp: filepath.Join(dir, "stamp"), State: filepath.Join(dir, "state", "agent.json"),
		Checks: filepath.Join(dir, "checks"), CheckLimit: 10 * time.Second, Sentence: "come back later",
		Seed:   func() (seed.Seed, error) { return seed.Seed{Name: "tc-001", Service: server.URL, Token: "t-1"}, nil },
		Caller: func(service string) agent.Caller { return agent.Caller{URL: service, HTTP: server.Client()} },
		Log:    slog.New(slog.DiscardHandler),
	}
	require.NoError(t, os.WriteFile(b.options.Stamp, []byte("counter-desk 2026.11.1\n"), 0o600))
	return b
}

// run runs an agent until the returned function is called.
func (b *bench) run() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- host.New(b.system, b.options).Run(ctx) }()
	once := sync.OnceFunc(func() {
		cancel()
		require.NoError(b, <-ended)
	})
	b.Cleanup(once)
	return once
}

func (b *bench) until(what string, is func(agent.Heartbeat) bool) {
	b.Helper()
	require.Eventually(b, func() bool {
		beat, n := b.service.last()
		return n > 0 && is(beat)
	}, 20*time.Second, 2*time.Millisecond, what)
}

func (b *bench) sentence() (s string) { b.system.locked(func() { s = b.system.sentence }); return s }

func TestANewHostRefusesUntilItIsTold(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.service.set(agent.Answer{Drain: 7})
	stop := b.run()
	b.until("the drain to be confirmed", func(h agent.Heartbeat) bool { return h.Drain == 7 })
	require.Equal(t, "come back later", b.sentence())
	b.system.locked(func() { require.Equal(t, "tc-001", b.system.name) })
	beat, _ := b.service.last()
	require.Equal(t, "counter-desk 2026.11.1", beat.Stamp)
	st, err := os.Stat(b.options.State)
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o600), st.Mode().Perm(), "only its owner reads the credential")

	// Started again while drained, it refuses before it has heard anything.
	stop()
	b.system.locked(func() { b.system.sentence = "" })
	b.service.mu.Lock()
	b.service.down = true
	b.service.mu.Unlock()
	stop = b.run()
	require.Eventually(t, func() bool { return b.sentence() == "come back later" }, 5*time.Second, time.Millisecond)
	stop()
	b.service.mu.Lock()
	b.service.down, b.service.answer = false, agent.Answer{}
	b.service.mu.Unlock()
	b.run()
	b.until("people to be admitted", func(h agent.Heartbeat) bool { return h.Drain == 0 && b.sentence() == "" })
}

func TestOrdersAreCarriedOutOnceAndReportedUntilTheyAreTaken(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.system.sessions = []agent.Session{{Key: "c1", Person: "wilma", State: agent.Active}}
	b.service.set(agent.Answer{Orders: []agent.Order{
		{ID: 1, Kind: "tell", Session: "c1", Text: "save your work"},
		{ID: 3, Kind: "dance", Session: "c1"},
	}})
	b.run()
	b.until("the order to be reported", func(h agent.Heartbeat) bool { return len(h.Done) == 1 && h.Done[0] == 1 })
	_, before := b.service.last()
	b.until("some more heartbeats", func(agent.Heartbeat) bool { _, n := b.service.last(); return n > before+3 })
	b.system.locked(func() {
		require.Equal(t, []string{"c1: save your work"}, b.system.told, "told once, though the order was repeated")
	})
	b.service.set(agent.Answer{Orders: []agent.Order{{ID: 2, Kind: "sign-off", Session: "c1"}}})
	b.until("the session to be gone", func(h agent.Heartbeat) bool {
		return len(h.Sessions) == 0 && len(h.Done) == 1 && h.Done[0] == 2
	})
}

func TestWhenSessionsAreNotKnownNothingIsReported(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.run()
	b.until("a heartbeat", func(agent.Heartbeat) bool { return true })
	b.system.locked(func() { b.system.unknown = errors.New("logind does not answer") })
	// One may be on its way; then there is silence, for a second at least.
	_, n := b.service.last()
	require.Never(t, func() bool { _, now := b.service.last(); return now > n+1 }, 500*time.Millisecond,
		10*time.Millisecond)
	b.system.locked(func() { b.system.unknown = nil })
	b.until("a heartbeat again", func(agent.Heartbeat) bool { _, now := b.service.last(); return now > n+1 })
}

func TestANewSeedEnrolsAnew(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	stop := b.run()
	b.until("a heartbeat", func(agent.Heartbeat) bool { return true })
	stop()
	// The disk of a rebuilt host brings another token; here the state file survived.
	text, err := os.ReadFile(b.options.State)
	require.NoError(t, err)
	var kept map[string]any
	require.NoError(t, json.Unmarshal(text, &kept))
	kept["credential"], kept["token"] = "of long ago", "another"
	text, err = json.Marshal(kept)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(b.options.State, text, 0o600))
	b.service.mu.Lock()
	b.service.token, b.service.beats = "t-1", nil
	b.service.mu.Unlock()
	b.run()
	b.until("a heartbeat with the new credential", func(agent.Heartbeat) bool { return true })
}

func TestAStateFileThatCannotBeReadIsSaid(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	require.NoError(t, os.MkdirAll(filepath.Dir(b.options.State), 0o700))
	require.NoError(t, os.WriteFile(b.options.State, []byte("{half"), 0o600))
	require.ErrorContains(t, host.New(b.system, b.options).Run(t.Context()), "agent.json")
}

func TestIntervalsGrow(t *testing.T) {
	t.Parallel()
	for failures, most := range map[int]time.Duration{
		1: time.Second, 2: 2 * time.Second, 5: 16 * time.Second,
		9: 256 * time.Second, 10: 5 * time.Minute, 1000: 5 * time.Minute,
	} {
		for range 50 {
			d := host.Backoff(failures)
			require.True(t, d >= most/2 && d <= most, "after %d failures: %s", failures, d)
		}
	}
}

func TestChecks(t *testing.T) {
	t.Parallel()
	check := func(limit time.Duration, programs map[string]string) string {
		dir := t.TempDir()
		for name, text := range programs {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+text), 0o755))
		}
		return host.Check(t.Context(), dir, limit)
	}
	require.Empty(t, host.Check(t.Context(), filepath.Join(t.TempDir(), "none"), time.Second))
	require.Empty(t, check(10*time.Second, map[string]string{"1-good": "exit 0", ".hidden": "exit 1"}))
	require.Equal(t, "2-bad: exit status 3: Fare Desk is missing",
		check(10*time.Second, map[string]string{
			"1-good": "exit 0", "2-bad": "echo Fare Desk is missing; exit 3",
			"3-later": "echo never >&2; exit 1",
		}))
	require.Equal(t, "1-slow: it did not end within 200ms: still at it",
		check(200*time.Millisecond, map[string]string{"1-slow": "echo still at it; sleep 60"}))
	require.Contains(t, check(10*time.Second, map[string]string{"1-long": "yes tide | head -1000; exit 1"}), "...")
}
