package builds

import (
	"context"

	"gorm.io/gorm"

	"nimblepane/core/secret"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// askMaking says what a machine is made from.
func askMaking(_ context.Context, db *gorm.DB, _ store.Work, in ofMachine) (spec platform.BuildSpec, err error) {
	m, err := store.MachineByID(db, in.Machine)
	if err != nil {
		return spec, err
	}
	spec = platform.BuildSpec{Name: m.Name, MachineClass: m.MachineClass, Size: platform.Size{
		Cores: m.Cores, Memory: m.Memory, Disk: m.Disk,
	}}
	if m.FromHost != "" {
		spec.Host = m.FromHost
		spec.Base, err = hostLabel(db, m)
		return spec, err
	}
	if m.FromBaseID != nil {
		b, err := store.BaseByID(db, *m.FromBaseID)
		spec.Base, spec.Copies, spec.Digest = b.Subject(), []string{b.Disk()}, b.Digest
		return spec, err
	}
	if m.BaseID == nil {
		spec.BaseDisk, spec.Base = m.BaseDisk, "disk "+m.BaseDisk
		return spec, nil
	}
	img, v, err := versions.Of(db, *m.BaseID)
	if err != nil {
		return spec, err
	}
	err = fromVersion(db, &spec, img, v, m.SiteID)
	return spec, err
}

// fromVersion says that a machine is made from the copies of a version at a site.
func fromVersion(db *gorm.DB, spec *platform.BuildSpec, img store.Image, v store.Version, siteID int64) error {
	spec.MachineClass, spec.Digest, spec.Base = img.MachineClass, v.Digest, versions.Label(img, v)
	copies, err := store.CopiesAt(db, v.ID, siteID)
	if err != nil {
		return err
	}
	for _, c := range copies {
		spec.Copies = append(spec.Copies, versions.CopyName(img, v, c.Ordinal))
	}
	return nil
}

// askStep says which step is to be done.
func askStep(_ context.Context, db *gorm.DB, _ store.Work, in ofStep) (platform.StepOrder, error) {
	b, err := store.BuildByID(db, in.Build)
	if err != nil {
		return platform.StepOrder{}, err
	}
	return platform.StepOrder{
		BuildMachine: b.Machine(), Step: b.Plan.V.Steps[in.Step], Secrets: secretsOf(b.Plan.V, in.Step),
	}, nil
}

// secretsOf returns the secrets of a step, by name.
func secretsOf(of sheet.Sheet, step int) map[string]secret.Source {
	s := of.Steps[step].Script
	if s == nil || len(s.Secrets) == 0 {
		return nil
	}
	sources := map[string]secret.Source{}
	for _, name := range s.Secrets {
		sources[name] = of.Secrets[name]
	}
	return sources
}

// askSealing says as which version a build's machine is sealed.
func askSealing(_ context.Context, db *gorm.DB, _ store.Work, in ofMachine) (platform.Seal, error) {
	m, err := store.MachineByID(db, in.Machine)
	if err != nil {
		return platform.Seal{}, err
	}
	b, err := store.BuildByID(db, *m.BuildID)
	if err != nil {
		return platform.Seal{}, err
	}
	img, err := store.ImageByID(db, b.ImageID)
	return platform.Seal{
		BuildMachine: m.Name, Stamp: versions.Label(img, store.Version{Number: b.Number}),
		Commands: sheet.Commands(b.Plan.V.Applications),
	}, err
}

// askMachine names a machine.
func askMachine(_ context.Context, db *gorm.DB, _ store.Work, in ofMachine) (platform.Named, error) {
	m, err := store.MachineByID(db, in.Machine)
	return platform.Named{Name: m.Name}, err
}

// askCheckpoint names a checkpoint.
func askCheckpoint(_ context.Context, db *gorm.DB, _ store.Work, in ofCheckpoint) (platform.Checkpoint, error) {
	m, err := store.MachineByID(db, in.Machine)
	return platform.Checkpoint{BuildMachine: m.Name, Checkpoint: in.Name, Start: in.Start}, err
}

// stepEnded writes down how a step ended.
func stepEnded(tx *store.Tx, in ofStep, end *engine.Ending[platform.StepDone]) error {
	b, err := store.BuildByID(tx.DB, in.Build)
	if err != nil {
		return err
	}
	step := b.Plan.V.Steps[in.Step]
	e := store.Entry{
		Verb: "build.step-end", Subject: b.Name(), Scope: b.Name(), Reason: end.Failure,
		Detail: map[string]any{"step": step.Name, "attempt": end.Work.Attempt, "exit_code": end.Output.ExitCode},
	}
	if why := stepFailure(step, end.Output); end.Failure != "" || why != "" {
		e.Verb = "build.step-fail"
		if end.Failure == "" {
			e.Reason = why
		}
	} else if step.Checkpoint != nil {
		m, err := store.LockMachineOfBuild(tx.DB, b.ID)
		if err != nil {
			return err
		}
		m.Keep(step.Name, tx.Now)
		if err := tx.Save(&m).Error; err != nil {
			return err
		}
	}
	tx.Record(e)
	return tx.BuildNow(in.Build)
}
