package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"sync"
	"time"

	"nimblepane/platform"
	"nimblepane/store"
)

// Nodes are the computers of a site, with what they have and what is used.
func (e *Engine) Nodes(ctx context.Context, site store.Site) ([]platform.Node, error) {
	return asked(ctx, e, site, func(ctx context.Context, p platform.Platform) ([]platform.Node, error) { return p.Nodes(ctx) })
}

// Machine is what a host's platform knows of its machine; platform.ErrUnknown if it knows nothing.
func (e *Engine) Machine(ctx context.Context, h store.Host) (platform.Machine, error) {
	site, err := e.poolSite(ctx, h.PoolID)
	if err != nil {
		return platform.Machine{}, err
	}
	return asked(ctx, e, site, func(ctx context.Context, p platform.Platform) (platform.Machine, error) {
		return p.Machine(ctx, h.Name)
	})
}

// poolSite returns a pool's site.
func (e *Engine) poolSite(ctx context.Context, poolID int64) (store.Site, error) {
	db := e.Store.DB.WithContext(ctx)
	pool, err := store.PoolByID(db, poolID)
	if err != nil {
		return store.Site{}, err
	}
	return store.SiteByID(db, pool.SiteID)
}

// How many faulty hosts' machines are looked at in one go, and for how long the others leave them alone.
const (
	lookedAt = 20
	lookFor  = 15 * time.Second
)

// look looks at the machines of faulty hosts, writes down what is wrong with
// them, and starts those of silent hosts that are off: a host that was in
// service did not switch itself off on purpose.
func (e *Engine) look(ctx context.Context) error {
	hosts, err := e.Store.ClaimFaulty(ctx, lookedAt, lookFor)
	if err != nil {
		return err
	}
	// All at once: one that has to wait for its site keeps no other waiting.
	errs := make([]error, len(hosts))
	var looking sync.WaitGroup
	for i, h := range hosts {
		looking.Go(func() { errs[i] = e.lookAfter(ctx, h) })
	}
	looking.Wait()
	return errors.Join(errs...)
}

// lookAfter looks at the machine of a host and writes down what it saw, if the
// host is faulty still.
func (e *Engine) lookAfter(ctx context.Context, h store.Host) error {
	why, started := e.lookAt(ctx, h)
	if why == h.MachineWhy && !started {
		return nil
	}
	return e.change(ctx, serviceActor, func(tx *store.Tx) error {
		if started {
			tx.Record(store.Entry{Verb: "host.power-on", Subject: "host " + h.Name, Reason: why})
		} else {
			tx.Emit("host.machine", "host "+h.Name, nil)
		}
		return tx.MachineSeen(h, why)
	})
}

// startedAgain ends what is said of a machine that was started; it stays true until its agent speaks.
const startedAgain = " and was started again"

// lookAt says what is wrong with a machine, and whether it was started.
func (e *Engine) lookAt(ctx context.Context, h store.Host) (why string, started bool) {
	site, err := e.poolSite(ctx, h.PoolID)
	if err != nil {
		return err.Error(), false
	}
	m, err := e.Machine(ctx, h)
	switch {
	case errors.Is(err, platform.ErrUnknown):
		return "", false
	case err != nil:
		return err.Error(), false
	}
	if h.Silent && (m.State == platform.MachineOff || m.State == platform.MachinePaused) {
		was := "its machine was " + m.State
		if m.Why != "" {
			was += " (" + m.Why + ")"
		}
		if _, err := asked(ctx, e, site, func(ctx context.Context, p platform.Platform) (struct{}, error) {
			return struct{}{}, p.PowerOn(ctx, h.Name)
		}); err != nil {
			return fmt.Sprintf("%s and could not be started: %s", was, err), false
		}
		return was + startedAgain, true
	}
	if m.Why != "" {
		return m.Why, false
	}
	if strings.HasSuffix(h.MachineWhy, startedAgain) {
		return h.MachineWhy, false
	}
	return fmt.Sprintf("its machine is %s on %s", m.State, m.Node), false
}

// BuildRequest says what a build machine is to be made from: a version, or a base disk.
type BuildRequest struct {
	Site, Name     string
	Image, Version string
	BaseDisk       string
	MachineClass   string // of a machine made from a base disk
}

