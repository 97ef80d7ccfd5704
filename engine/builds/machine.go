package builds

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/machine"
	"nimblepane/core/problem"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/bases"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// MachineRequest says what a build machine is to be made from: a version, a base disk, or a host.
type MachineRequest struct {
	Site, Name     string
	Image, Version string
	BaseDisk       string
	MachineClass   string // of a machine made from a base or a base disk
	Base           string // that was brought in, by its name; its disk is brought to the site first
	Host           string // of the same site; it is drained, and copied when nobody is on it
	Purpose        string // what it is for
	Cores          int    // 0: as its class says; so for memory, and disk as what it is made from
	Memory, Disk   int64  // in bytes
}

// machineSubject is what a machine is called in the trail.
func machineSubject(name string) string { return "build machine " + name }

// CreateMachine begins to make a build machine and to start it, for somebody who works on it by hand.
func (bs *Builds) CreateMachine(ctx context.Context, actor string, r MachineRequest) (m store.Machine, err error) {
	r.Purpose = strings.TrimSpace(r.Purpose)
	given := 0
	for _, from := range []string{r.Image, r.BaseDisk, r.Base, r.Host} {
		if from != "" {
			given++
		}
	}
	switch {
	case given != 1:
		return m, problem.InvalidRequest.Errorf("a build machine is made from an image with a version, a base, a " +
			"base disk, or a host: give one of them")
	case (r.BaseDisk != "" || r.Base != "") && r.MachineClass == "":
		return m, problem.InvalidRequest.Errorf("a build machine that is made from a base or a base disk needs a " +
			"machine class")
	case r.Memory != 0 && r.Memory < sheet.LeastMemory:
		return m, problem.InvalidRequest.Errorf("%d bytes of memory are too few: the least is %d", r.Memory,
			sheet.LeastMemory)
	}
	if r.Host != "" {
		if err := bs.checkRoomFor(ctx, r); err != nil {
			return m, err
		}
	}
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		site, err := store.SiteNamed(tx.DB, r.Site)
		if err != nil {
			return err
		}
		m = store.Machine{
			SiteID: site.ID, Name: r.Name, BaseDisk: r.BaseDisk, MachineClass: r.MachineClass, Purpose: r.Purpose,
			Owner: actor, Cores: r.Cores, Memory: r.Memory, Disk: r.Disk,
		}
		switch {
		case r.Image != "":
			err = madeFrom(tx, &m, site, r)
		case r.Base != "":
			of, uerr := bases.UsableIn(tx, r.Base, wanted(site, r.MachineClass, r.Disk, ""))
			m.BaseDisk, m.FromBaseID, err = r.Base, &of.ID, uerr
		case r.Host != "":
			err = fromHost(tx, &m, site, r)
		}
		if err != nil {
			return err
		}
		if _, err := store.HostNamed(tx.DB, r.Name); err == nil {
			return problem.NameTaken.Errorf("%s is the name of a host: use another name", r.Name)
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if ofBuilds.MatchString(r.Name) {
			return problem.NameTaken.Errorf("%s is the name of a build's machine: use another name", r.Name)
		}
		detail := map[string]any{"site": site.Name}
		for key, from := range map[string]string{"host": r.Host, "base": r.Base} {
			if from != "" {
				detail[key] = from
			}
		}
		return bs.makeIn(tx, &m, detail)
	})
	return m, err
}

// ofBuilds is what machines of builds are called.
var ofBuilds = regexp.MustCompile(`^build-[0-9]+$`)

// madeFrom says that the machine is made from a version that is at the site.
func madeFrom(tx *store.Tx, m *store.Machine, site store.Site, r MachineRequest) error {
	img, err := store.ImageNamed(tx.DB, r.Image)
	if err != nil {
		return err
	}
	v, err := store.VersionNumbered(tx.DB, img, r.Version)
	if err != nil {
		return err
	}
	if err := versions.Usable(img, v); err != nil {
		return err
	}
	if r.MachineClass != "" && r.MachineClass != img.MachineClass {
		return problem.InvalidRequest.Errorf("image %s is for machines of class %s: omit the class", img.Name,
			img.MachineClass)
	}
	copies, err := store.CopiesAt(tx.DB, v.ID, site.ID)
	if err != nil {
		return err
	}
	if len(copies) == 0 {
		return problem.NoCopy.Errorf("%s has no copy at %s: deliver it to the site first", versions.Label(img, v),
			site.Name)
	}
	m.BaseID, m.MachineClass = &v.ID, img.MachineClass
	return nil
}

