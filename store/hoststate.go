package store

import (
	"errors"
	"fmt"
	"time"

	"nimblepane/core/host"
	"nimblepane/core/rollover"
)

// Step is what a decision of a rollover does to a host.
type Step struct {
	Host  int64               `json:"host"`
	Kind  rollover.ActionKind `json:"kind"`
	From  host.State          `json:"from"`  // the state in which it was decided about
	To    host.State          `json:"to"`    // "" if its state stays
	Phase rollover.Phase      `json:"phase"` // "" if its phase stays
	Batch int                 `json:"batch"`
	Why   string              `json:"why"`
}

// ErrMoved is returned when a host is not in the state any more in which it was decided about.
var ErrMoved = errors.New("a host changed its state meanwhile")

// letGo is what becomes of a host that a rollover has nothing more to do with.
// A silent one that people can work on comes back by itself when it is heard.
const letGo = `silent = d."to" = 'faulty' and machine and not unserved, why = case when d."to" = 'serving' then '' else d.why end,
	vouched_at = null, drain_order = case when machine and not unserved then 0 else drain_order end`

// stepChanges is what a step does to a host's record beside its state. Columns
// of the step are named d.x.
var stepChanges = map[rollover.ActionKind]string{
	rollover.DrainHost: `silent = false, why = '', drain_order = nextval('order_numbers')`,
	rollover.Refill:    `silent = false, vouched_at = null`,
	// A machine that is still to be made must not take sessions before it was checked.
	rollover.EmptyHost: `silent = false, why = '', drain_order = case when drain_order = 0 then nextval('order_numbers') else drain_order end`,
	rollover.Rebuild:   `silent = false, why = '', version_id = @target, machine = false, unserved = true, vouched_at = null, check_order = 0`,
	rollover.BootHost:  `machine = true, check_order = nextval('order_numbers')`,
	rollover.CheckHost: `why = ''`,
	rollover.Return:    `silent = false, why = '', drain_order = 0, unserved = false`,
	rollover.Release:   letGo,
	rollover.Fail:      letGo,
}

// forgetAgent has the agent of a host's machine speak for the host no more: it is not that of the next machine, and
// its token is no good. Nor is what it was to tell people meant for those of the next.
var forgetAgent = []string{
	`delete from enrolments where host_id`,
	`update pulses set credential = null, seen_at = null, stamp = '', drain_confirmed = 0, checks_order = 0, checks = '',
		checks_why = '', load = 0, sessions = '[]' where host_id`,
	`delete from orders where done_at is null and host_id`,
}

// TakeSteps takes all steps of a decision about a rollover's hosts, each kind
// of them in one go: at most one step that changes the state of a host. It
// returns ErrMoved if a host is in another state by now.
func (tx *Tx) TakeSteps(r Rollover, steps []Step) error {
	ofKind := map[rollover.ActionKind][]Step{}
	var hosts []int64
	for _, s := range steps {
		ofKind[s.Kind] = append(ofKind[s.Kind], s)
		hosts = append(hosts, s.Host)
	}
	args := func(steps []Step) map[string]any {
		ids := make([]int64, len(steps))
		for i, s := range steps {
			ids[i] = s.Host
		}
		return map[string]any{
			"steps": JSON[[]Step]{steps}, "hosts": JSON[[]int64]{ids}, "now": tx.Now,
			"target": r.TargetID, "r": r.ID,
		}
	}
	const (
		these = ` in (select value::bigint from jsonb_array_elements_text(@hosts))`
		given = ` from jsonb_to_recordset(@steps) as d(host bigint, "from" text, "to" text, phase text, batch int, why text) `
	)
	if err := tx.Exec(`select from hosts where id`+these+` order by id for no key update`,
		map[string]any{"hosts": JSON[[]int64]{hosts}}).Error; err != nil {
		return fmt.Errorf("lock the hosts: %w", err)
	}
	if err := tx.Exec(`update rollover_hosts m set phase = d.phase, since = @now, batch = greatest(m.batch, d.batch), why = d.why,
		wiped = m.wiped or d.phase = 'rebuilding'`+given+`where m.rollover_id = @r and m.host_id = d.host and d.phase <> ''`, args(steps)).Error; err != nil {
		return fmt.Errorf("write the phases: %w", err)
	}
	for kind, of := range ofKind {
		change, changes := stepChanges[kind]
		if !changes {
			continue
		}
		moved := tx.Exec(`update hosts h set state = d."to", machine_why = '', since = @now, `+change+given+`where h.id = d.host and h.state = d."from"`, args(of))
		if moved.Error != nil {
			return fmt.Errorf("%s hosts: %w", kind, moved.Error)
		}
		if moved.RowsAffected < int64(len(of)) {
			return ErrMoved
		}
		var also []string
		switch kind {
		case rollover.Refill, rollover.Release, rollover.Fail:
			// What was to be told because of the rollover is true no more.
			also = []string{`delete from orders where done_at is null and rollover_id = @r and host_id` + these}
		case rollover.Rebuild:
			for _, statement := range forgetAgent {
				also = append(also, statement+these)
			}
		}
		for _, statement := range also {
			if err := tx.Exec(statement, args(of)).Error; err != nil {
				return fmt.Errorf("%s hosts: %w", kind, err)
			}
		}
	}
	if left := ofKind[rollover.Leave]; len(left) > 0 {
		if err := tx.Exec(`update hosts set vouched_at = null where id`+these, args(left)).Error; err != nil {
			return fmt.Errorf("leave hosts: %w", err)
		}
	}
	return nil
}

