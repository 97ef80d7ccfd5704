package builds

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"

	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// BuildRequest says what a build machine is to be made from: a version, or a base disk.
type BuildRequest struct {
	Site, Name     string
	Image, Version string
	BaseDisk       string
	MachineClass   string // of a machine made from a base disk
}

// Create makes a build machine, which is off.
func (bs *Builds) Create(ctx context.Context, actor string, r BuildRequest) error {
	db := bs.engine.Store.DB.WithContext(ctx)
	site, err := store.SiteNamed(db, r.Site)
	if err != nil {
		return err
	}
	b, err := bs.builder(site)
	if err != nil {
		return err
	}
	spec := platform.BuildSpec{Name: r.Name, MachineClass: r.MachineClass, BaseDisk: r.BaseDisk, Base: "disk " +
		r.BaseDisk}
	switch {
	case r.Image == "" && r.BaseDisk == "" || r.Image != "" && r.BaseDisk != "":
		return engine.Invalidf("say what the build machine is made from: an image with a version, or a base disk")
	case r.BaseDisk != "" && r.MachineClass == "":
		return engine.Invalidf("a build machine made from a base disk needs a machine class")
	case r.Image != "":
		img, err := store.ImageNamed(db, r.Image)
		if err != nil {
			return err
		}
		v, err := store.VersionNumbered(db, img, r.Version)
		if err != nil {
			return err
		}
		if err := versions.Usable(img, v); err != nil {
			return err
		}
		if r.MachineClass != "" && r.MachineClass != img.MachineClass {
			return engine.Invalidf("image %s is for machines of class %s: leave the class out", img.Name,
				img.MachineClass)
		}
		spec.BaseDisk = ""
		if err := fromVersion(db, &spec, img, v, site.ID); err != nil {
			return err
		}
		if len(spec.Copies) == 0 {
			return engine.Conflictf("%s has no copy at %s: deliver it there first", versions.Label(img, v), site.Name)
		}
	}
	if _, err := store.HostNamed(db, r.Name); err == nil {
		return engine.Conflictf("%s is the name of a host: take another name", r.Name)
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return bs.onMachine(ctx, actor, site, r.Name, "create",
		map[string]any{"base": spec.Base, "machine_class": spec.MachineClass},
		func() error { return b.Create(ctx, spec) })
}

// Start starts a build machine.
func (bs *Builds) Start(ctx context.Context, actor, site, name string) error {
	return bs.machineAct(ctx, actor, site, name, "start", platform.Builder.PowerOnBuild)
}

// Stop shuts a build machine down in order.
func (bs *Builds) Stop(ctx context.Context, actor, site, name string) error {
	return bs.machineAct(ctx, actor, site, name, "stop", platform.Builder.PowerOffBuild)
}

// Discard deletes a build machine with what was done on it.
func (bs *Builds) Discard(ctx context.Context, actor, site, name string) error {
	return bs.machineAct(ctx, actor, site, name, "discard", platform.Builder.Discard)
}

func (bs *Builds) machineAct(ctx context.Context, actor, siteName, name, verb string,
	act func(platform.Builder, context.Context, string) error,
) error {
	site, b, err := bs.builderNamed(ctx, siteName)
	if err != nil {
		return err
	}
	return bs.onMachine(ctx, actor, site, name, verb, nil, func() error { return act(b, ctx, name) })
}

// Run runs a program on a build machine and returns how it ended.
func (bs *Builds) Run(ctx context.Context, actor, siteName, name string, c platform.Command) (platform.Outcome, error) {
	site, b, err := bs.builderNamed(ctx, siteName)
	if err != nil {
		return platform.Outcome{}, err
	}
	var o platform.Outcome
	program := strings.Join(append([]string{c.Path}, c.Args...), " ")
	err = bs.onMachine(ctx, actor, site, name, "run", map[string]any{"program": program}, func() (err error) {
		o, err = b.Exec(ctx, name, c)
		switch {
		case errors.Is(err, context.DeadlineExceeded):
			return engine.Conflictf("%s did not end in time on %s; it may still run there", c.Path, name)
		case errors.Is(err, context.Canceled):
			return fmt.Errorf("nobody waited for the end of %s, which may still run: %w", c.Path, err)
		}
		return err
	})
	if err != nil {
		return o, err
	}
	return o, bs.recordMachine(ctx, actor, site, name, "run-ended", "",
		map[string]any{"program": program, "exit_code": o.ExitCode})
}

// Put writes a file on a build machine.
func (bs *Builds) Put(ctx context.Context, actor, siteName, name, path string, content io.Reader) error {
	site, b, err := bs.builderNamed(ctx, siteName)
	if err != nil {
		return err
	}
	return bs.onMachine(ctx, actor, site, name, "put", map[string]any{"path": path},
		func() error { return b.Put(ctx, name, path, content) })
}

// Get reads a file of a build machine.
func (bs *Builds) Get(ctx context.Context, actor, siteName, name, path string, into io.Writer) error {
	site, b, err := bs.builderNamed(ctx, siteName)
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
	if err := bs.recordMachine(ctx, actor, site, name, act, "", detail); err != nil {
		return err
	}
	err := fn()
	if err == nil {
		return nil
	}
	rerr := bs.recordMachine(ctx, actor, site, name, act+"-failed", err.Error(), detail)
	if err = readable(err); rerr != nil {
		bs.engine.Log.Error("what failed on a build machine could not be written down", "machine", name, "failure", err,
			"err", rerr)
	}
	return err
}

func (bs *Builds) recordMachine(ctx context.Context, actor string, site store.Site, name, act, reason string,
	detail map[string]any,
) error {
	all := map[string]any{"site": site.Name}
	maps.Copy(all, detail)
	return bs.engine.Change(context.WithoutCancel(ctx), actor, func(tx *store.Tx) error {
		tx.Record(store.Entry{
			Verb: "build-machine." + act, Subject: "build machine " + name, Reason: reason,
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
		return nil, engine.Conflictf("site %s is on platform %s, whose build machines are not made here: use those "+
			"that it has (pane site show %s)", site.Name, site.Platform, site.Name)
	}
	return b, nil
}

// readable turns a platform's refusal into a problem that people read.
func readable(err error) error {
	var refusal *platform.Refusal
	if errors.As(err, &refusal) {
		return engine.Conflictf("%s", refusal.Why)
	}
	return err
}