// makeIn begins to make a machine, as part of a change. One that is made by hand from a host or a base waits for that.
func (bs *Builds) makeIn(tx *store.Tx, m *store.Machine, detail map[string]any) error {
	m.State, m.AskedAt, m.WorkedAt = machine.Making, tx.Now, tx.Now
	if m.FromHost != "" || m.FromBaseID != nil && m.BuildID == nil {
		m.State = machine.Waiting
	}
	m.Touch(tx.Now)
	added, err := store.AddMachine(tx, m)
	if err != nil {
		return err
	}
	if !added {
		return problem.NameTaken.Errorf("build machine %s already exists at that site: use another name, or discard "+
			"that build machine", m.Name)
	}
	if m.BuildID == nil {
		detail["purpose"], detail["machine_class"] = m.Purpose, m.MachineClass
		recordMachine(tx, *m, "create", "", detail)
	}
	if m.State == machine.Waiting {
		return nil
	}
	return tx.Ask(bs.makings.Of(m.SiteID, m.Subject(), 1, ofMachine{m.ID}))
}

// recordMachine writes down what is done to a machine that belongs to no build.
func recordMachine(tx *store.Tx, m store.Machine, act, reason string, detail map[string]any) {
	tx.Record(store.Entry{
		Verb: "build-machine." + act, Subject: machineSubject(m.Name), Reason: reason, Detail: detail,
	})
}

// StartMachine begins to start a build machine that is off. One that runs is started.
func (bs *Builds) StartMachine(ctx context.Context, actor, site, name string) (store.Machine, error) {
	return bs.machineAct(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		switch m.State {
		case machine.Running, machine.Starting:
			return nil
		case machine.Off:
			return asked(tx, m, machine.Starting, "start", "", nil, bs.starts, ofMachine{m.ID})
		}
		return problem.WrongState.Errorf("build machine %s is %s: only a build machine that is off can be started",
			m.Name, m.State)
	})
}

// StopMachine begins to shut a build machine down in order. One that is off is stopped.
func (bs *Builds) StopMachine(ctx context.Context, actor, site, name string) (store.Machine, error) {
	return bs.machineAct(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		switch m.State {
		case machine.Off, machine.Stopping:
			return nil
		case machine.Running:
			return asked(tx, m, machine.Stopping, "stop", "", nil, bs.stops, ofMachine{m.ID})
		}
		return problem.WrongState.Errorf("build machine %s is %s: only a running build machine can be stopped", m.Name,
			m.State)
	})
}

// CheckpointMachine begins to make a checkpoint of a build machine, which is shut down for it and started again if it
// runs.
func (bs *Builds) CheckpointMachine(ctx context.Context, actor, site, name, checkpoint string) (store.Machine, error) {
	return bs.machineAct(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		switch {
		case !sheet.OneLine(checkpoint, 80):
			return problem.InvalidRequest.Errorf("the name of the snapshot must be one line of at most 80 characters")
		case m.Checkpoint(checkpoint) >= 0:
			return problem.NameTaken.Errorf("build machine %s already has a snapshot %q: use another name", m.Name,
				checkpoint)
		case m.State != machine.Running && m.State != machine.Off:
			return problem.WrongState.Errorf("build machine %s is %s: a snapshot needs a build machine that is "+
				"running or off", m.Name,
				m.State)
		}
		return asked(tx, m, machine.Checkpointing, "checkpoint", "", map[string]any{"checkpoint": checkpoint},
			bs.checkpoints, ofCheckpoint{m.ID, checkpoint, m.State == machine.Running})
	})
}

// RevertMachine begins to have a build machine go back to a checkpoint. What was done on it since is lost.
func (bs *Builds) RevertMachine(ctx context.Context, actor, site, name, checkpoint string) (store.Machine, error) {
	return bs.machineAct(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		if m.Checkpoint(checkpoint) < 0 {
			return problem.InvalidRequest.Errorf("build machine %s has no snapshot %q: its snapshots: %s", m.Name,
				checkpoint,
				cmp.Or(english.WordSeries(m.CheckpointNames(), "and"), "none"))
		}
		return bs.unlessCaptured(tx, m, func() error {
			return asked(tx, m, machine.Reverting, "revert", "", map[string]any{"checkpoint": checkpoint}, bs.reverts,
				ofCheckpoint{Machine: m.ID, Name: checkpoint})
		})
	})
}

