package subjects_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/machine"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
	"nimblepane/platform"
	"nimblepane/platform/practice/world"
)

// ground stands before the practice sites of a test as a platform with machines
// of its own, of which the test says how they are.
type ground struct {
	mu       sync.Mutex
	machines map[string]platform.Machine
	noRoom   string
	full     bool // deliveries are refused
	stuck    bool // machines do not shut down
	said     []string
	files    map[string][]byte
}

func (g *ground) say(format string, args ...any) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.said = append(g.said, fmt.Sprintf(format, args...))
}

func (g *ground) heard(what string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Contains(g.said, what)
}

func (g *ground) set(fn func()) { g.mu.Lock(); defer g.mu.Unlock(); fn() }

type grounded struct {
	platform.Platform
	*ground
}

func (g *ground) over(p platform.Platform) platform.Platform { return grounded{p, g} }

func (g grounded) Start(ctx context.Context, key string, op platform.Operation) error {
	g.mu.Lock()
	full, stuck := g.full, g.stuck
	g.mu.Unlock()
	if op.Kind == string(platform.StopMachine) && stuck {
		return &platform.Refusal{Why: "it did not shut down within 5m"}
	}
	if op.Kind == string(platform.MakeMachine) {
		m, err := platform.MakeMachine.Input(op)
		if err != nil {
			return err
		}
		g.say("make %s of %s from %v%s with %v", m.Name, m.MachineClass, m.Copies, m.BaseDisk, m.Size)
	}
	if op.Kind == string(platform.DeliverCopy) && full {
		return &platform.Refusal{Why: "its storage is full"}
	}
	if op.Kind == string(platform.DeleteDisk) {
		d, err := platform.DeleteDisk.Input(op)
		if err != nil {
			return err
		}
		g.say("delete disk %s", d.Name)
	}
	return g.Platform.Start(ctx, key, op)
}

func (g grounded) CheckRoom(_ context.Context, hosts []string, class string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.noRoom != "" {
		return &platform.Refusal{Why: fmt.Sprintf("%s for %d of class %s", g.noRoom, len(hosts), class)}
	}
	return nil
}

func (g grounded) Machine(_ context.Context, host string) (platform.Machine, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	m, ok := g.machines[host]
	if !ok {
		return m, platform.ErrUnknown
	}
	return m, nil
}

func (g grounded) PowerOn(_ context.Context, host string) error {
	g.say("power on %s", host)
	g.set(func() { g.machines[host] = platform.Machine{State: platform.MachineRunning, Node: "hv-1"} })
	return nil
}

func (g grounded) Nodes(context.Context) ([]platform.Node, error) {
	return []platform.Node{
		{Name: "hv-1", Cores: 8, Memory: 1 << 34},
		{Name: "hv-2", Unreachable: "hypervisor hv-2 does not answer"},
	}, nil
}

func (g grounded) Exec(ctx context.Context, name string, c platform.Command) (platform.Outcome, error) {
	if c.Path == "/bin/sleep" {
		<-ctx.Done()
		return platform.Outcome{}, ctx.Err()
	}
	return platform.Outcome{ExitCode: 3, Output: append([]byte(c.Path+" says "), c.Input...), Errors: []byte("but")},
		nil
}

func (g grounded) Put(_ context.Context, name, path string, content io.Reader) error {
	b, err := io.ReadAll(content)
	g.set(func() { g.files[path] = b })
	return err
}

func (g grounded) Get(_ context.Context, name, path string, into io.Writer) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	b, ok := g.files[path]
	if !ok {
		return &platform.Refusal{Why: "No such file or directory"}
	}
	_, err := io.Copy(into, bytes.NewReader(b))
	return err
}

func onGround(t *testing.T) (*servicetest.Service, *ground) {
	g := &ground{machines: map[string]platform.Machine{}, files: map[string][]byte{}}
	return servicetest.Start(t, servicetest.Options{Over: g.over}), g
}

