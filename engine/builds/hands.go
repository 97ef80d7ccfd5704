package builds

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"

	"nimblepane/core/machine"
	"nimblepane/core/problem"
	"nimblepane/core/secret"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// mostNotes is how many notes a machine has at most.
const mostNotes = 200

// Note writes down what somebody did on a machine, or saw. Notes become those of the version that is made of it.
func (bs *Builds) Note(ctx context.Context, actor, site, name, text string) (store.Machine, error) {
	return bs.machineChange(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		if text = strings.TrimSpace(text); !sheet.OneLine(text, 500) {
			return problem.InvalidRequest.Errorf("write the note in one line of at most 500 characters")
		}
		if len(m.Notes.V) >= mostNotes {
			return problem.LimitReached.Errorf("build machine %s has %d notes: capture or discard it", m.Name,
				mostNotes)
		}
		m.Notes.V = append(m.Notes.V, store.MachineNote{At: tx.Now, By: actor, Text: text})
		recordMachine(tx, *m, "note", text, nil)
		tx.Emit("machine", machineSubject(m.Name), nil)
		return nil
	})
}

// ofTry is what a try of a step is kept with.
type ofTry struct {
	Machine int64                    `json:"machine"`
	Step    sheet.Step               `json:"step"`
	Secrets map[string]secret.Source `json:"secrets,omitempty"`
	Text    string                   `json:"text"` // the step as it is written down
}

// TryStep begins to do one step of a sheet on a machine that somebody works on.
func (bs *Builds) TryStep(ctx context.Context, actor, site, name, step string, o Order) (store.Machine, error) {
	return bs.machineChange(ctx, actor, site, name, func(tx *store.Tx, m *store.Machine) error {
		if err := forHands(tx, *m); err != nil {
			return err
		}
		in, err := bs.oneStep(tx, step, o)
		if err != nil {
			return err
		}
		in.Machine = m.ID
		n, err := store.LastAttempt(tx.DB, store.WorkTryStep, m.Subject())
		if err != nil {
			return err
		}
		m.Why = ""
		m.Become(machine.Trying, tx.Now)
		m.Work(tx.Now)
		recordMachine(tx, *m, "try", "", map[string]any{"step": step})
		tx.Emit("machine", machineSubject(m.Name), nil)
		return tx.Ask(bs.tries.Of(m.SiteID, m.Subject(), n+1, in))
	})
}

// oneStep finds the step of a sheet, as it is done.
func (bs *Builds) oneStep(tx *store.Tx, name string, o Order) (in ofTry, err error) {
	s, err := bs.sheet(tx, o)
	if err != nil {
		return in, err
	}
	i := slices.IndexFunc(s.Steps, func(step sheet.Step) bool { return step.Name == name })
	var parts []string
	for _, step := range s.Steps {
		if strings.HasPrefix(step.Name, name+": ") {
			parts = append(parts, step.Name)
		}
	}
	switch {
	case i < 0 && len(parts) > 0:
		return in, problem.InvalidRequest.Errorf("library step %q consists of %d steps: write them into the sheet "+
			"to try them (pane sheet steps show)", name, len(parts))
	case i < 0:
		return in, problem.InvalidRequest.Errorf("the sheet has no step %q", name)
	}
	in.Step = s.Steps[i]
	switch {
	case in.Step.Skipped:
		return in, problem.WrongState.Errorf("step %q is skipped: %s", name, in.Step.LeftOut())
	case in.Step.Checkpoint != nil:
		return in, problem.InvalidRequest.Errorf("step %q makes a snapshot: make a snapshot of the machine (pane "+
			"build-machine checkpoint)", name)
	}
	in.Secrets = secretsOf(s, i)
	in.Text, err = sheet.StepText([]byte(o.Text), name)
	return in, err
}

func askTry(_ context.Context, db *gorm.DB, _ store.Work, in ofTry) (platform.StepOrder, error) {
	m, err := store.MachineByID(db, in.Machine)
	return platform.StepOrder{BuildMachine: m.Name, Step: in.Step, Secrets: in.Secrets}, err
}

