package host

import (
	"cmp"
	"fmt"
	"time"
)

// Drift describes a host that runs another version than its pool should run.
type Drift struct {
	State     State
	Why       string // why it is in its state
	DrainedBy string // who took it out of service, "" if nobody did
	// TargetSince is when the target version of the pool was set, zero if unknown. Pinned: the pool is pinned to it.
	TargetSince time.Time
	Pinned      bool
	// Rollover is the number of the last rollover of the host to that version, 0 for none. Open: the rollover has not
	// ended. Queued: it has not started with the host. Missed: it skipped the host or failed on it, for the reason in
	// Note.
	Rollover             int64
	Open, Queued, Missed bool
	Note                 string
}

// Reason says why the host drifts, as a clause.
func (d Drift) Reason() string {
	because := func(text, why string) string {
		if why == "" {
			return text
		}
		return text + ": " + why
	}
	switch {
	case d.Open && d.Queued:
		return fmt.Sprintf("waits in rollover %d", d.Rollover)
	case d.Open && !d.Missed:
		return fmt.Sprintf("rollover %d is rolling it over", d.Rollover)
	case d.State == Off:
		return because("has no machine yet", d.Why)
	case d.State == Faulty:
		return because("faulty", cmp.Or(d.Why, d.Note))
	case d.DrainedBy != "":
		return "drained by " + d.DrainedBy
	case d.Missed:
		return because(fmt.Sprintf("skipped by rollover %d", d.Rollover), d.Note)
	case d.Pinned:
		return "its pool is pinned, and was not rolled over yet"
	}
	return "not rolled over yet"
}
