// Package servicetest runs the service and a practice world inside a test, on
// loopback and with a database of its own, for tests that drive the real
// interfaces.
package servicetest

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/api"
	"nimblepane/client"
	"nimblepane/core/estate"
	"nimblepane/core/image"
	"nimblepane/core/machine"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/core/seal"
	"nimblepane/core/secret"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/subjects"
	"nimblepane/platform"
	"nimblepane/platform/kinds"
	"nimblepane/platform/practice/world"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

// Password of every account of a test service.
const Password = "a long enough one"

// Service is a running service with its practice world.
type Service struct {
	URL         string
	Store       *store.Store
	Engine      *engine.Engine
	Subjects    *subjects.Subjects
	World       *world.World
	PlatformURL string
	Log         *slog.Logger

	t       testing.TB
	clients map[role.Role]*client.Client
}

// Options of a test service.
type Options struct {
	Scenario string // Scenario if empty
	Estate   string // Estate if empty; "none" loads nothing
	Console  fs.FS
	Secrets  secret.Finder
	// Repositories is a folder with git repositories that may be read.
	Repositories string
	// OwnChecks are the organisation's own seal checks.
	OwnChecks []seal.Script
	// Library is the organisation's own ready steps.
	Library sheet.Library
	// FetchElsewhere leaves the service without leave to fetch files from this computer.
	FetchElsewhere bool
	// BodyWithin is how long requests' bodies may take.
	BodyWithin time.Duration
	// Over, if given, returns the platform that stands before that of each practice site.
	Over func(platform.Platform) platform.Platform
}

// Scenario plays two small sites at a fast clock, with nobody at work.
const Scenario = `
seed: 11
start: 2026-11-23T06:00:00Z
rate: 300
sites:
  - name: north-quay
    knobs: {clone: 60s, spread: 0.2, boot: 20s, check: 20s, capture: 60s, deliver: 60s}
  - name: south-quay
    knobs: {clone: 60s, spread: 0.2, boot: 20s, check: 20s, capture: 60s, deliver: 60s}
build-machines:
  - {name: bm-counter, site: north-quay, machine-class: standard, base: vendor}
  - {name: bm-chart, site: south-quay, machine-class: graphics, base: vendor}
`

// Estate has one image with a pilot and two production pools, and one of another class.
const Estate = `
workshop: {currency: EUR, rates: {standard: "36"}}
sites:
  - {name: north-quay, platform: practice, address: WORLD, starts-per-minute: 600, clones-per-copy: 4}
  - {name: south-quay, platform: practice, address: WORLD, starts-per-minute: 600, clones-per-copy: 4}
images:
  - {name: counter-desk, machine-class: standard, clearance: {testers: 1, soak: 0s, copies: 2}}
  - {name: chart-desk, machine-class: graphics, numbering: semver, clearance: {testers: 0, soak: 0s, copies: 1}}
pools:
  - {name: ticket-pilot, site: north-quay, image: counter-desk, track: pilot, hosts: 2, host-prefix: tp, seats-per-host: 4, machine-class: standard}
  - {name: ticket-counters, site: north-quay, image: counter-desk, track: live, hosts: 8, host-prefix: tc, seats-per-host: 4, machine-class: standard}
  - {name: back-office, site: south-quay, image: counter-desk, track: live, hosts: 4, host-prefix: bo, seats-per-host: 4, machine-class: standard}
  - {name: chart-plotters, site: south-quay, image: chart-desk, track: live, hosts: 1, host-prefix: cp, seats-per-host: 4, machine-class: graphics}
`