// tryEnded writes down how a try ended. A step that failed leaves the machine as it is, for whoever looks at it.
func tryEnded(tx *store.Tx, in ofTry, end *engine.Ending[platform.StepDone]) error {
	return endOn(tx, in.Machine, end, machine.Running, machine.Running, nil)
}

// Try is a step that was done on a machine by hand.
type Try struct {
	store.Work
	Step sheet.Step
	Done platform.StepDone
	Text string // the step as it is written down
	Why  string // it failed; "" if it did not, or has not ended
}

// Tries returns what was tried on a machine, in order.
func Tries(db *gorm.DB, m store.Machine) (tries []Try, err error) {
	works, err := store.WorksOf(db, store.WorkTryStep, m.Subject())
	if err != nil {
		return nil, err
	}
	for _, w := range works {
		var in ofTry
		if err := json.Unmarshal(w.Input, &in); err != nil {
			return nil, fmt.Errorf("read the input of work %s: %w", w.Key, err)
		}
		if in.Machine != m.ID {
			continue
		}
		t := Try{Work: w, Step: in.Step, Text: in.Text}
		of, done := stepTask(in.Step, w)
		t.Done, t.Why = done, of.Why
		tries = append(tries, t)
	}
	return tries, nil
}

// WrittenOut returns the sheet that does again what was tried on a machine and went well. What was done otherwise is
// not in it.
func (bs *Builds) WrittenOut(db *gorm.DB, m store.Machine) (string, error) {
	tries, err := Tries(db, m)
	if err != nil {
		return "", err
	}
	site, err := store.SiteByID(db, m.SiteID)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	fmt.Fprintf(&out, "# What was tried on build machine %s and went well. What was done there otherwise is not in\n"+
		"# it.\n", m.Name)
	if m.BaseID != nil {
		img, v, err := versions.Of(db, *m.BaseID)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&out, "image: %s\nbase: {version: %q}\n", img.Name, v.Number)
	} else {
		from := map[bool]string{true: "named", false: "disk"}[m.FromBaseID != nil]
		fmt.Fprintf(&out, "image: # write the name of the image\nbase: {%s: %q}\n", from, m.BaseDisk)
	}
	fmt.Fprintf(&out, "machine: {site: %s}\nsteps:\n", site.Name)
	seen := map[string]bool{}
	for i, t := range slices.Backward(tries) {
		// One that was mended counts as it was last.
		if t.State != store.WorkSucceeded || t.Why != "" || seen[t.Step.Name] {
			tries = slices.Delete(tries, i, i+1)
			continue
		}
		seen[t.Step.Name] = true
	}
	if len(tries) == 0 {
		return "", problem.NotRecorded.Errorf("no step has succeeded on build machine %s yet", m.Name)
	}
	for _, t := range tries {
		for line := range strings.Lines(t.Text) {
			out.WriteString("  " + line)
		}
	}
	if notes := m.Noted(); notes != "" {
		out.WriteString("version:\n  notes: |\n")
		for line := range strings.Lines(notes + "\n") {
			out.WriteString("    " + line)
		}
	}
	return out.String(), nil
}

// sheet reads a sheet as it is built. What is wrong with it is a problem for people.
func (bs *Builds) sheet(tx *store.Tx, o Order) (sheet.Sheet, error) {
	if err := store.UseSheetFiles(tx, slices.Collect(maps.Values(o.Files))); err != nil {
		return sheet.Sheet{}, err
	}
	c, err := bs.CheckSheet(tx.DB, o)
	if err != nil {
		return c.Sheet, err
	}
	wrong := func(what string, reasons []string) error {
		return &problem.Problem{Type: problem.InvalidFile, Detail: "the sheet" + what, Reasons: reasons}
	}
	switch {
	case len(c.Wrong) > 0:
		reasons := make([]string, len(c.Wrong))
		for i, w := range c.Wrong {
			reasons[i] = w.Error()
		}
		return c.Sheet, wrong(" is not right", reasons)
	case len(c.Unset) > 0:
		return c.Sheet, wrong("'s parameters are not right", c.Unset)
	case len(c.Missing) > 0:
		return c.Sheet, wrong("'s files are not right", c.Missing)
	}
	return c.Sheet, nil
}