// MoveHost puts a host that a person acts on into another state, and saves what else was changed of it.
func (tx *Tx) MoveHost(h *Host, to host.State) error {
	if !h.State.CanBecome(to) {
		return fmt.Errorf("host %s is %s: it cannot become %s", h.Name, h.State, to)
	}
	h.State, h.Since = to, tx.Now
	return tx.Save(h).Error
}

// FallSilent marks the hosts faulty that people can work on and whose agents
// were last heard before the limit. It returns their names.
func (tx *Tx) FallSilent(limit time.Time) (names []string, err error) {
	err = tx.Raw(`update hosts h set state = 'faulty', silent = true, since = @now, machine_why = '', why = 'its agent is silent, last heard ' ||
			coalesce(to_char(u.seen_at at time zone 'UTC', 'YYYY-MM-DD HH24:MI:SS') || ' UTC', 'never')
		from pulses u where u.host_id = h.id and h.state in ('serving', 'draining', 'emptied') and h.machine and not h.unserved
			and h.vouched_at is null and (u.seen_at is null or u.seen_at < @limit) returning h.name`, tx.since(limit)).Scan(&names).Error
	return names, err
}

// SpeakAgain puts the hosts back that were faulty only because their agents
// were silent, and were heard after the limit. It returns their names.
func (tx *Tx) SpeakAgain(limit time.Time) (names []string, err error) {
	err = tx.Raw(`update hosts h set silent = false, why = '', machine_why = '', vouched_at = null, since = @now,
			state = case when drain_order = 0 then 'serving' else 'draining' end
		from pulses u where u.host_id = h.id and h.state = 'faulty' and h.silent and u.seen_at > @limit returning h.name`, tx.since(limit)).Scan(&names).Error
	return names, err
}

// EmptyByHand marks the hosts emptied that people drained by hand, and that
// nobody is on any more by what their agents said after the limit. It returns their names.
func (tx *Tx) EmptyByHand(limit time.Time) (names []string, err error) {
	err = tx.Raw(`update hosts h set state = 'emptied', machine_why = '', since = @now
		from pulses u where u.host_id = h.id and h.state = 'draining' and h.drained_by <> '' and u.drain_confirmed = h.drain_order
			and u.sessions = '[]' and u.seen_at > @limit returning h.name`, tx.since(limit)).Scan(&names).Error
	return names, err
}

// RefillByHand marks the hosts draining again that people drained by hand, and
// that somebody is on after all. It returns their names.
func (tx *Tx) RefillByHand() (names []string, err error) {
	err = tx.Raw(`update hosts h set state = 'draining', since = @now
		from pulses u where u.host_id = h.id and h.state = 'emptied' and h.machine and h.drained_by <> '' and u.sessions <> '[]' returning h.name`, tx.since(tx.Now)).Scan(&names).Error
	return names, err
}

func (tx *Tx) since(limit time.Time) map[string]any {
	return map[string]any{"now": tx.Now, "limit": limit}
}

// TakeOver lets a rollover have a host that somebody drained by hand.
func (tx *Tx) TakeOver(hostID int64) error {
	return tx.Exec("update hosts set drained_by = '', state = 'draining' where id = ?", hostID).Error
}

// StillEmpty says whether the agent of a host that is drained by hand confirmed after the limit that nobody is on it.
func (tx *Tx) StillEmpty(h Host, limit time.Time) (empty bool, err error) {
	err = tx.Raw(`select exists (select from pulses u where u.host_id = ? and u.drain_confirmed = ? and u.sessions = '[]'
		and u.seen_at > ?)`, h.ID, h.DrainOrder, limit).Scan(&empty).Error
	return empty, err
}

// BeginDiskCopy records that the machine of an empty host goes off so that its disk can be copied. The host is neither
// started nor returned to service until the copy ends.
func (tx *Tx) BeginDiskCopy(h *Host) error {
	h.Machine = false
	return tx.Save(h).Error
}

// CancelDiskCopy ends the copy of a disk without a result: the host returns to service at the next heartbeat of its
// agent.
func (tx *Tx) CancelDiskCopy(h *Host, why string) error {
	h.Machine, h.Silent, h.Why = true, true, why
	if err := tx.Exec("update pulses set seen_at = null where host_id = ?", h.ID).Error; err != nil {
		return err
	}
	return tx.MoveHost(h, host.Faulty)
}

// FinishDiskCopy ends the copy of a disk: another machine has the agent's credential now, so it must not report for the
// host.
func (tx *Tx) FinishDiskCopy(h *Host, why string) error {
	for _, statement := range forgetAgent {
		if err := tx.Exec(statement+" = ?", h.ID).Error; err != nil {
			return fmt.Errorf("forget the agent of host %s: %w", h.Name, err)
		}
	}
	h.Silent, h.Why, h.DrainedBy, h.DrainOrder = false, why, "", 0
	return tx.MoveHost(h, host.Faulty)
}
