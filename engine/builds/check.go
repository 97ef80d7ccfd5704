package builds

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/core/machine"
	"nimblepane/core/problem"
	"nimblepane/core/seal"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// expected is what a machine is judged by. One that was made from a base disk
// by hand may become a version of any image of its class.
func (bs *Builds) expected(db *gorm.DB, m store.Machine) (versions.Inspection, error) {
	in := versions.Inspection{Machine: m.ID, Expected: seal.Expected{
		Agent: bs.engine.Version, MachineClass: m.MachineClass, ImageClass: m.MachineClass,
	}}
	e := &in.Expected
	switch {
	case m.BuildID != nil:
		b, err := store.BuildByID(db, *m.BuildID)
		if err != nil {
			return in, err
		}
		img, err := store.ImageByID(db, b.ImageID)
		if err != nil {
			return in, err
		}
		e.ImageClass = img.MachineClass
	case m.BaseID != nil:
		img, _, err := versions.Of(db, *m.BaseID)
		if err != nil {
			return in, err
		}
		e.ImageClass = img.MachineClass
	}
	site, err := store.SiteByID(db, m.SiteID)
	if err != nil {
		return in, err
	}
	e.Firmware = site.MachineSettings.V.MachineClasses[e.ImageClass].Firmware
	w, err := store.Workshop(db)
	e.Refuse = w.Refuse
	return in, err
}

// askInspection says what a machine is looked at for.
func (bs *Builds) askInspection(_ context.Context, db *gorm.DB, _ store.Work, in versions.Inspection) (
	asked platform.Inspection, err error,
) {
	m, err := store.MachineByID(db, in.Machine)
	if err != nil {
		return asked, err
	}
	asked = platform.Inspection{BuildMachine: m.Name, Refuse: slices.Sorted(maps.Keys(in.Expected.Refuse))}
	if asked.Own, err = bs.engine.OwnChecks(); err != nil {
		return asked, &platform.Refusal{Why: err.Error()}
	}
	return asked, nil
}

// inspectionEnded writes down that the look at a machine has ended.
func inspectionEnded(tx *store.Tx, in versions.Inspection, end *engine.Ending[seal.Facts]) error {
	return endOn(tx, in.Machine, end, "", "", nil)
}

// CheckMachine begins to make the seal checks on a machine that runs, whoever it belongs to.
func (bs *Builds) CheckMachine(ctx context.Context, actor, site, name string) (store.Machine, error) {
	return bs.machineChange(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		if m.State != machine.Running {
			return problem.WrongState.Errorf("build machine %s is %s: only a running build machine can be checked",
				m.Name, m.State)
		}
		w, there, err := store.LastWork(tx.DB, store.WorkCheckMachine, m.Subject())
		if err != nil {
			return err
		}
		if there && w.Open() {
			return nil // it is being checked
		}
		in, err := bs.expected(tx.DB, *m)
		if err != nil {
			return err
		}
		recordMachine(tx, *m, "check", "", nil)
		tx.Emit("machine", machineSubject(m.Name), nil)
		return tx.Ask(bs.checks.Of(m.SiteID, m.Subject(), w.Attempt+1, in))
	})
}

// Checked is what the seal checks found on a machine that were made last, by hand or by its build.
type Checked struct {
	Findings []seal.Finding
	Work     store.Work // the look at it; none if it was not looked at
	Stale    bool       // something was done on it since
}

// State is how the look at the machine stands.
func (c Checked) State() build.TaskState {
	if c.Work.State == "" {
		return build.Unasked
	}
	return c.Work.Task().State
}

// Checked returns what the seal checks found on a machine.
func (bs *Builds) Checked(db *gorm.DB, m store.Machine) (c Checked, err error) {
	for _, kind := range []store.WorkKind{store.WorkCheckMachine, store.WorkInspectMachine} {
		w, there, err := store.LastWork(db, kind, m.Subject())
		if err != nil {
			return c, err
		}
		if there && w.AskedAt.After(c.Work.AskedAt) {
			c.Work = w
		}
	}
	terms := seal.Terms{}
	if m.BuildID != nil {
		b, err := store.BuildByID(db, *m.BuildID)
		if err != nil {
			return c, err
		}
		terms = b.Plan.V.Checks.Terms()
	}
	c.Findings, _ = versions.Found(c.Work, terms)
	c.Stale = c.Work.AskedAt.Before(m.WorkedAt)
	return c, nil
}

// ofRepair is what a repair is kept with.
type ofRepair struct {
	Machine int64       `json:"machine"`
	Check   string      `json:"check"`
	Repair  seal.Repair `json:"repair"`
}