// goBack has the machine that a version was captured from go back to the checkpoint that was asked for with it. One
// that somebody does something else with meanwhile is left to them.
func (bs *Builds) goBack(tx *store.Tx, v store.Version, _ platform.Captured) error {
	if v.BackTo == "" {
		return nil
	}
	siteName, name := versions.SourceOf(v)
	site, err := store.SiteNamed(tx.DB, siteName)
	if err != nil {
		return err
	}
	m, err := store.LockMachineAt(tx.DB, site, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil || m.Checkpoint(v.BackTo) < 0 || m.State.Changing() {
		return err
	}
	err = asked(tx, &m, machine.Reverting, "revert", "", map[string]any{"checkpoint": v.BackTo}, bs.reverts,
		ofCheckpoint{Machine: m.ID, Name: v.BackTo})
	return errors.Join(err, tx.Save(&m).Error)
}

// DiscardMachine begins to delete a build machine with its disk.
func (bs *Builds) DiscardMachine(ctx context.Context, actor, site, name string) (store.Machine, error) {
	return bs.machineAct(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		if m.State == machine.Discarding {
			return nil
		}
		return bs.discardIn(tx, m, "")
	})
}

// KeepMachine says that a build machine is needed: the time after which one that was left is discarded begins anew.
func (bs *Builds) KeepMachine(ctx context.Context, actor, site, name string) (store.Machine, error) {
	return bs.machineAct(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		recordMachine(tx, *m, "keep", "", nil)
		return nil
	})
}

// machineAct does something to a machine that belongs to no build.
func (bs *Builds) machineAct(ctx context.Context, actor, siteName, name string,
	act func(*store.Tx, *store.Machine) error,
) (m store.Machine, err error) {
	return bs.machineChange(ctx, actor, siteName, name, func(tx *store.Tx, m *store.Machine) error {
		if err := ofNoBuild(*m); err != nil {
			return err
		}
		return act(tx, m)
	})
}

// machineChange changes a machine that somebody touches.
func (bs *Builds) machineChange(ctx context.Context, actor, siteName, name string,
	act func(*store.Tx, *store.Machine) error,
) (m store.Machine, err error) {
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		site, err := store.SiteNamed(tx.DB, siteName)
		if err != nil {
			return err
		}
		if m, err = store.LockMachineAt(tx.DB, site, name); err != nil {
			return err
		}
		m.Touch(tx.Now)
		if err := act(tx, &m); err != nil {
			return err
		}
		return tx.Save(&m).Error
	})
	return m, err
}

// ofNoBuild refuses what would disturb a build.
func ofNoBuild(m store.Machine) error {
	if m.BuildID == nil {
		return nil
	}
	return problem.InUse.Errorf("build machine %s belongs to build %d: cancel the build (pane build cancel %d)", m.Name,
		*m.BuildID, *m.BuildID)
}

// asked asks for a work on a machine that belongs to no build.
func asked[In, Asked, Out any](tx *store.Tx, m *store.Machine, state machine.State, act, reason string,
	detail map[string]any, k engine.Work[In, Asked, Out], in In,
) error {
	n, err := store.LastAttempt(tx.DB, k.Kind, m.Subject())
	if err != nil {
		return err
	}
	m.Why = ""
	m.Become(state, tx.Now)
	if state == machine.Starting || state == machine.Reverting {
		m.Work(tx.Now) // what starts with it may do something
	}
	recordMachine(tx, *m, act, reason, detail)
	tx.Emit("machine", machineSubject(m.Name), nil)
	return tx.Ask(k.Of(m.SiteID, m.Subject(), n+1, in))
}

// unlessCaptured does something that would take a machine away from a capture.
func (bs *Builds) unlessCaptured(tx *store.Tx, m *store.Machine, fn func() error) error {
	if m.State.Changing() {
		return problem.Busy.Errorf("build machine %s is %s: wait for the end", m.Name, m.State)
	}
	site, err := store.SiteByID(tx.DB, m.SiteID)
	if err != nil {
		return err
	}
	if busy, err := tx.LockCapture(site.Name + "/" + m.Name); err != nil {
		return err
	} else if busy != "" {
		return problem.Busy.Errorf("build machine %s is being captured as %s: wait for the end of the capture", m.Name,
			busy)
	}
	return fn()
}

