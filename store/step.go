package store

import (
	"errors"
	"fmt"

	"nimblepane/core/rollover"
)

// Step is what a decision of a rollover does to a host.
type Step struct {
	Host  int64               `json:"host"`
	Kind  rollover.ActionKind `json:"kind"`
	From  rollover.HostState  `json:"from"`  // the state in which it was decided about
	To    rollover.HostState  `json:"to"`    // "" if its state stays
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
	rollover.CheckHost: `machine = true, check_order = nextval('order_numbers')`,
	rollover.Return:    `silent = false, why = '', drain_order = 0, unserved = false`,
	rollover.Release:   letGo,
	rollover.Fail:      letGo,
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
		return map[string]any{"steps": JSON[[]Step]{steps}, "hosts": JSON[[]int64]{ids}, "now": tx.Now, "target": r.TargetID, "r": r.ID}
	}
	const (
		these = ` in (select value::bigint from jsonb_array_elements_text(@hosts))`
		given = ` from jsonb_to_recordset(@steps) as d(host bigint, "from" text, "to" text, phase text, batch int, why text) `
	)
	if err := tx.Exec(`select from hosts where id`+these+` order by id for no key update`, map[string]any{"hosts": JSON[[]int64]{hosts}}).Error; err != nil {
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
			also = []string{
				// The old machine's agent is not that of the new one, and its token is no good any more.
				`delete from enrolments where host_id` + these,
				`update pulses set credential = null, seen_at = null, stamp = '', drain_confirmed = 0, checks_order = 0, checks = '',
					checks_why = '', load = 0, sessions = '[]' where host_id` + these,
				// Nor is what it was to tell people meant for those of the new one.
				`delete from orders where done_at is null and host_id` + these,
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