func TestAMachineThatWasSwitchedOffIsStartedAgain(t *testing.T) {
	t.Parallel()
	s, g := onGround(t)
	s.Live("back-office")
	g.set(func() {
		g.machines["bo-002"] = platform.Machine{State: platform.MachineOff}
		g.machines["bo-003"] = platform.Machine{State: platform.MachineGone, Why: "somebody deleted it"}
	})
	s.Fault("south-quay", world.FallsSilent, "bo-00[23]")
	why := func(host, want string) {
		s.Until(host+" to say "+want, func() bool {
			h, err := s.As(role.Viewer).Host(t.Context(), host)
			require.NoError(t, err)
			return h.State == "faulty" && bytes.Contains([]byte(h.Why), []byte(want))
		})
	}
	why("bo-002", "; its machine was off and was started again")
	why("bo-003", "; somebody deleted it")
	require.True(t, g.heard("power on bo-002"))
	require.False(t, g.heard("power on bo-003"))
	h, err := s.As(role.Viewer).Host(t.Context(), "bo-002")
	require.NoError(t, err)
	require.Equal(t, platform.MachineRunning, h.Machine.State)
	entries, err := s.As(role.Viewer).Trail(t.Context(), client.TrailQuery{Verb: "host.power-on"}, 10)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	require.Equal(t, "host bo-002", entries[0].Subject)
	s.Fault("south-quay", "", "")
	s.Until("both to come back", func() bool {
		return len(hosts(t, s,
			client.HostQuery{Pool: "back-office", State: "serving"})) == 4
	})
}

func TestARolloverThatDoesNotFitIsNotBegun(t *testing.T) {
	t.Parallel()
	s, g := onGround(t)
	number := s.Captured("counter-desk", "bm-counter")
	_, err := s.As(role.Operator).Stage(t.Context(), "counter-desk", number, client.Staging{})
	require.NoError(t, err)
	g.set(func() { g.noRoom = "there is no room" })
	_, _, err = s.As(role.Operator).StartRollovers(t.Context(),
		client.StartRollovers{Pools: []string{"ticket-pilot"}, Options: client.Options{Floor: "0"}})
	require.ErrorIs(t, err, problem.WrongState)
	_, err = s.As(role.Administrator).LoadEstate(t.Context(), s.EstateFile(servicetest.Estate), false)
	require.ErrorIs(t, err, problem.WrongState)
	rows, err := s.As(role.Operator).Rollovers(t.Context(), "", "", false, 10)
	require.NoError(t, err)
	require.Empty(t, rows)
}

func TestADeliveryThatFailedIsDoneAgainAndRetiringGivesTheDiskUp(t *testing.T) {
	t.Parallel()
	s, g := onGround(t)
	ctx, c := t.Context(), s.As(role.Operator)
	g.set(func() { g.full = true })
	v, err := c.Capture(ctx, "counter-desk", client.Capture{BuildMachine: "bm-counter", Discard: true})
	require.NoError(t, err)
	number := v.Number
	state := func(want image.CopyState) func() bool {
		return func() bool {
			v, err = c.Version(ctx, "counter-desk", number)
			require.NoError(t, err)
			return len(v.Copies) == 4 && !slices.ContainsFunc(v.Copies,
				func(x client.Copy) bool { return x.State != want })
		}
	}
	s.Until("the deliveries to fail", state("failed"))
	require.Equal(t, "its storage is full", v.Copies[0].Failure)
	g.set(func() { g.full = false })
	d, err := c.Deliver(ctx, "counter-desk", number)
	require.NoError(t, err)
	require.Equal(t, 4, d.Copies)
	_, err = c.Retire(ctx, "counter-desk", number, "")
	require.ErrorIs(t, err, problem.InUse)
	s.Until("the deliveries to arrive", state("present"))
	_, err = c.Deliver(ctx, "counter-desk", number)
	require.ErrorIs(t, err, problem.NothingToDo)
	site, err := c.Site(ctx, "north-quay")
	require.NoError(t, err)
	require.Empty(t, site.BuildMachines, "it was discarded after its capture")
	_, err = c.Retire(ctx, "counter-desk", number, "")
	require.NoError(t, err)
	s.Until("the disk to be deleted", func() bool { return g.heard("delete disk counter-desk-" + number) })
}