// discardIn begins to discard a machine that belongs to no build, as part of a change.
func (bs *Builds) discardIn(tx *store.Tx, m *store.Machine, reason string) error {
	return bs.unlessCaptured(tx, m, func() error {
		return asked(tx, m, machine.Discarding, "discard", reason, nil, bs.discards, ofMachine{m.ID})
	})
}

// machineEnded returns what follows from the end of a work on a machine: the
// state that it is in when that went well, and when not; "" for the one it was in.
func machineEnded[Out any](well, badly machine.State) func(*store.Tx, ofMachine, *engine.Ending[Out]) error {
	return func(tx *store.Tx, in ofMachine, end *engine.Ending[Out]) error {
		return endOn(tx, in.Machine, end, well, badly, nil)
	}
}

// endOn writes down what follows from the end of a work on a machine, which is changed by fn if it went well.
func endOn[Out any](tx *store.Tx, id int64, end *engine.Ending[Out], well, badly machine.State,
	fn func(*store.Machine),
) error {
	m, err := store.LockMachine(tx.DB, id)
	if err != nil {
		return err
	}
	next, verb := well, "-end"
	if end.Failure != "" {
		next, verb = badly, "-fail"
	} else if fn != nil {
		fn(&m)
	}
	if m.State == machine.Gone || m.State == machine.Discarding && end.Work.Kind != store.WorkDiscardMachine {
		next = "" // it was discarded meanwhile
	}
	if next == machine.Off {
		sealed, err := store.Succeeded(tx.DB, store.WorkSealMachine, m.Subject())
		if err != nil {
			return err
		}
		if sealed {
			next = machine.Sealed // it is off, and is not started again
		}
	}
	if next != "" {
		m.Why = end.Failure
		m.Become(next, tx.Now)
		if err := tx.Save(&m).Error; err != nil {
			return err
		}
	}
	tx.Emit("machine", machineSubject(m.Name), nil)
	if m.BuildID == nil {
		recordMachine(tx, m, strings.TrimSuffix(string(end.Work.Kind), "-machine")+verb, end.Failure, nil)
		return nil
	}
	b := store.Build{ID: *m.BuildID}
	tx.Record(store.Entry{
		Verb: "build." + string(end.Work.Kind) + verb, Subject: b.Name(), Scope: b.Name(), Reason: end.Failure,
	})
	return tx.BuildNow(b.ID)
}

// checkpointEnded writes down how the making of a checkpoint ended. A machine that could not be started again is
// seen to run, or not, when its site is looked at.
func checkpointEnded(tx *store.Tx, in ofCheckpoint, end *engine.Ending[platform.Nothing]) error {
	well := machine.Off
	if in.Start {
		well = machine.Running
	}
	return endOn(tx, in.Machine, end, well, machine.Off, func(m *store.Machine) { m.Keep(in.Name, tx.Now) })
}

// revertEnded writes down how a machine came back to a checkpoint: those that were made later are gone.
func revertEnded(tx *store.Tx, in ofCheckpoint, end *engine.Ending[platform.Nothing]) error {
	return endOn(tx, in.Machine, end, machine.Running, machine.Off, func(m *store.Machine) {
		m.Checkpoints.V = m.Checkpoints.V[:m.Checkpoint(in.Name)+1]
	})
}

// sweepMachines gives notice of machines that nobody touches, and discards them when their time is over.
func (bs *Builds) sweepMachines(tx *store.Tx) error {
	w, err := store.Workshop(tx.DB)
	if err != nil {
		return err
	}
	rows, err := store.LeftMachines(tx)
	if err != nil {
		return err
	}
	for _, m := range rows {
		d := machine.Decide(w.Policy(), m.Known(), tx.Now)
		switch {
		case d.Notice:
			m.Notices, m.NoticedAt = m.Notices+1, &tx.Now
			recordMachine(tx, m, "notice", fmt.Sprintf("nobody has touched it since %s: it is discarded on %s",
				minute(m.TouchedAt), minute(d.At)), map[string]any{"owner": m.Owner, "notice": m.Notices})
			tx.Emit("machine", machineSubject(m.Name), nil)
		case d.Discard:
			var refused *problem.Problem
			err := bs.discardIn(tx, &m, "nobody has touched it since "+minute(m.TouchedAt))
			if errors.As(err, &refused) {
				continue // it is being captured
			}
			if err != nil {
				return err
			}
		default:
			continue
		}
		if err := tx.Save(&m).Error; err != nil {
			return err
		}
	}
	return nil
}

