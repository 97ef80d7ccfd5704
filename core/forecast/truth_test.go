package forecast

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/host"
	"nimblepane/core/rollover"
)

// These are tests of the model itself: that it does to people, machines and
// agents what its settings say. What they find wrong would make the rules hold
// in a world that there is not.

// calm is an estate in which nothing happens by itself.
var calm = Settings{
	Hosts: 1, SeatsPerHost: 4, Copies: 1, ClonesEach: 2, StartsPerMinute: 3, Heartbeat: 30 * time.Second,
	CloneTime: 4 * time.Minute, CheckTime: 2 * time.Minute, Stay: 10 * time.Minute,
}

// with changes the calm estate.
func with(change func(*Settings)) Settings {
	s := calm
	change(&s)
	return s
}

// estate is a model with a plan that takes any host at once.
func estate(s Settings) *Model {
	o := rollover.DefaultOptions
	o.Floor, o.Batch = rollover.Share{}, rollover.Share{Value: 100, Percent: true}
	return New(s, o.Plan(rollover.Pool{Hosts: s.Hosts, SeatsPerHost: s.SeatsPerHost}), start, 7)
}

func (m *Model) one() (*rollover.Host, *Machine) { return &m.Known.Hosts[0], &m.Truth[0] }

// present counts everybody who is signed in.
func (m *Model) present() (n int) {
	for _, t := range m.Truth {
		n += len(t.People)
	}
	return n
}

func TestANewEstateServesAndIsAboutToRollOver(t *testing.T) {
	t.Parallel()
	m := estate(with(func(s *Settings) { s.Hosts = 40 }))
	require.Equal(t, "model", m.Known.Site.Name)
	require.Equal(t, rollover.Planned, m.Plan.State)
	require.EqualValues(t, 2, m.Plan.Target)
	early, late := false, false
	for i, h := range m.Known.Hosts {
		require.Equal(t, rollover.Host{
			ID: int64(i + 1), Name: fmt.Sprintf("host-%04d", i+1), State: host.Serving, Version: 1, Stamp: 1,
			Machine: true, Seats: 4, Seen: start, Since: start, Phase: rollover.Queued,
		}, h)
		require.True(t, m.Truth[i].On)
		in := m.Truth[i].nextBeat.Sub(start)
		require.GreaterOrEqual(t, in, 15*time.Second)
		require.Less(t, in, 45*time.Second)
		early, late = early || in < 20*time.Second, late || in > 40*time.Second
	}
	require.True(t, early && late, "the agents do not all speak at once")

	m.Grow(1)
	added := rollover.Host{ID: 41, Name: "host-0041", State: host.Off, Seats: 4, Since: start}
	require.Equal(t, added, m.Known.Hosts[40])
	require.Equal(t, Machine{}, m.Truth[40])
}

func TestTheNextRolloverGoesToANewerVersion(t *testing.T) {
	t.Parallel()
	m := estate(with(func(s *Settings) { s.Hosts = 2 }))
	m.Holds, m.Settled, m.Now = []string{"a hold"}, true, start.Add(time.Hour)
	h := &m.Known.Hosts[0]
	h.Version, h.Phase, h.Batch, h.Rebuild = 3, rollover.Done, 1, rollover.Task{State: rollover.Succeeded}
	m.Begin(m.Plan)
	require.EqualValues(t, 3, m.Plan.Target)
	require.Equal(t, rollover.Planned, m.Plan.State)
	require.False(t, m.Settled)
	require.Empty(t, m.Holds)
	require.Equal(t, rollover.Outside, h.Phase, "it runs the version already")
	require.Zero(t, h.Batch)
	require.Zero(t, h.Rebuild)
	require.Equal(t, m.Now, h.Since)
	require.Equal(t, rollover.Queued, m.Known.Hosts[1].Phase)
}