// Start runs a service until the test ends.
func Start(t testing.TB, o Options) *Service {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	s := &Service{t: t, clients: map[role.Role]*client.Client{}}
	log := slog.New(slog.NewTextHandler(t.Output(), &slog.HandlerOptions{Level: slog.LevelWarn}))
	s.Log = log

	if o.Scenario == "" {
		o.Scenario = Scenario
	}
	scenario, err := world.ParseScenario([]byte(o.Scenario))
	require.NoError(t, err)
	s.World, err = world.New(scenario, "", log)
	require.NoError(t, err)
	played := make(chan error, 1)
	go func() { played <- s.World.Run(ctx) }()
	practice := httptest.NewServer(s.World.Handler())
	s.PlatformURL = practice.URL

	s.Store, err = store.Open(ctx, storetest.URL(t))
	require.NoError(t, err)
	clock, err := engine.NewPracticeClock(ctx, s.PlatformURL, log)
	require.NoError(t, err)
	go clock.Follow(ctx)

	// The agents have to be told where the service is before it is there.
	server := httptest.NewUnstartedServer(nil)
	s.URL = "http://" + server.Listener.Addr().String()
	s.Engine, err = engine.New(s.Store, clock, engine.Options{
		AgentURL: s.URL, Platforms: platforms(o), Secrets: o.Secrets, Log: log, Bases: t.TempDir(),
		FetchFromHere: !o.FetchElsewhere, Repositories: o.Repositories,
		OwnChecks: func() ([]seal.Script, error) { return o.OwnChecks, nil },
		Library:   func() (sheet.Library, error) { return o.Library, nil },
	})
	require.NoError(t, err)
	s.Subjects = subjects.Add(s.Engine, 0)
	handler, err := api.New(ctx, s.Engine, s.Subjects,
		api.Options{Version: "test", Console: o.Console, BodyWithin: o.BodyWithin, Log: log})
	require.NoError(t, err)
	server.Config.Handler = handler
	server.Config.BaseContext = nil
	server.Start()
	worked := make(chan error, 1)
	go func() { worked <- s.Engine.Run(ctx) }()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-played)
		require.NoError(t, <-worked)
		server.CloseClientConnections()
		server.Close()
		practice.Close()
		s.Store.Close()
	})

	for _, r := range role.Roles() {
		_, err := api.AddAccount(ctx, s.Engine, "test", client.NewAccount{Name: string(r), Role: r, Password: Password})
		require.NoError(t, err)
	}
	if o.Estate != "none" {
		if o.Estate == "" {
			o.Estate = Estate
		}
		_, err = s.As(role.Administrator).LoadEstate(ctx, s.EstateFile(o.Estate), false)
		require.NoError(t, err)
	}
	return s
}

func platforms(o Options) map[string]platform.Opener {
	all := kinds.All()
	if o.Over != nil {
		practice := all[estate.Practice]
		all[estate.Practice] = func(site estate.Site, env platform.Environment) (platform.Platform, error) {
			p, err := practice(site, env)
			return o.Over(p), err
		}
	}
	return all
}

// EstateFile fills the address of the practice world into an estate file.
func (s *Service) EstateFile(text string) []byte {
	return []byte(strings.ReplaceAll(text, "WORLD", s.PlatformURL))
}

// As returns a client of the account that has the role as its name.
func (s *Service) As(r role.Role) *client.Client {
	s.t.Helper()
	if c, ok := s.clients[r]; ok {
		return c
	}
	s.clients[r] = client.New(s.URL, s.Token(r))
	return s.clients[r]
}

// Token signs in as the account that has the role as its name.
func (s *Service) Token(r role.Role) string {
	s.t.Helper()
	in, err := client.New(s.URL, "").SignIn(context.Background(), string(r), Password, "test")
	require.NoError(s.t, err)
	return in.Token
}

// patience is generous: two busy cores may delay anything by a minute.
const patience = 4 * time.Minute

// Until waits for something that comes about by itself.
func (s *Service) Until(what string, is func() bool) {
	s.t.Helper()
	deadline := time.Now().Add(patience)
	for !is() {
		if time.Now().After(deadline) {
			require.FailNow(s.t, "it did not come about: "+what)
		}
		time.Sleep(25 * time.Millisecond)
	}
}

