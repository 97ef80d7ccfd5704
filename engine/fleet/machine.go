package fleet

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"nimblepane/engine"
	"nimblepane/platform"
	"nimblepane/store"
)

// Machine is what a host's platform knows of its machine; platform.ErrUnknown if it knows nothing.
func (fl *Fleet) Machine(ctx context.Context, h store.Host) (platform.Machine, error) {
	site, err := store.SiteOfPool(fl.engine.Store.DB.WithContext(ctx), h.PoolID)
	if err != nil {
		return platform.Machine{}, err
	}
	return engine.Ask(ctx, fl.engine, site, func(ctx context.Context, p platform.Platform) (platform.Machine, error) {
		return p.Machine(ctx, h.Name)
	})
}

// How many faulty hosts' machines are looked at in one go, for how long the other processes leave them
// alone, and how often.
const (
	inspectedAtOnce = 20
	inspectedFor    = 15 * time.Second
	inspectEvery    = 3 * time.Second
)

// inspectFaulty looks at the machines of faulty hosts, writes down what is wrong with
// them, and starts those of silent hosts that are off: a host that was in
// service did not switch itself off on purpose.
func (fl *Fleet) inspectFaulty(ctx context.Context) error {
	hosts, err := fl.engine.Store.ClaimFaulty(ctx, inspectedAtOnce, inspectedFor)
	if err != nil {
		return err
	}
	// All at once: one that has to wait for its site keeps no other waiting.
	errs := make([]error, len(hosts))
	var looking sync.WaitGroup
	for i, h := range hosts {
		looking.Go(func() { errs[i] = fl.inspect(ctx, h) })
	}
	looking.Wait()
	return errors.Join(errs...)
}

// inspect looks at the machine of a host and writes down what it saw, if the
// host is faulty still.
func (fl *Fleet) inspect(ctx context.Context, h store.Host) error {
	why, started := fl.seen(ctx, h)
	if why == h.MachineWhy && !started {
		return nil
	}
	return fl.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
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

// seen says what is wrong with a machine, and whether it was started.
func (fl *Fleet) seen(ctx context.Context, h store.Host) (why string, started bool) {
	site, err := store.SiteOfPool(fl.engine.Store.DB.WithContext(ctx), h.PoolID)
	if err != nil {
		return err.Error(), false
	}
	m, err := fl.Machine(ctx, h)
	switch {
	case errors.Is(err, platform.ErrUnknown):
		return "", false
	case err != nil:
		return err.Error(), false
	}
	if h.Silent && (m.State == platform.MachineOff || m.State == platform.MachinePaused) {
		was := "its machine was " + string(m.State)
		if m.Why != "" {
			was += " (" + m.Why + ")"
		}
		err := fl.engine.AskTo(ctx, site, func(ctx context.Context,
			p platform.Platform,
		) error {
			return p.PowerOn(ctx, h.Name)
		})
		if err != nil {
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