func TestPeopleArriveAsManyAsTheSettingsSay(t *testing.T) {
	t.Parallel()
	crowd := with(func(s *Settings) {
		s.Hosts, s.SeatsPerHost, s.ArrivalsPerMinute, s.Stay = 10, 100, 3, 24*time.Hour
	})
	m := estate(crowd)
	m.Step(time.Minute)
	require.Equal(t, 3, m.present())
	m.Step(2 * time.Minute)
	require.Equal(t, 9, m.present())

	crowd.ArrivalsPerMinute = 0.25
	m = estate(crowd)
	for range 400 {
		m.Step(time.Minute)
	}
	require.InDelta(t, 100, m.present(), 25)
	keys, hosts := map[string]bool{}, 0
	for _, t := range m.Truth {
		hosts += min(1, len(t.People))
		for _, p := range t.People {
			keys[p.Key] = true
		}
	}
	require.Len(t, keys, m.present(), "each has a key of their own")
	require.Equal(t, 10, hosts, "they spread over the hosts")

	crowd.ArrivalsPerMinute, crowd.Closing = 1, 3*time.Minute
	m = estate(crowd)
	for range 10 {
		m.Step(time.Minute)
	}
	require.Equal(t, 2, m.present(), "nobody arrives at closing time or after it")
}

func TestPeopleStayAboutAsLongAsTheSettingsSay(t *testing.T) {
	t.Parallel()
	m := estate(with(func(s *Settings) { s.SeatsPerHost, s.ArrivalsPerMinute = 300, 300 }))
	m.Step(time.Minute)
	_, truth := m.one()
	require.Len(t, truth.People, 300)
	short, long := false, false
	for _, p := range truth.People {
		stay := p.Leaves.Sub(m.Now)
		require.GreaterOrEqual(t, stay, 5*time.Minute)
		require.Less(t, stay, 15*time.Minute)
		require.False(t, p.Clings)
		short, long = short || stay < 6*time.Minute, long || stay > 14*time.Minute
	}
	require.True(t, short && long)

	m.Settings.ArrivalsPerMinute = 0
	truth.People = []Person{
		{Key: "now", Leaves: m.Now.Add(time.Minute)},
		{Key: "later", Leaves: m.Now.Add(time.Minute + 1)},
		{Key: "signed off", Leaves: m.Now.Add(time.Hour), signOff: true},
		{Key: "clings", Leaves: m.Now.Add(time.Hour), signOff: true, Clings: true},
	}
	m.Step(time.Minute)
	require.Equal(t, []string{"later", "clings"}, []string{truth.People[0].Key, truth.People[1].Key})
	require.Len(t, truth.People, 2)

	m.Settings.ArrivalsPerMinute, m.Settings.IgnoresSignOff = 1, 1
	m.Step(time.Minute)
	require.True(t, truth.People[len(truth.People)-1].Clings)
}

func TestNobodyIsSignedInWhereNobodyCanBe(t *testing.T) {
	t.Parallel()
	settings := with(func(s *Settings) { s.Hosts, s.ArrivalsPerMinute = 2, 20 })
	for what, refuse := range map[string]func(*rollover.Host, *Machine){
		"it is off": func(_ *rollover.Host, m *Machine) { m.On = false },
		"it drains": func(_ *rollover.Host, m *Machine) {
			m.Refuses, m.SilentUntil = true, start.Add(time.Hour)
		},
		"it is not announced": func(h *rollover.Host, _ *Machine) { h.State = host.Checking },
	} {
		m := estate(settings)
		refuse(m.one())
		m.Step(time.Minute)
		require.Empty(t, m.Truth[0].People, what)
		require.Len(t, m.Truth[1].People, 4, "the others fill up, and not more: %s", what)
	}
	m := estate(with(func(s *Settings) { s.Hosts, s.ArrivalsPerMinute = 9, 4 }))
	for i := range m.Truth {
		m.Truth[i].Refuses, m.Truth[i].SilentUntil = i != 4, start.Add(time.Hour)
	}
	m.Step(time.Minute)
	require.Len(t, m.Truth[4].People, 4, "the one that takes people is found, wherever they begin")
}

func TestAnAgentReportsAtItsIntervalAndConfirmsAHeartbeatLater(t *testing.T) {
	t.Parallel()
	m := estate(calm)
	h, truth := m.one()
	truth.nextBeat = start.Add(time.Minute)
	truth.People = []Person{{Key: "s1", Leaves: start.Add(time.Hour)}}
	m.Step(time.Minute - 1)
	require.Equal(t, start, h.Seen)
	require.Empty(t, h.Sessions)
	h.Version = 5
	m.Step(1)
	require.Equal(t, m.Now, h.Seen)
	require.EqualValues(t, 5, h.Stamp)
	require.Equal(t, []rollover.Session{{Key: "s1", Person: "s1"}}, h.Sessions)
	require.Equal(t, m.Now.Add(30*time.Second), truth.nextBeat)

	for what, drain := range map[string]func(){
		"by hand": func() { h.State = host.Draining }, "by a rollover": func() { h.Phase = rollover.Draining },
		"not checked yet": func() { h.Unserved = true },
	} {
		h.State, h.Phase, h.Unserved = host.Serving, rollover.Queued, false
		m.Step(30 * time.Second)
		require.False(t, truth.Refuses, what)
		drain()
		m.Step(30 * time.Second)
		require.True(t, truth.Refuses, what)
		require.False(t, h.Confirmed, "this heartbeat only brought the order: %s", what)
		m.Step(30 * time.Second)
		require.True(t, h.Confirmed, what)
	}

	truth.On = false
	seen := h.Seen
	m.Step(time.Hour)
	require.Equal(t, seen, h.Seen, "a machine that is off says nothing")
}