func minute(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }

// observeEvery is how often sites are asked how their build machines stand, in real time.
const observeEvery = 30 * time.Second

// Observe asks all sites how their build machines stand. A site that does not answer says nothing.
func (bs *Builds) Observe(ctx context.Context) error {
	sites, err := store.Sites(bs.engine.Store.DB.WithContext(ctx))
	if err != nil {
		return err
	}
	errs := make([]error, len(sites))
	var asking sync.WaitGroup
	for i, s := range sites {
		asking.Go(func() { errs[i] = bs.observeAt(ctx, s) })
	}
	asking.Wait()
	return errors.Join(errs...)
}

// observeAt writes down which of a site's machines came up, went down or went
// away by themselves, and those that are there without a record.
func (bs *Builds) observeAt(ctx context.Context, site store.Site) error {
	known, err := store.MachineRows(bs.engine.Store.DB.WithContext(ctx), store.MachineFilter{Site: site.Name})
	if err != nil {
		return err
	}
	seen, err := bs.engine.BuildMachines(ctx, site)
	if err != nil {
		return nil // the site is told of elsewhere
	}
	at := map[string]platform.BuildMachine{}
	for _, s := range seen {
		if !s.Own { // which is the site's, whatever a record is called
			at[s.Name] = s
		}
	}
	for _, k := range known {
		s, there := at[k.Name]
		delete(at, k.Name)
		if next := seenState(k.State, s.State, there); next != k.State {
			if err := bs.noticed(ctx, k.Machine, next); err != nil {
				return err
			}
		}
	}
	for _, s := range at {
		if err := bs.adopt(ctx, site, s); err != nil {
			return err
		}
	}
	return nil
}

// seenState is the state of a machine of which the last was known, by what its site says.
func seenState(last machine.State, seen platform.MachineState, there bool) machine.State {
	switch {
	case last.Changing() || last == machine.Waiting:
		return last // whoever does that to it says how it ends
	case !there:
		return machine.Gone
	case last == machine.Running && seen == platform.MachineOff:
		return machine.Off
	case last == machine.Off && seen == platform.MachineRunning:
		return machine.Running
	}
	return last
}

// noticed writes down the state that a machine was seen in, if nothing was done to it meanwhile.
func (bs *Builds) noticed(ctx context.Context, was store.Machine, next machine.State) error {
	return bs.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
		m, err := store.LockMachine(tx.DB, was.ID)
		if err != nil {
			return err
		}
		open, err := store.OpenWork(tx.DB, m.Subject())
		if err != nil || open || m.State != was.State || !m.TouchedAt.Equal(was.TouchedAt) {
			return err
		}
		m.Become(next, tx.Now)
		recordMachine(tx, m, "seen", "its site says that it is "+string(next), nil)
		tx.Emit("machine", machineSubject(m.Name), nil)
		return tx.Save(&m).Error
	})
}

// adopt writes down a machine that is at a site and in no record.
func (bs *Builds) adopt(ctx context.Context, site store.Site, s platform.BuildMachine) error {
	return bs.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
		m := store.Machine{
			SiteID: site.ID, Name: s.Name, BaseDisk: cmp.Or(strings.TrimPrefix(s.Base, "disk "), "unknown"),
			MachineClass: s.MachineClass, Purpose: "found at its site", AskedAt: tx.Now, WorkedAt: tx.Now,
		}
		m.Touch(tx.Now)
		m.Become(machine.Off, tx.Now)
		if s.State == platform.MachineRunning {
			m.Become(machine.Running, tx.Now)
		}
		added, err := store.AddMachine(tx, &m)
		if added { // and no other process was faster
			recordMachine(tx, m, "found", "", map[string]any{"site": site.Name})
		}
		return err
	})
}

// workingOn returns how to work in a machine that runs and belongs to no build, and notes that somebody does.
func (bs *Builds) workingOn(ctx context.Context, actor, siteName, name string) (site store.Site, b platform.Builder,
	err error,
) {
	if site, b, err = bs.builderNamed(ctx, siteName); err != nil {
		return site, b, err
	}
	_, err = bs.machineChange(ctx, actor, siteName, name, func(tx *store.Tx, m *store.Machine) error {
		m.Work(tx.Now)
		return forHands(tx, *m)
	})
	return site, b, err
}

