package builds

import (
	"context"

	"gorm.io/gorm"

	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// askMaking says what a build's machine is made from.
func askMaking(_ context.Context, db *gorm.DB, _ store.Work, in ofBuild) (spec platform.BuildSpec, err error) {
	b, err := store.BuildByID(db, in.Build)
	if err != nil {
		return spec, err
	}
	img, err := store.ImageByID(db, b.ImageID)
	if err != nil {
		return spec, err
	}
	spec = platform.BuildSpec{Name: b.Machine(), MachineClass: img.MachineClass}
	if b.BaseID == nil {
		disk := b.Plan.V.Base.Disk
		spec.BaseDisk, spec.Base = disk, "disk "+disk
		return spec, nil
	}
	v, err := store.VersionByID(db, *b.BaseID)
	if err != nil {
		return spec, err
	}
	err = fromVersion(db, &spec, img, v, b.SiteID)
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
	return platform.StepOrder{BuildMachine: b.Machine(), Step: b.Plan.V.Steps[in.Step]}, nil
}

// askSealing says as which version a build's machine is sealed.
func askSealing(_ context.Context, db *gorm.DB, _ store.Work, in ofBuild) (platform.Seal, error) {
	b, err := store.BuildByID(db, in.Build)
	if err != nil {
		return platform.Seal{}, err
	}
	img, err := store.ImageByID(db, b.ImageID)
	return platform.Seal{BuildMachine: b.Machine(), Stamp: versions.Label(img, store.Version{Number: b.Number})}, err
}

// askMachine names a build's machine.
func askMachine(_ context.Context, db *gorm.DB, _ store.Work, in ofBuild) (platform.Named, error) {
	b, err := store.BuildByID(db, in.Build)
	return platform.Named{Name: b.Machine()}, err
}

// ended writes down how something that a build asked for ended.
func ended[Out any](tx *store.Tx, in ofBuild, end *engine.Ending[Out]) error {
	verb := "build." + string(end.Work.Kind) + "-end"
	if end.Failure != "" {
		verb = "build." + string(end.Work.Kind) + "-fail"
	}
	b := store.Build{ID: in.Build}
	tx.Record(store.Entry{Verb: verb, Subject: b.Name(), Scope: b.Name(), Reason: end.Failure})
	return tx.BuildNow(in.Build)
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
	}
	tx.Record(e)
	return tx.BuildNow(in.Build)
}