func TestAnAgentFallsSilentForAsLongAsTheSettingsSay(t *testing.T) {
	t.Parallel()
	m := estate(with(func(s *Settings) { s.FallsSilent, s.SpeaksAgain = 1, 10*time.Minute }))
	h, truth := m.one()
	truth.nextBeat = start.Add(30 * time.Second)
	m.Step(30 * time.Second)
	require.Equal(t, start, h.Seen)
	require.Equal(t, m.Now.Add(10*time.Minute), truth.SilentUntil)
	m.Settings.FallsSilent = 0
	m.Step(10*time.Minute - 1)
	require.Equal(t, start, h.Seen)
	m.Step(1)
	require.Equal(t, m.Now, h.Seen)
}

func TestASilentHostIsOutOfServiceUntilItIsHeard(t *testing.T) {
	t.Parallel()
	silent := estate(calm).Plan.Limits.Silent
	for _, state := range []host.State{host.Serving, host.Draining, host.Emptied} {
		m := estate(calm)
		h, truth := m.one()
		h.State, h.DrainedBy, truth.SilentUntil = state, "tove", start.Add(24*time.Hour)
		m.Step(silent)
		require.Equal(t, state, h.State)
		m.Step(1)
		require.Equal(t, host.Faulty, h.State)
		require.Empty(t, h.DrainedBy)
		require.Equal(t, m.Now, h.Since)
		h.Vouched, truth.SilentUntil = m.Now, time.Time{}
		m.Step(time.Minute) // it speaks
		m.Step(time.Minute) // and that is seen
		require.Equal(t, host.Serving, h.State)
		require.True(t, h.Vouched.IsZero())
		require.Equal(t, m.Now, h.Since)
	}
	for what, not := range map[string]func(*rollover.Host){
		"it has no machine":  func(h *rollover.Host) { h.Machine = false },
		"it never served":    func(h *rollover.Host) { h.Unserved = true },
		"a rollover has it":  func(h *rollover.Host) { h.Phase = rollover.Warned },
		"it is being made":   func(h *rollover.Host) { h.State = host.Rebuilding },
		"it is checked":      func(h *rollover.Host) { h.State = host.Checking },
		"it is not there":    func(h *rollover.Host) { h.State = host.Off },
		"it was heard again": func(h *rollover.Host) { h.Seen = start.Add(2 * silent) },
	} {
		m := estate(calm)
		h, truth := m.one()
		truth.SilentUntil = start.Add(24 * time.Hour)
		not(h)
		before := h.State
		m.Step(2 * silent)
		require.Equal(t, before, h.State, what)
	}
	for what, not := range map[string]func(*rollover.Host){
		"without a machine": func(h *rollover.Host) { h.Machine = false },
		"never served":      func(h *rollover.Host) { h.Unserved = true },
	} {
		m := estate(calm)
		h, _ := m.one()
		h.State = host.Faulty
		not(h)
		m.Step(time.Minute)
		m.Step(time.Minute)
		require.Equal(t, host.Faulty, h.State, what)
	}
}