// MadeMachine makes a build machine of a base disk, which belongs to the operator, and waits until it runs.
func (s *Service) MadeMachine(name string) {
	s.t.Helper()
	_, err := s.As(role.Operator).CreateBuildMachine(context.Background(), "north-quay", client.NewBuildMachine{
		Name: name, BaseDisk: "vendor.qcow2", MachineClass: "standard",
	})
	require.NoError(s.t, err)
	s.Runs(name)
}

// Runs waits until a build machine does, after whatever was asked of it.
func (s *Service) Runs(name string) {
	s.t.Helper()
	s.Until(name+" to run", func() bool {
		m, err := s.As(role.Operator).BuildMachine(context.Background(), "north-quay", name)
		require.NoError(s.t, err)
		return m.State == machine.Running
	})
}

// Captured makes a version of an image, with all its copies.
func (s *Service) Captured(of, machine string) string {
	s.t.Helper()
	ctx := context.Background()
	c := s.As(role.Operator)
	v, err := c.Capture(ctx, of, client.Capture{BuildMachine: machine, Notes: "made for a test"})
	require.NoError(s.t, err)
	s.Until("copies of "+v.Number, func() bool {
		v, err := c.Version(ctx, of, v.Number)
		require.NoError(s.t, err)
		require.Empty(s.t, v.Failure)
		present := 0
		for _, c := range v.Copies {
			if c.State == image.CopyPresent {
				present++
			}
		}
		return v.State == image.Sealed && present == len(v.Copies) && present > 0
	})
	return v.Number
}

// Quick rolls all hosts of a pool at once.
var Quick = client.Options{Batch: "100%", Floor: "0"}

// Roll rolls pools over and returns when they are done.
func (s *Service) Roll(o client.Options, pools ...string) {
	s.t.Helper()
	rows, _, err := s.As(role.Operator).StartRollovers(context.Background(),
		client.StartRollovers{Pools: pools, Options: o})
	require.NoError(s.t, err)
	for _, r := range rows {
		s.Ended(r.ID)
	}
}

// Ended waits until a rollover is settled, and returns it.
func (s *Service) Ended(id int64) (r client.Rollover) {
	s.t.Helper()
	s.Until("the end of a rollover", func() bool {
		var err error
		r, err = s.As(role.Operator).Rollover(context.Background(), id)
		require.NoError(s.t, err)
		require.NotEqual(s.t, rollover.Paused, r.State, r.PausedWhy)
		return r.Settled
	})
	return r
}

// Tried stages a version, rolls the pilot pool and has a tester sign.
func (s *Service) Tried(number string) {
	s.t.Helper()
	ctx := context.Background()
	_, err := s.As(role.Operator).Stage(ctx, "counter-desk", number, client.Staging{})
	require.NoError(s.t, err)
	s.Roll(Quick, "ticket-pilot")
	_, err = s.As(role.Operator).Sign(ctx, "counter-desk", number, client.Sign{Yes: true})
	require.NoError(s.t, err)
}

// Live makes a first version and brings it into service in the pilot pool and the pools.
func (s *Service) Live(pools ...string) string {
	s.t.Helper()
	number := s.Captured("counter-desk", "bm-counter")
	s.Tried(number)
	s.Activated(number)
	if len(pools) > 0 {
		s.Roll(Quick, pools...)
	}
	return number
}

// Activated activates a version that has clearance.
func (s *Service) Activated(number string) {
	s.t.Helper()
	_, err := s.As(role.Approver).Activate(context.Background(), "counter-desk", number, client.Activation{})
	require.NoError(s.t, err)
}

// Fault makes something go wrong on hosts of a site from now on; no kind lets nothing go wrong.
func (s *Service) Fault(site string, kind world.FaultKind, hosts string) {
	s.t.Helper()
	k, err := s.World.Knobs(site)
	require.NoError(s.t, err)
	k.Faults = nil
	if kind != "" {
		k.Faults = []world.Fault{{Hosts: hosts, Kind: kind, Chance: 1}}
	}
	require.NoError(s.t, s.World.SetKnobs(site, k))
}
