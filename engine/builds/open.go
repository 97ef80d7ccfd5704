package builds

import (
	"context"
	"encoding/json"
	"fmt"

	"gorm.io/gorm"

	"nimblepane/core/machine"
	"nimblepane/core/problem"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// ofOpening is what the opening of applications on a machine is kept with.
type ofOpening struct {
	Machine      int64               `json:"machine"`
	Applications []sheet.Application `json:"applications"`
}

// OpenApplications begins to open applications on a machine that somebody works on, one after the other, as a person
// who is made for it: those of a sheet, or without one those of the version that the machine is made from.
func (bs *Builds) OpenApplications(ctx context.Context, actor, site, name string, o Order) (store.Machine, error) {
	return bs.machineChange(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		if err := forHands(tx, *m); err != nil {
			return err
		}
		in := ofOpening{Machine: m.ID}
		if o.Text != "" {
			s, err := bs.sheet(tx, o)
			if err != nil {
				return err
			}
			if in.Applications = s.Applications; len(in.Applications) == 0 {
				return problem.InvalidRequest.Errorf("the sheet lists no applications: add them under applications:")
			}
		} else if m.BaseID != nil {
			_, v, err := versions.Of(tx.DB, *m.BaseID)
			if err != nil {
				return err
			}
			in.Applications = v.Applications.V
		}
		if len(in.Applications) == 0 {
			return problem.InvalidRequest.Errorf("the source of build machine %s has no applications: give a sheet "+
				"that lists some", m.Name)
		}
		n, err := store.LastAttempt(tx.DB, store.WorkOpenOnMachine, m.Subject())
		if err != nil {
			return err
		}
		m.Why = ""
		m.Become(machine.Trying, tx.Now)
		m.Work(tx.Now)
		recordMachine(tx, *m, "open", "", map[string]any{"applications": len(in.Applications)})
		tx.Emit("machine", machineSubject(m.Name), nil)
		return tx.Ask(bs.openings.Of(m.SiteID, m.Subject(), n+1, in))
	})
}

func askOpening(_ context.Context, db *gorm.DB, _ store.Work, in ofOpening) (platform.Tryout, error) {
	m, err := store.MachineByID(db, in.Machine)
	return platform.Tryout{BuildMachine: m.Name, Applications: in.Applications}, err
}

func openingEnded(tx *store.Tx, in ofOpening, end *engine.Ending[platform.Tried]) error {
	return endOn(tx, in.Machine, end, machine.Running, machine.Running, nil)
}

// Opened returns what became of the applications that were opened last on a machine, and whether some were.
func Opened(db *gorm.DB, m store.Machine) (w store.Work, tried platform.Tried, there bool, err error) {
	w, there, err = store.LastWork(db, store.WorkOpenOnMachine, m.Subject())
	if err != nil || !there || w.State != store.WorkSucceeded {
		return w, tried, there, err
	}
	if err := json.Unmarshal(w.Output, &tried); err != nil {
		return w, tried, there, fmt.Errorf("read what work %s came to: %w", w.Key, err)
	}
	return w, tried, there, nil
}
