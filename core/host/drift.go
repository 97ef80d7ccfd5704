package host

import (
	"cmp"
	"fmt"
	"time"
)

// Drift is what is known of a host that runs another version than it should.
type Drift struct {
	State     State
	Why       string // why it is in its state
	DrainedBy string // who took it out of service, "" if nobody did
	// TargetSince is when its pool was given the version that it should run, zero if that is not known; Pinned says
	// that
	// the pool is pinned to it.
	TargetSince time.Time
	Pinned      bool
	// Rollover is the last one to that version that the host was part of, 0 for none; Open says that it goes on, Queued
	// that it has not taken the host yet, Missed that it ended without it, and Note why.
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