func TestBuildMachinesOfAPlatformThatMakesThem(t *testing.T) {
	t.Parallel()
	s, g := onGround(t)
	ctx, c := t.Context(), s.As(role.Operator)
	number := s.Captured("counter-desk", "bm-counter")
	for _, bad := range []struct {
		in   client.NewBuildMachine
		want string
	}{
		{client.NewBuildMachine{Name: "bm-new"}, "give one of them"},
		{
			client.NewBuildMachine{Name: "bm-new", Image: "counter-desk", Version: number, BaseDisk: "x.qcow2"},
			"give one of them",
		},
		{client.NewBuildMachine{Name: "bm-new", BaseDisk: "x.qcow2"}, "needs a machine class"},
		{client.NewBuildMachine{Name: "bm-new", Image: "counter-desk", Version: "1999.01.1"}, "1999.01.1"},
		{
			client.NewBuildMachine{Name: "bm-new", Image: "counter-desk", Version: number, MachineClass: "graphics"},
			"omit the class",
		},
		{
			client.NewBuildMachine{Name: "tc-001", BaseDisk: "x.qcow2", MachineClass: "standard"},
			"is the name of a host",
		},
		{client.NewBuildMachine{Name: "Not A Name", BaseDisk: "x.qcow2", MachineClass: "standard"}, "name"},
	} {
		_, err := c.CreateBuildMachine(ctx, "north-quay", bad.in)
		require.ErrorContains(t, err, bad.want)
	}
	_, err := c.CreateBuildMachine(ctx, "no-quay",
		client.NewBuildMachine{Name: "bm-new", BaseDisk: "x.qcow2", MachineClass: "standard"})
	require.ErrorContains(t, err, "no-quay")
	_, err = s.As(role.Viewer).CreateBuildMachine(ctx, "north-quay",
		client.NewBuildMachine{Name: "bm-new", BaseDisk: "x.qcow2", MachineClass: "standard"})
	require.True(t, client.IsStatus(err, 403), "%v", err)
	require.False(t, g.heard("make bm-new of standard from []x.qcow2"))
	_, err = c.BuildMachine(ctx, "north-quay", "bm-new")
	require.True(t, client.IsStatus(err, 404), "%v", err)

	settled := func(want machine.State) (m client.BuildMachine) {
		t.Helper()
		s.Until("bm-new to be "+string(want), func() bool {
			m, err = c.BuildMachine(ctx, "north-quay", "bm-new")
			require.NoError(t, err)
			return m.State == want
		})
		return m
	}
	m, err := c.CreateBuildMachine(ctx, "north-quay", client.NewBuildMachine{
		Name: "bm-new", Image: "counter-desk", Version: number, Purpose: "to try a printer",
		Cores: 8, MemoryBytes: 16 << 30, DiskBytes: 60 << 30,
	})
	require.NoError(t, err)
	require.Equal(t, machine.Making, m.State)
	_, err = c.CreateBuildMachine(ctx, "north-quay",
		client.NewBuildMachine{Name: "bm-new", BaseDisk: "x.qcow2", MachineClass: "standard"})
	require.ErrorIs(t, err, problem.NameTaken)
	_, err = c.DiscardBuildMachine(ctx, "north-quay", "bm-new")
	require.ErrorIs(t, err, problem.Busy)
	m = settled(machine.Running)
	require.True(t, g.heard(fmt.Sprintf("make bm-new of standard from [counter-desk-%[1]s-copy-1 "+
		"counter-desk-%[1]s-copy-2] with {8 17179869184 64424509440}", number)), "%v", g.said)
	require.Equal(t, []int64{8, 16 << 30, 60 << 30}, []int64{int64(m.Cores), m.MemoryBytes, m.DiskBytes})
	require.Equal(t, "counter-desk "+number, m.Base)
	require.Equal(t, "to try a printer", m.Purpose)
	require.Equal(t, "operator", m.Owner)
	require.NotNil(t, m.StartedAt)
	require.NotNil(t, m.DiscardAt)
	require.Equal(t, "EUR", m.Currency)
	site, err := c.Site(ctx, "north-quay")
	require.NoError(t, err)
	require.Equal(t, "hypervisor hv-2 does not answer", site.Hypervisors[1].Unreachable)
	require.Len(t, site.BuildMachines, 2)
	_, err = c.StartBuildMachine(ctx, "north-quay", "bm-new")
	require.NoError(t, err, "it runs already")
	g.set(func() { g.stuck = true })
	_, err = c.StopBuildMachine(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	s.Until("the stop to fail", func() bool {
		m, err = c.BuildMachine(ctx, "north-quay", "bm-new")
		require.NoError(t, err)
		return m.State == machine.Running && m.Why == "it did not shut down within 5m"
	})
	g.set(func() { g.stuck = false })
	_, err = c.StopBuildMachine(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	m = settled(machine.Off)
	require.Empty(t, m.Why)
	require.Nil(t, m.StartedAt)
	require.Positive(t, m.RanSeconds)
	require.Regexp(t, `^[0-9]+\.[0-9]{2}$`, m.Cost)
	_, err = c.RunOnBuildMachine(ctx, "north-quay", "bm-new", client.RunProgram{Path: "/bin/cat"})
	require.ErrorIs(t, err, problem.WrongState)
	_, err = c.StartBuildMachine(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	settled(machine.Running)
	ended, err := c.RunOnBuildMachine(ctx, "north-quay", "bm-new",
		client.RunProgram{Path: "/bin/cat", Input: []byte("tides")})
	require.NoError(t, err)
	require.Equal(t, client.ProgramEnded{ExitCode: 3, Output: []byte("/bin/cat says tides"), Errors: []byte("but")},
		ended)
	_, err = c.RunOnBuildMachine(ctx, "north-quay", "bm-new", client.RunProgram{Path: "/bin/sleep", Seconds: 1})
	require.ErrorIs(t, err, problem.TimedOut)
	content := bytes.Repeat([]byte{0, 255, 10}, 700_000) // more than other requests may have
	require.NoError(t, c.PutOnBuildMachine(ctx, "north-quay", "bm-new", "/root/a file", content))
	got, err := c.GetFromBuildMachine(ctx, "north-quay", "bm-new", "/root/a file")
	require.NoError(t, err)
	require.Equal(t, content, got)
	_, err = c.GetFromBuildMachine(ctx, "north-quay", "bm-new", "/root/none")
	require.ErrorContains(t, err, "No such file")
	for _, name := range []string{"as it came", "with printers"} {
		_, err = c.CheckpointBuildMachine(ctx, "north-quay", "bm-new", name)
		require.NoError(t, err)
		_, err = c.RevertBuildMachine(ctx, "north-quay", "bm-new", "with printer")
		require.ErrorIs(t, err, problem.InvalidRequest)
		m = settled(machine.Running)
	}
	require.Len(t, m.Checkpoints, 2)
	_, err = c.CheckpointBuildMachine(ctx, "north-quay", "bm-new", "as it came")
	require.ErrorIs(t, err, problem.NameTaken)
	_, err = c.CheckpointBuildMachine(ctx, "north-quay", "bm-new", "two\nlines")
	require.ErrorIs(t, err, problem.InvalidRequest)
	_, err = c.RevertBuildMachine(ctx, "north-quay", "bm-new", "as it came")
	require.NoError(t, err)
	_, err = c.CheckpointBuildMachine(ctx, "north-quay", "bm-new", "meanwhile")
	require.ErrorIs(t, err, problem.WrongState)
	m = settled(machine.Running)
	require.Len(t, m.Checkpoints, 1)
	_, err = c.KeepBuildMachine(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	_, err = c.DiscardBuildMachine(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	m = settled(machine.Gone)
	require.NotNil(t, m.GoneAt)
	rows, err := c.BuildMachines(ctx, "", "", false, 10)
	require.NoError(t, err)
	require.Empty(t, rows)
	rows, err = c.BuildMachines(ctx, "north-quay", "operator", true, 10)
	require.NoError(t, err)
	require.Len(t, rows, 1)
	entries, err := c.Trail(ctx, client.TrailQuery{Subject: "build machine bm-new"}, 40)
	require.NoError(t, err)
	var verbs []string
	for _, e := range entries {
		verbs = append(verbs, e.Verb)
	}
	require.ElementsMatch(t, []string{
		"build-machine.create", "build-machine.make-end", "build-machine.stop", "build-machine.stop-fail",
		"build-machine.stop", "build-machine.stop-end", "build-machine.start", "build-machine.start-end",
		"build-machine.keep", "build-machine.run", "build-machine.run-ended",
		"build-machine.run", "build-machine.run-failed", "build-machine.put", "build-machine.get", "build-machine.get",
		"build-machine.get-failed", "build-machine.checkpoint", "build-machine.checkpoint-end",
		"build-machine.checkpoint", "build-machine.checkpoint-end", "build-machine.revert", "build-machine.revert-end",
		"build-machine.discard", "build-machine.discard-end",
	}, verbs)
}

func TestAProgramNobodyWaitsForStandsInTheTrail(t *testing.T) {
	t.Parallel()
	s, _ := onGround(t)
	operator, viewer := s.As(role.Operator), s.As(role.Viewer)
	_, err := operator.CreateBuildMachine(t.Context(), "north-quay",
		client.NewBuildMachine{Name: "bm-new", BaseDisk: "x.qcow2", MachineClass: "standard"})
	require.NoError(t, err)
	s.Until("bm-new to run", func() bool {
		m, err := viewer.BuildMachine(t.Context(), "north-quay", "bm-new")
		require.NoError(t, err)
		return m.State == machine.Running
	})
	told := func(verb string) func() bool {
		return func() bool {
			entries, err := viewer.Trail(t.Context(), client.TrailQuery{Verb: verb}, 10)
			require.NoError(t, err)
			return len(entries) == 1 && entries[0].Actor == string(role.Operator)
		}
	}
	waiting, leave := context.WithCancel(t.Context())
	defer leave()
	left := make(chan error, 1)
	go func() {
		_, err := operator.RunOnBuildMachine(waiting, "north-quay", "bm-new",
			client.RunProgram{Path: "/bin/sleep", Args: []string{"600"}, Seconds: 300})
		left <- err
	}()
	s.Until("the run to be told before it ends", told("build-machine.run"))
	leave()
	require.ErrorIs(t, <-left, context.Canceled)
	s.Until("its end to be told, though nobody waits for it", told("build-machine.run-failed"))
	entries, err := viewer.Trail(t.Context(), client.TrailQuery{Verb: "build-machine.run-failed"}, 1)
	require.NoError(t, err)
	require.Contains(t, entries[0].Reason, "nobody waited for the end of /bin/sleep, which may still run")
}

func TestWhatASiteHasOfItselfIsNobodysMachine(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	_, err := s.As(role.Operator).StartBuildMachine(t.Context(), "north-quay", "bm-counter")
	require.ErrorIs(t, err, problem.NotFound)
	site, err := s.As(role.Operator).Site(t.Context(), "north-quay")
	require.NoError(t, err)
	require.Empty(t, site.Hypervisors)
	require.True(t, site.BuildMachines[0].Own)
}

func TestABuildMachineIsMadeFromAHost(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	number := s.Live("ticket-counters")
	ctx, c := t.Context(), s.As(role.Operator)
	hostIs := func(state host.State) {
		t.Helper()
		s.Until("tc-001 to be "+string(state), func() bool {
			h, err := c.Host(ctx, "tc-001")
			require.NoError(t, err)
			return h.State == state
		})
	}
	_, err := c.CreateBuildMachine(ctx, "south-quay", client.NewBuildMachine{Name: "bm-copy", Host: "tc-001"})
	require.ErrorIs(t, err, problem.InvalidRequest)
	fails := func(chance world.FaultKind) { s.Fault("north-quay", chance, "tc-001") }
	fails(world.CloneFails)
	made := func() {
		t.Helper()
		_, err := c.CreateBuildMachine(ctx, "north-quay", client.NewBuildMachine{Name: "bm-copy", Host: "tc-001"})
		require.NoError(t, err)
	}
	made()
	s.Until("the copy to fail", func() bool {
		m, err := c.BuildMachine(ctx, "north-quay", "bm-copy")
		require.NoError(t, err)
		return m.State == machine.Gone || m.State == machine.Off && strings.Contains(m.Why, "the storage gave up")
	})
	hostIs(host.Serving)
	s.Until("the machine that was not made to be gone", func() bool {
		require.NoError(t, s.Subjects.Builds.Observe(ctx))
		m, err := c.BuildMachine(ctx, "north-quay", "bm-copy")
		require.NoError(t, err)
		return m.State == machine.Gone
	})
	fails("")
	made()
	s.Runs("bm-copy")
	m, err := c.BuildMachine(ctx, "north-quay", "bm-copy")
	require.NoError(t, err)
	require.Equal(t, "host tc-001, counter-desk "+number, m.Base)
	hostIs(host.Faulty)
	h, err := c.Host(ctx, "tc-001")
	require.NoError(t, err)
	require.Nil(t, h.SeenAt, "nobody speaks for it")
	today, err := c.Today(ctx)
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(today, func(m client.Matter) bool {
		return strings.Contains(m.Detail, "its disk was copied for build machine bm-copy")
	}), "%v", today)
	r, err := c.RebuildHost(ctx, "tc-001", client.RebuildHost{})
	require.NoError(t, err)
	s.Ended(r.ID)
	hostIs(host.Serving)
}