func TestPeopleDrainReturnAndVouchForHosts(t *testing.T) {
	t.Parallel()
	m := estate(calm)
	h, truth := m.one()
	h.Confirmed = true
	m.Drain(0)
	require.Equal(t, host.Draining, h.State)
	require.NotEmpty(t, h.DrainedBy)
	require.False(t, h.Confirmed)
	truth.Refuses = true
	h.Phase = rollover.Draining
	m.Return(0)
	require.Equal(t, host.Draining, h.State, "a rollover has it in hand")
	h.Phase = rollover.Queued
	m.Return(0)
	require.Equal(t, host.Serving, h.State)
	require.Empty(t, h.DrainedBy)
	require.False(t, truth.Refuses)
	h.State = host.Draining
	m.Return(0)
	require.Equal(t, host.Draining, h.State, "nobody drained it by hand")

	h.State, h.Phase = host.Faulty, rollover.Queued
	m.Drain(0)
	require.Equal(t, host.Faulty, h.State)
	h.State, h.Phase = host.Serving, rollover.Draining
	m.Drain(0)
	require.Equal(t, host.Serving, h.State)

	vouched := func(change func()) bool {
		*h = rollover.Host{ID: 1, State: host.Faulty, Machine: true, Phase: rollover.Queued}
		truth.People = []Person{{Key: "s1"}}
		change()
		m.Vouch(0)
		require.Equal(t, h.Vouched.IsZero(), len(truth.People) == 1, "who vouches has sent everybody home")
		return h.Vouched.Equal(m.Now)
	}
	require.True(t, vouched(func() {}))
	require.False(t, vouched(func() { h.State = host.Serving }))
	require.False(t, vouched(func() { h.Machine = false }))
	require.False(t, vouched(func() { h.Unserved = true }))
	require.False(t, vouched(func() { h.Phase = rollover.Failed }))
}

func TestAPersonMendsAFaultyHostInTime(t *testing.T) {
	t.Parallel()
	settings := with(func(s *Settings) { s.Mend = time.Hour })
	broken := func(s Settings, version int64, change func(*rollover.Host)) (*Model, *rollover.Host, *Machine) {
		m := estate(s)
		h, truth := m.one()
		h.State, h.Unserved, h.Machine, h.Version, h.Phase = host.Faulty, true, false, version, rollover.Failed
		truth.On, truth.Refuses, truth.SilentUntil, truth.nextBeat = false, true, start.Add(24*time.Hour), time.Time{}
		change(h)
		return m, h, truth
	}
	m, h, truth := broken(settings, 3, func(*rollover.Host) {})
	m.Step(time.Hour - 1)
	require.Equal(t, host.Faulty, h.State)
	m.Step(1)
	require.Equal(t, host.Serving, h.State)
	require.EqualValues(t, 3, h.Version)
	require.True(t, h.Machine && truth.On && !h.Unserved && !truth.Refuses)
	require.Equal(t, m.Now, h.Seen, "and its agent speaks at once")
	m, h, _ = broken(settings, 0, func(*rollover.Host) {})
	m.Step(time.Hour)
	require.EqualValues(t, 1, h.Version, "what had no disk gets the first")
	for what, change := range map[string]func(*rollover.Host){
		"it only fell silent": func(h *rollover.Host) { h.Unserved = false },
		"a rollover has it":   func(h *rollover.Host) { h.Phase = rollover.Checking },
		"it is not faulty":    func(h *rollover.Host) { h.State = host.Rebuilding },
	} {
		m, h, _ = broken(settings, 3, change)
		m.Step(2 * time.Hour)
		require.False(t, h.Machine, what)
	}
	m, h, _ = broken(calm, 3, func(*rollover.Host) {})
	m.Step(24 * time.Hour)
	require.Equal(t, host.Faulty, h.State, "nobody mends anything")
}