// CreateBuildMachine makes a build machine, which is off.
func (e *Engine) CreateBuildMachine(ctx context.Context, actor string, r BuildRequest) error {
	db := e.Store.DB.WithContext(ctx)
	site, err := store.SiteNamed(db, r.Site)
	if err != nil {
		return err
	}
	b, err := e.builder(site)
	if err != nil {
		return err
	}
	spec := platform.BuildSpec{Name: r.Name, MachineClass: r.MachineClass, BaseDisk: r.BaseDisk, Base: "disk " + r.BaseDisk}
	switch {
	case r.Image == "" && r.BaseDisk == "" || r.Image != "" && r.BaseDisk != "":
		return invalid("say what the build machine is made from: an image with a version, or a base disk")
	case r.BaseDisk != "" && r.MachineClass == "":
		return invalid("a build machine made from a base disk needs a machine class")
	case r.Image != "":
		img, err := store.ImageNamed(db, r.Image)
		if err != nil {
			return err
		}
		v, err := store.VersionNumbered(db, img, r.Version)
		if err != nil {
			return err
		}
		if err := usable(img, v); err != nil {
			return err
		}
		if r.MachineClass != "" && r.MachineClass != img.MachineClass {
			return invalid("image %s is for machines of class %s: leave the class out", img.Name, img.MachineClass)
		}
		spec.MachineClass, spec.Digest, spec.Base, spec.BaseDisk = img.MachineClass, v.Digest, label(img, v), ""
		copies, err := store.Copies(db, v.ID)
		if err != nil {
			return err
		}
		for _, c := range copies {
			if c.SiteID == site.ID && c.State == store.CopyPresent {
				spec.Copies = append(spec.Copies, copyName(img, v, c.Ordinal))
			}
		}
		if len(spec.Copies) == 0 {
			return conflict("%s has no copy at %s: deliver it there first", label(img, v), site.Name)
		}
	}
	if _, err := store.HostNamed(db, r.Name); err == nil {
		return conflict("%s is the name of a host: take another name", r.Name)
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return e.onMachine(ctx, actor, site, r.Name, "create", map[string]any{"base": spec.Base, "machine_class": spec.MachineClass}, func() error { return b.Create(ctx, spec) })
}

// StartBuildMachine starts a build machine.
func (e *Engine) StartBuildMachine(ctx context.Context, actor, site, name string) error {
	return e.machineAct(ctx, actor, site, name, "start", platform.Builder.PowerOnBuild)
}

// StopBuildMachine shuts a build machine down in order.
func (e *Engine) StopBuildMachine(ctx context.Context, actor, site, name string) error {
	return e.machineAct(ctx, actor, site, name, "stop", platform.Builder.PowerOffBuild)
}

// DiscardBuildMachine deletes a build machine with what was done on it.
func (e *Engine) DiscardBuildMachine(ctx context.Context, actor, site, name string) error {
	return e.machineAct(ctx, actor, site, name, "discard", platform.Builder.Discard)
}

func (e *Engine) machineAct(ctx context.Context, actor, siteName, name, verb string, do func(platform.Builder, context.Context, string) error) error {
	site, b, err := e.builderNamed(ctx, siteName)
	if err != nil {
		return err
	}
	return e.onMachine(ctx, actor, site, name, verb, nil, func() error { return do(b, ctx, name) })
}

// RunOnBuildMachine runs a program on a build machine and returns how it ended.
func (e *Engine) RunOnBuildMachine(ctx context.Context, actor, siteName, name string, c platform.Command) (platform.Outcome, error) {
	site, b, err := e.builderNamed(ctx, siteName)
	if err != nil {
		return platform.Outcome{}, err
	}
	var o platform.Outcome
	program := strings.Join(append([]string{c.Path}, c.Args...), " ")
	err = e.onMachine(ctx, actor, site, name, "run", map[string]any{"program": program}, func() (err error) {
		o, err = b.Exec(ctx, name, c)
		switch {
		case errors.Is(err, context.DeadlineExceeded):
			return conflict("%s did not end in time on %s; it may still run there", c.Path, name)
		case errors.Is(err, context.Canceled):
			return fmt.Errorf("nobody waited for the end of %s, which may still run: %w", c.Path, err)
		}
		return err
	})
	if err != nil {
		return o, err
	}
	return o, e.recordMachine(ctx, actor, site, name, "run-ended", "", map[string]any{"program": program, "exit_code": o.ExitCode})
}

// PutOnBuildMachine writes a file on a build machine.
func (e *Engine) PutOnBuildMachine(ctx context.Context, actor, siteName, name, path string, content io.Reader) error {
	site, b, err := e.builderNamed(ctx, siteName)
	if err != nil {
		return err
	}
	return e.onMachine(ctx, actor, site, name, "put", map[string]any{"path": path}, func() error { return b.Put(ctx, name, path, content) })
}

// GetFromBuildMachine reads a file of a build machine.
func (e *Engine) GetFromBuildMachine(ctx context.Context, actor, siteName, name, path string, into io.Writer) error {
	site, b, err := e.builderNamed(ctx, siteName)
	if err != nil {
		return err
	}
	return e.onMachine(ctx, actor, site, name, "get", map[string]any{"path": path}, func() error { return b.Get(ctx, name, path, into) })
}

// onMachine does something to a build machine. That it begins is in the trail
// before it does, and that it failed afterwards, whether or not anybody waits.
func (e *Engine) onMachine(ctx context.Context, actor string, site store.Site, name, act string, detail map[string]any, do func() error) error {
	if err := e.recordMachine(ctx, actor, site, name, act, "", detail); err != nil {
		return err
	}
	err := do()
	if err == nil {
		return nil
	}
	rerr := e.recordMachine(ctx, actor, site, name, act+"-failed", err.Error(), detail)
	if err = said(err); rerr != nil {
		e.log.Error("what failed on a build machine could not be written down", "machine", name, "failure", err, "err", rerr)
	}
	return err
}

func (e *Engine) recordMachine(ctx context.Context, actor string, site store.Site, name, act, reason string, detail map[string]any) error {
	all := map[string]any{"site": site.Name}
	maps.Copy(all, detail)
	return e.change(context.WithoutCancel(ctx), actor, func(tx *store.Tx) error {
		tx.Record(store.Entry{Verb: "build-machine." + act, Subject: "build machine " + name, Reason: reason, Detail: all})
		return nil
	})
}

func (e *Engine) builderNamed(ctx context.Context, siteName string) (store.Site, platform.Builder, error) {
	site, err := store.SiteNamed(e.Store.DB.WithContext(ctx), siteName)
	if err != nil {
		return site, nil, err
	}
	b, err := e.builder(site)
	return site, b, err
}

func (e *Engine) builder(site store.Site) (platform.Builder, error) {
	p, err := e.site(site)
	if err != nil {
		return nil, err
	}
	b, ok := p.(platform.Builder)
	if !ok {
		return nil, conflict("site %s is on platform %s, whose build machines are not made here: use those that it has (pane site show %s)", site.Name, site.Platform, site.Name)
	}
	return b, nil
}

// said turns a platform's refusal into a problem that people read.
func said(err error) error {
	var refusal *platform.Refusal
	if errors.As(err, &refusal) {
		return conflict("%s", refusal.Why)
	}
	return err
}

// Redeliver delivers copies of a version again that failed to arrive, and
// those that a site lacks by now.
func (e *Engine) Redeliver(ctx context.Context, actor, imageName, number string) (n int, err error) {
	err = e.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		n = 0
		if err := usable(img, *v); err != nil {
			return err
		}
		copies, err := store.Copies(tx.DB, v.ID)
		if err != nil {
			return err
		}
		have := map[int64]int{}
		for _, c := range copies {
			have[c.SiteID] = max(have[c.SiteID], c.Ordinal)
			if c.State != store.CopyFailed {
				continue
			}
			before, err := store.Deliveries(tx.DB, c.ID)
			if err != nil {
				return err
			}
			if err := tx.CopyIsComing(c.ID); err != nil {
				return err
			}
			if err := tx.Ask(store.Work{Key: fmt.Sprintf("deliver-%d-%d", c.ID, before+1), Kind: store.WorkDeliver, SiteID: c.SiteID, VersionID: v.ID, CopyID: &c.ID}); err != nil {
				return err
			}
			n++
		}
		sites, err := store.SitesOf(tx.DB, img.ID)
		if err != nil {
			return err
		}
		for _, site := range sites {
			for o := have[site] + 1; o <= img.Copies; o++ {
				if err := deliver(tx, *v, site, o); err != nil {
					return err
				}
				n++
			}
		}
		if n == 0 {
			return conflict("every copy of %s is there or on its way: there is nothing to deliver again", label(img, *v))
		}
		tx.Record(store.Entry{Verb: "version.deliver", Subject: subject(img, *v), Detail: map[string]any{"copies": n}})
		return nil
	})
	return n, err
}
