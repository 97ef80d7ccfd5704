package versions

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"nimblepane/core/problem"
	"nimblepane/core/seal"
	"nimblepane/core/sheet"
	"nimblepane/store"
)

// Inspection is what a look at a machine for the seal checks is kept with.
type Inspection struct {
	Machine  int64         `json:"machine"`
	Expected seal.Expected `json:"expected"` // when it was asked for
}

// Found is what the seal checks find by a look at a machine, and whether that has come to its end.
func Found(w store.Work, terms seal.Terms) (found []seal.Finding, made bool) {
	if w.State != store.WorkSucceeded {
		return nil, false
	}
	var facts seal.Facts
	var in Inspection
	if err := errors.Join(json.Unmarshal(w.Output, &facts), json.Unmarshal(w.Input, &in)); err != nil {
		return []seal.Finding{{
			Check: "inspection", Severity: seal.Blocks, Evidence: "what the site found cannot be read: " + err.Error(),
			Remedy: "see that its platform is of this version",
		}}, true
	}
	return terms.Judge(seal.Check(facts, in.Expected)), true
}

// Blocking are those that keep a machine from being sealed, as people read them.
func Blocking(found []seal.Finding) (list []string) {
	for _, f := range found {
		if f.Blocking() {
			list = append(list, f.String())
		}
	}
	return list
}

// Fitness says what is known of whether the machine that a version is captured from by hand is fit for it.
type Fitness struct {
	Waive     map[string]string // why what seal checks find is passed over, by check
	Unchecked string            // why it is captured without having been checked
}

// fit returns what the seal checks found on a machine since it was last worked
// on, with what was noted there meanwhile, and refuses one that they keep from
// being sealed. Machines that a site has by itself are not looked at.
func (f Fitness) fit(db *gorm.DB, site store.Site, name string) (found []seal.Finding, noted string, err error) {
	m, err := store.LockMachineAt(db, site, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, "", nil
	}
	if err != nil {
		return nil, "", err
	}
	found, err = f.judge(db, site, m)
	return found, m.Noted(), err
}

func (f Fitness) judge(db *gorm.DB, site store.Site, m store.Machine) ([]seal.Finding, error) {
	name := m.Name
	if m.BuildID != nil {
		return nil, problem.InUse.Errorf("build machine %s belongs to build %d, which captures it", name,
			*m.BuildID)
	}
	if why := strings.TrimSpace(f.Unchecked); why != "" {
		return []seal.Finding{{
			Check: "unchecked", Severity: seal.Warns, Evidence: "the seal checks were not made",
			Remedy: "make them before the next capture", Waived: why,
		}}, nil
	}
	w, there, err := store.LastWork(db, store.WorkCheckMachine, m.Subject())
	if err != nil {
		return nil, err
	}
	if !there || w.AskedAt.Before(m.WorkedAt) || !w.Open() && w.State != store.WorkSucceeded {
		return nil, problem.SealChecks.Errorf("build machine %[1]s was changed since its latest check: check it "+
			"again (pane build-machine check %[2]s %[1]s), or give a reason to capture it without a check", name,
			site.Name)
	}
	found, made := Found(w, seal.Terms{Waive: f.Waive})
	if !made {
		return nil, problem.Busy.Errorf("build machine %s is being checked: wait for the end of the check", name)
	}
	if blocking := Blocking(found); len(blocking) > 0 {
		return nil, &problem.Problem{
			Type: problem.SealChecks, Detail: fmt.Sprintf("build machine %s is not fit to be sealed", name),
			Reasons: blocking,
		}
	}
	return found, nil
}

// checkWaivers refuses waivers of what is no seal check, or without a reason.
func (f Fitness) checkWaivers() error {
	for check, why := range f.Waive {
		if !seal.Known(check) {
			return problem.InvalidRequest.Errorf("%q is not a seal check: use %s", check, strings.Join(seal.Checks(),
				", "))
		}
		if !sheet.OneLine(why, 200) {
			return problem.ReasonRequired.Errorf("give the reason to ignore %s, in one line of at most 200 characters",
				check)
		}
	}
	return nil
}
