package fleet

import (
	"context"
	"fmt"
	"strings"
	"time"

	"nimblepane/core/host"
	"nimblepane/core/problem"
	"nimblepane/store"
)

// onHost changes a host that no rollover has in hand.
func (fl *Fleet) onHost(ctx context.Context, actor, name string, fn func(*store.Tx, *store.Host) error) error {
	return fl.engine.Change(ctx, actor, func(tx *store.Tx) error {
		h, _, _, err := store.LockHost(tx.DB, name)
		if err != nil {
			return err
		}
		if err := NotInHand(tx, h); err != nil {
			return err
		}
		return fn(tx, &h)
	})
}

// NotInHand returns a problem if a rollover has the host in hand, or its disk is being copied.
func NotInHand(tx *store.Tx, h store.Host) error {
	m, in, err := store.InHand(tx.DB, h.ID)
	if err != nil {
		return err
	}
	if in {
		return problem.Busy.Errorf("host %s is %s in rollover %d: wait until the rollover has finished the host, or "+
			"stop the rollover",
			h.Name, m.Phase, m.RolloverID)
	}
	b, copied, err := store.CopiedFor(tx.DB, h.Name)
	if err != nil || !copied {
		return err
	}
	return problem.Busy.Errorf("the disk of host %s is being copied for build machine %s: wait for the end of the copy",
		h.Name,
		b.Name)
}

// Drain gives a host no new sessions; those there go on.
func (fl *Fleet) Drain(ctx context.Context, actor, name, reason string) error {
	return fl.onHost(ctx, actor, name, func(tx *store.Tx, h *store.Host) error {
		return DrainIn(tx, h, reason)
	})
}

// DrainIn is Drain as part of a change, of a host that is locked and in nobody's hand.
func DrainIn(tx *store.Tx, h *store.Host, reason string) (err error) {
	if (h.State == host.Draining || h.State == host.Emptied) && h.DrainedBy != "" {
		return nil // it was drained before
	}
	if h.State != host.Serving {
		return problem.WrongState.Errorf("host %s is %s: only a serving host can be drained", h.Name, h.State)
	}
	if h.DrainOrder, err = tx.NextOrder(); err != nil {
		return err
	}
	h.DrainedBy = tx.Actor
	tx.Record(store.Entry{Verb: "host.drain", Subject: "host " + h.Name, Reason: reason})
	return tx.MoveHost(h, host.Draining)
}

// Return puts a host that was drained by hand, or that is faulty and speaks, back to service.
func (fl *Fleet) Return(ctx context.Context, actor, name, reason string) error {
	return fl.onHost(ctx, actor, name, func(tx *store.Tx, h *store.Host) error {
		switch h.State {
		case host.Serving:
			return nil // it was returned before
		case host.Draining, host.Emptied:
		case host.Faulty:
			row, err := store.HostRowNamed(tx.DB, h.Name)
			if err != nil {
				return err
			}
			if !h.Machine {
				return problem.WrongState.Errorf("host %s is faulty (%s) and its new disk is incomplete: rebuild it",
					h.Name, h.Why)
			}
			if row.SeenAt == nil || tx.Now.Sub(*row.SeenAt) > fl.Limits().Silent {
				return problem.WrongState.Errorf("host %s is faulty and its agent is silent: the host returns "+
					"automatically when its agent answers; otherwise rebuild it", h.Name)
			}
			if strings.TrimSpace(reason) == "" {
				return problem.ReasonRequired.Errorf("host %s is faulty (%s): returning it to service needs a reason",
					h.Name,
					h.Why)
			}
		default:
			return problem.WrongState.Errorf("host %s is %s: only a drained or faulty host can be returned", h.Name,
				h.State)
		}
		return ReturnIn(tx, h, reason)
	})
}

// ReturnIn puts a host back to service as part of a change, of one that is locked and in nobody's hand.
func ReturnIn(tx *store.Tx, h *store.Host, reason string) error {
	h.Why, h.Silent = "", false
	h.DrainedBy, h.DrainOrder, h.Unserved, h.VouchedAt, h.MachineWhy = "", 0, false, nil, ""
	tx.Record(store.Entry{Verb: "host.return", Subject: "host " + h.Name, Reason: reason})
	return tx.MoveHost(h, host.Serving)
}

// ordersKept is how long an order is kept that a host does not carry out, of
// product time: one that is not heard for so long has other sessions.
const ordersKept = 24 * time.Hour

// sweep puts right what nobody acts on: hosts that fell silent or speak again,
// and hosts drained by hand that are empty by now. Orders that are over go.
func (fl *Fleet) sweep(tx *store.Tx) error {
	limit := tx.Now.Add(-fl.Limits().Silent)
	moves := []struct {
		verb, why string
		move      func() ([]string, error)
	}{
		{"host.silent", "", func() ([]string, error) { return tx.FallSilent(limit) }},
		{"host.heard", "its agent speaks again", func() ([]string, error) { return tx.SpeakAgain(limit) }},
		{"host.empty", "", func() ([]string, error) { return tx.EmptyByHand(limit) }},
		{"host.refill", "its agent reports a session again", tx.RefillByHand},
	}
	if !fl.Listening.Before(limit) {
		moves = moves[1:] // nobody could be heard so far
	}
	for _, m := range moves {
		names, err := m.move()
		if err != nil {
			return fmt.Errorf("%s: %w", m.verb, err)
		}
		for _, n := range names {
			tx.Record(store.Entry{Verb: m.verb, Subject: "host " + n, Reason: m.why})
		}
	}
	return store.PruneOrders(tx, ordersKept)
}