// RepairMachine begins to repair what a seal check found on a machine, by what the check says that it will do.
func (bs *Builds) RepairMachine(ctx context.Context, actor, site, name, check string) (store.Machine, error) {
	return bs.machineChange(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		if err := forHands(tx, *m); err != nil {
			return err
		}
		c, err := bs.Checked(tx.DB, *m)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(c.Findings, func(f seal.Finding) bool { return f.Check == check })
		switch {
		case c.Work.Open():
			return problem.Busy.Errorf("build machine %s is being checked: wait for the end of the check", m.Name)
		case i < 0:
			return problem.SealChecks.Errorf("%s found nothing in the latest check of build machine %s: check it again",
				check, m.Name)
		case c.Findings[i].Repair == nil:
			return problem.SealChecks.Errorf("the service has no safe repair for %s: %s", check, c.Findings[i].Remedy)
		case c.Stale:
			return problem.SealChecks.Errorf("build machine %s was changed since its check: check it again",
				m.Name)
		}
		n, err := store.LastAttempt(tx.DB, store.WorkRepairMachine, m.Subject())
		if err != nil {
			return err
		}
		repair := *c.Findings[i].Repair
		m.Why = ""
		m.Become(machine.Repairing, tx.Now)
		m.Work(tx.Now)
		recordMachine(tx, *m, "repair", "", map[string]any{"check": check, "will": repair.String()})
		tx.Emit("machine", machineSubject(m.Name), nil)
		return tx.Ask(bs.repairs.Of(m.SiteID, m.Subject(), n+1, ofRepair{m.ID, check, repair}))
	})
}

// askRepair says by which step what was found is repaired.
func askRepair(_ context.Context, db *gorm.DB, _ store.Work, in ofRepair) (platform.StepOrder, error) {
	m, err := store.MachineByID(db, in.Machine)
	return platform.StepOrder{BuildMachine: m.Name, Step: repairStep(in.Check, in.Repair)}, err
}

// repairStep is the step that a repair is done by.
func repairStep(check string, r seal.Repair) sheet.Step {
	s := sheet.Step{Name: "repair " + check, TimeLimit: sheet.UsualStepLimit, ExitCodes: []int{0}}
	switch {
	case r.Restart:
		s.Restart, s.TimeLimit = &sheet.Restart{Within: sheet.UsualRestart}, sheet.UsualRestart
	case r.Update:
		s.Update = &sheet.Update{Only: sheet.AllUpdates, Restart: new(true)}
	default:
		s.Remove = &sheet.Removal{Files: r.Delete}
	}
	return s
}

// repairEnded writes down how a repair ended. Whether what was found is gone the next check says.
func repairEnded(tx *store.Tx, in ofRepair, end *engine.Ending[platform.StepDone]) error {
	if why := stepFailure(repairStep(in.Check, in.Repair), end.Output); end.Failure == "" && why != "" {
		end.Failure = fmt.Sprintf("%s could not be repaired: %s", in.Check, why)
	}
	return endOn(tx, in.Machine, end, machine.Running, machine.Running, nil)
}

// forHands refuses a machine that people cannot work on now: one that does not
// run, or that belongs to a build that goes on.
func forHands(tx *store.Tx, m store.Machine) error {
	if m.BuildID != nil {
		b, err := store.BuildByID(tx.DB, *m.BuildID)
		if err != nil {
			return err
		}
		if !b.Held(tx.Now) {
			return ofNoBuild(m)
		}
	}
	if m.State != machine.Running {
		return problem.WrongState.Errorf("build machine %s is %s: start it first", m.Name, m.State)
	}
	return nil
}

// inspection is how the seal checks of a build stand, and what they found that blocks.
func inspection(b store.Build, works []store.Work) (t build.Task, blocking []string) {
	w, ok := find(works, store.WorkInspectMachine, b.Before.V.Inspections)
	if !ok {
		return t, nil
	}
	found, _ := versions.Found(w, b.Plan.V.Checks.Terms())
	return w.Task(), versions.Blocking(found)
}

// findings are what the seal checks of a build found, by which it is decided.
func findings(b store.Build, works []store.Work) []seal.Finding {
	w, _ := find(works, store.WorkInspectMachine, b.Before.V.Inspections)
	found, _ := versions.Found(w, b.Plan.V.Checks.Terms())
	return found
}

// Findings are what the seal checks of a build found that were made last, by the build or by hand, and whether any
// were.
func Findings(b store.Build, works []store.Work) (found []seal.Finding, made bool) {
	last, ok := find(works, store.WorkInspectMachine, b.Before.V.Inspections)
	if w, there := find(works, store.WorkCheckMachine, 0); there && w.State == store.WorkSucceeded &&
		(!ok || w.AskedAt.After(last.AskedAt)) {
		last = w
	}
	return versions.Found(last, b.Plan.V.Checks.Terms())
}