// Run runs a program on a build machine and returns how it ended.
func (bs *Builds) Run(ctx context.Context, actor, siteName, name string, c platform.Command) (platform.Outcome, error) {
	site, b, err := bs.workingOn(ctx, actor, siteName, name)
	if err != nil {
		return platform.Outcome{}, err
	}
	var o platform.Outcome
	program := strings.Join(append([]string{c.Path}, c.Args...), " ")
	err = bs.onMachine(ctx, actor, site, name, "run", map[string]any{"program": program}, func() (err error) {
		o, err = b.Exec(ctx, name, c)
		switch {
		case errors.Is(err, context.DeadlineExceeded):
			return problem.TimedOut.Errorf("%s did not end in time on %s; it may still be running there", c.Path, name)
		case errors.Is(err, context.Canceled):
			return fmt.Errorf("nobody waited for the end of %s, which may still run: %w", c.Path, err)
		}
		return err
	})
	if err != nil {
		return o, err
	}
	return o, bs.recordOn(ctx, actor, site, name, "run-ended", "",
		map[string]any{"program": program, "exit_code": o.ExitCode})
}

// Put writes a file on a build machine.
func (bs *Builds) Put(ctx context.Context, actor, siteName, name, path string, content io.Reader) error {
	site, b, err := bs.workingOn(ctx, actor, siteName, name)
	if err != nil {
		return err
	}
	return bs.onMachine(ctx, actor, site, name, "put", map[string]any{"path": path},
		func() error { return b.Put(ctx, name, path, content) })
}

// Get reads a file of a build machine.
func (bs *Builds) Get(ctx context.Context, actor, siteName, name, path string, into io.Writer) error {
	site, b, err := bs.workingOn(ctx, actor, siteName, name)
	if err != nil {
		return err
	}
	return bs.onMachine(ctx, actor, site, name, "get", map[string]any{"path": path},
		func() error { return b.Get(ctx, name, path, into) })
}

// onMachine does something to a build machine. That it begins is in the trail
// before it does, and that it failed afterwards, whether or not anybody waits.
func (bs *Builds) onMachine(ctx context.Context, actor string, site store.Site, name, act string, detail map[string]any,
	fn func() error,
) error {
	if err := bs.recordOn(ctx, actor, site, name, act, "", detail); err != nil {
		return err
	}
	err := fn()
	if err == nil {
		return nil
	}
	rerr := bs.recordOn(ctx, actor, site, name, act+"-failed", err.Error(), detail)
	if err = readable(err); rerr != nil {
		bs.engine.Log.Error("what failed on a build machine could not be written down", "machine", name, "failure", err,
			"err", rerr)
	}
	return err
}

func (bs *Builds) recordOn(ctx context.Context, actor string, site store.Site, name, act, reason string,
	detail map[string]any,
) error {
	all := map[string]any{"site": site.Name}
	maps.Copy(all, detail)
	return bs.engine.Change(context.WithoutCancel(ctx), actor, func(tx *store.Tx) error {
		tx.Record(store.Entry{
			Verb: "build-machine." + act, Subject: machineSubject(name), Reason: reason,
			Detail: all,
		})
		return nil
	})
}

func (bs *Builds) builderNamed(ctx context.Context, siteName string) (store.Site, platform.Builder, error) {
	site, err := store.SiteNamed(bs.engine.Store.DB.WithContext(ctx), siteName)
	if err != nil {
		return site, nil, err
	}
	b, err := bs.builder(site)
	return site, b, err
}

func (bs *Builds) builder(site store.Site) (platform.Builder, error) {
	p, err := bs.engine.Platform(site)
	if err != nil {
		return nil, err
	}
	b, ok := p.(platform.Builder)
	if !ok {
		return nil, problem.NotConfigured.Errorf("site %s is on platform %s, which cannot run single commands in "+
			"build machines: use a build sheet", site.Name, site.Platform)
	}
	return b, nil
}

// readable turns a platform's refusal into a problem that people read.
func readable(err error) error {
	var refusal *platform.Refusal
	if errors.As(err, &refusal) {
		return problem.WrongState.Errorf("%s", refusal.Why)
	}
	return err
}