func TestACloneTakesItsTimeAndFailsAsOftenAsTheSettingsSay(t *testing.T) {
	t.Parallel()
	settings := with(func(s *Settings) { s.Hosts, s.Copies, s.ClonesEach, s.StartsPerMinute = 300, 100, 4, 1000 })
	settings.CloneFails = 0.3
	m := estate(settings)
	for i := range m.Known.Hosts {
		h := &m.Known.Hosts[i]
		h.Confirmed, h.Checks, h.Vouched = true, rollover.Task{State: rollover.Succeeded}, start
		h.Sessions = []rollover.Session{{Key: "s"}}
		m.carryOut(rollover.Action{Kind: rollover.Rebuild, Host: int64(i + 1), Batch: 2})
		require.Equal(t, rollover.Host{
			ID: int64(i + 1), Name: h.Name, State: host.Rebuilding, Version: 2, Seats: 4, Phase: rollover.Rebuilding,
			Batch: 2, Since: start, Unserved: true, Rebuild: rollover.Task{State: rollover.UnderWay},
		}, *h)
		require.False(t, m.Truth[i].On)
		in := m.Truth[i].cloneEnds.Sub(start)
		require.True(t, in >= 2*time.Minute && in < 6*time.Minute, in)
	}
	require.Len(t, m.Starts, 300)
	m.site()
	require.Equal(t, 300, m.Cloning())
	require.Equal(t, 100, m.Known.Site.ClonesLeft)
	require.Equal(t, 700, m.Known.Site.StartsLeft)
	m.Step(time.Minute - 1)
	require.Equal(t, 700, m.Known.Site.StartsLeft)
	m.Step(1)
	require.Equal(t, 1000, m.Known.Site.StartsLeft, "a start counts for a minute")
	h, truth := m.one()
	truth.cloneEnds, truth.cloneFails = m.Now.Add(time.Minute), false
	truth.Refuses, truth.SilentUntil = false, start.Add(time.Hour)
	m.Step(time.Minute - 1)
	require.Equal(t, rollover.UnderWay, h.Rebuild.State)
	m.Step(1)
	require.Equal(t, rollover.Succeeded, h.Rebuild.State)
	require.True(t, truth.On)
	require.Equal(t, m.Now, h.Seen, "a new machine speaks at once")
	m.Step(10 * time.Minute)
	require.Zero(t, m.Cloning())
	failed := 0
	for i, h := range m.Known.Hosts {
		if h.Rebuild.State == rollover.Broken {
			failed++
			require.NotEmpty(t, h.Rebuild.Why)
			require.False(t, m.Truth[i].On)
		}
	}
	require.InDelta(t, 90, failed, 25)
}

func TestChecksTakeTheirTimeAndFailAsOftenAsTheSettingsSay(t *testing.T) {
	t.Parallel()
	m := estate(with(func(s *Settings) { s.Hosts, s.CheckFails = 300, 0.3 }))
	for i := range m.Truth {
		m.carryOut(rollover.Action{Kind: rollover.CheckHost, Host: int64(i + 1)})
		in := m.Truth[i].checkEnds.Sub(start)
		require.True(t, in >= time.Minute && in < 3*time.Minute, in)
	}
	h, truth := m.one()
	truth.checkEnds, truth.checkFails = start.Add(time.Minute), false
	m.Step(time.Minute - 1)
	require.Zero(t, h.Checks)
	m.Step(1)
	require.Equal(t, rollover.Task{State: rollover.Succeeded}, h.Checks)
	h.Checks = rollover.Task{}
	m.Step(3 * time.Minute)
	require.Zero(t, h.Checks, "they end once")
	failed := 0
	for _, h := range m.Known.Hosts {
		if h.Checks.State == rollover.Broken {
			failed++
			require.NotEmpty(t, h.Checks.Why)
		}
	}
	require.InDelta(t, 90, failed, 25)
}

func TestOrdersReachThePersonThatTheyAreFor(t *testing.T) {
	t.Parallel()
	m := estate(calm)
	h, truth := m.one()
	beat := func() {
		truth.nextBeat = m.Now.Add(time.Second)
		m.Step(time.Second)
	}
	order := func(kind rollover.ActionKind) time.Time {
		m.carryOut(rollover.Action{Kind: kind, Host: 1, Sessions: []string{"s2"}})
		return m.Now
	}
	for _, key := range []string{"s1", "s2"} {
		truth.People = append(truth.People, Person{Key: key, Leaves: start.Add(time.Hour)})
	}
	h.State, h.Phase = host.Draining, rollover.Draining
	beat()
	asked := order(rollover.WarnHost)
	require.Equal(t, asked, h.Sessions[1].Asked)
	require.Zero(t, h.Sessions[1].Warned)
	beat()
	warned := m.Now
	require.Equal(t, warned, h.Sessions[1].Warned, "the next heartbeat says that it was shown")
	beat()
	require.Equal(t, warned, h.Sessions[1].Warned, "and was shown once")
	reminded := order(rollover.Remind)
	beat()
	first := order(rollover.SignOff)
	require.Equal(t, first, h.Sessions[1].SignOffFirst)
	truth.People[1].Clings = true
	beat()
	last := order(rollover.SignOff)
	require.Equal(t, rollover.Session{
		Key: "s2", Person: "s2", Asked: asked, Warned: warned, Reminded: reminded, SignOffFirst: first,
		SignOffLast: last,
	}, h.Sessions[1])
	require.Equal(t, rollover.Session{Key: "s1", Person: "s1"}, h.Sessions[0])
	beat()
	require.True(t, truth.People[1].signOff)
	require.False(t, truth.People[0].signOff)
	m.Step(time.Minute)
	require.Len(t, truth.People, 2, "one was told nothing, and the other clings")
}

func TestWhatIsDecidedOfTheWholeIsCarriedOut(t *testing.T) {
	t.Parallel()
	m := estate(calm)
	for kind, state := range map[rollover.ActionKind]rollover.State{
		rollover.Postpone: rollover.Waiting, rollover.Start: rollover.Running, rollover.Pause: rollover.Paused,
	} {
		m.carryOut(rollover.Action{Kind: kind})
		require.Equal(t, state, m.Plan.State)
		require.False(t, m.Settled)
	}
	m.carryOut(rollover.Action{Kind: rollover.Settle})
	require.True(t, m.Settled)
	m.Settled = false
	m.carryOut(rollover.Action{Kind: rollover.Finish})
	require.True(t, m.Settled)
	require.Equal(t, rollover.Finished, m.Plan.State)

	h, _ := m.one()
	require.Zero(t, m.Failures())
	h.Phase = rollover.Failed
	require.Equal(t, 1, m.Failures())
	m.Now = m.Now.Add(time.Hour)
	m.Resume()
	require.Equal(t, rollover.Running, m.Plan.State)
	require.Equal(t, m.Now, m.Plan.ResumedAt)
	require.Equal(t, 1, m.Plan.Excused)
}

func TestWhatIsDecidedOfAHostIsCarriedOut(t *testing.T) {
	t.Parallel()
	m := estate(calm)
	h, truth := m.one()
	at := start
	act := func(kind rollover.ActionKind) {
		at = at.Add(time.Minute)
		m.Now = at
		m.carryOut(rollover.Action{Kind: kind, Host: 1})
	}
	h.Confirmed = true
	m.carryOut(rollover.Action{Kind: rollover.DrainHost, Host: 1, Batch: 1})
	require.Equal(t, host.Draining, h.State)
	require.Equal(t, rollover.Draining, h.Phase)
	require.Equal(t, 1, h.Batch)
	require.False(t, h.Confirmed)
	act(rollover.BootHost)
	require.True(t, h.Machine)
	require.Equal(t, 1, h.Batch)
	require.Equal(t, at, h.Since)

	h.Unserved, truth.Refuses, h.Vouched = true, true, start
	act(rollover.Return)
	require.Equal(t, host.Serving, h.State)
	require.Equal(t, rollover.Done, h.Phase)
	require.Equal(t, at, h.Since)
	require.False(t, h.Unserved || truth.Refuses)
	require.True(t, h.Vouched.IsZero(), "a word ends with the host's part in the rollover")

	h.State, truth.Refuses = host.Draining, true
	m.carryOut(rollover.Action{Kind: rollover.Release, Host: 1, Rest: host.Serving})
	require.Equal(t, host.Serving, h.State)
	require.False(t, truth.Refuses)
	truth.Refuses = true
	m.carryOut(rollover.Action{Kind: rollover.Fail, Host: 1, Rest: host.Faulty})
	require.Equal(t, host.Faulty, h.State)
	require.True(t, truth.Refuses, "what is not in service takes nobody")
	h.Phase, h.Vouched = rollover.Queued, start
	m.carryOut(rollover.Action{Kind: rollover.EmptyHost, Host: 1})
	require.Equal(t, start, h.Vouched, "it goes on")
}

func TestDecidingCountsWhatItStarted(t *testing.T) {
	t.Parallel()
	m := estate(with(func(s *Settings) { s.Hosts, s.StartsPerMinute = 5, 100 }))
	m.Decide()
	for range 200 {
		m.Step(10 * time.Second)
		actions := m.Decide()
		started := 0
		for _, a := range actions {
			if a.Kind == rollover.Rebuild {
				started++
			}
		}
		if started > 0 {
			require.Equal(t, 2, started, "as many as two copies allow")
			require.Equal(t, 2, m.Cloning())
			require.Zero(t, m.Known.Site.ClonesLeft)
			return
		}
	}
	t.Fatal("nothing was rebuilt")
}

func TestWhatKeepsARolloverWaitingIsRemembered(t *testing.T) {
	t.Parallel()
	m := estate(calm)
	m.Plan.Floor = 1000
	for range 3 {
		m.Step(20 * time.Second)
		m.Decide()
	}
	require.Equal(t, rollover.Running, m.Plan.State)
	require.Equal(t, rollover.Decide(m.Plan, m.Known, m.Now).Holds, m.Holds)
	require.NotEmpty(t, m.Holds)
}
