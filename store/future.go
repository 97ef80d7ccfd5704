package store

import (
	"context"
	"fmt"
	"time"
)

// A clock that runs ahead for a while and is set back leaves times in the future, and what waits for them waits until
// the clock gets there. futureTimes are the columns that delay work, and their new values.
//
// Times that are only shown, and expiry times that a person has chosen, are left as they were written.
var futureTimes = []struct {
	table, column string
	becomes       string // SQL; @now is the time of the clock that the column is in
	where         string // further condition
}{
	{"pulses", "seen_at", "@now", ""},
	{"hosts", "since", "@now", ""},
	{"rollover_hosts", "since", "@now", ""},
	{"copies", "read_at", "null", ""},
	{"copy_plans", "at", "'epoch'", ""},
	{"images", "retention_due", "'-infinity'", "retention_due > cast(@now as timestamptz) + interval '8 days'"},
	{"works", "asked_at", "@now", "state in ('asked', 'under way')"},
	{"works", "ended_at", "@now", "ended_at is not null"},
	{"builds", "started_at", "@now", "not settled"},
	{"builds", "went_on_at", "@now", "not settled"},
	{
		"builds", "machine_held_until", "cast(@now as timestamptz) + hold_seconds * interval '1 second'",
		"not settled and machine_held_until > cast(@now as timestamptz) + interval '8 days'",
	},
	{"machines", "asked_at", "@now", ""},
	{"machines", "started_at", "@now", ""},
	{"machines", "touched_at", "@now", ""},
	{"machines", "worked_at", "@now", ""},
	{"machines", "noticed_at", "@now", ""},
	{"proofs", "asked_at", "@now", "not settled"},
	{"proofs", "spoke_at", "@now", "not settled"},
	{"proofs", "checked_at", "@now", "not settled"},
	{"proofs", "until", "@now", "not settled and until > cast(@now as timestamptz) + interval '8 days'"},
	{"sites", "trouble_since", "@now", ""},
	{"schedules", "begins", "@now", ""},
}

// futureTurns are the columns of turns, leases and retries, which are in the time of the database. All of them are less
// than a day ahead, on a clock that is right.
var futureTurns = []struct{ table, column, becomes string }{
	{"works", "next_poll_at", "now()"},
	{"works", "held_until", "'-infinity'"},
	{"builds", "next_tick_at", "now()"},
	{"builds", "held_until", "'-infinity'"},
	{"rollovers", "next_tick_at", "now()"},
	{"rollovers", "held_until", "'-infinity'"},
	{"proofs", "next_tick_at", "now()"},
	{"proofs", "held_until", "'-infinity'"},
	{"bases", "due_at", "now()"},
	{"bases", "held_until", "'-infinity'"},
	{"feeds", "due_at", "now()"},
	{"feeds", "held_until", "'-infinity'"},
	{"repositories", "due_at", "now()"},
	{"repositories", "held_until", "'-infinity'"},
	{"operations", "held_until", "now()"},
	{"hosts", "look_at", "'-infinity'"},
	{"sites", "retry_at", "'-infinity'"},
	{"sign_in_tries", "next_at", "now()"},
	{"river_leader", "expires_at", "now()"},
	{"river_job", "scheduled_at", "now()"},
}

// MendFutureTimes replaces stored times that are further in the future than a clock can be ahead of another one, and
// records which. Console sessions that began in the future end: they would be good for as long as the clock was ahead.
func (s *Store) MendFutureTimes(ctx context.Context, actor string, now time.Time, ahead time.Duration) error {
	return s.Change(ctx, actor, now, func(tx *Tx) error {
		mended := map[string]int64{}
		mend := func(name, statement string, values ...any) error {
			r := tx.Exec(statement, values...)
			if r.Error != nil {
				return fmt.Errorf("reset the times of %s: %w", name, r.Error)
			}
			if r.RowsAffected > 0 {
				mended[name] = r.RowsAffected
			}
			return nil
		}
		for _, f := range futureTimes {
			where := "true"
			if f.where != "" {
				where = f.where
			}
			err := mend(f.table+"."+f.column, fmt.Sprintf("update %[1]s set %[2]s = %[3]s where %[2]s > @late and "+
				"%[4]s",
				f.table,
				f.column, f.becomes, where), map[string]any{"now": now, "late": now.Add(ahead)})
			if err != nil {
				return err
			}
		}
		for _, f := range futureTurns {
			err := mend(f.table+"."+f.column, fmt.Sprintf(
				"update %[1]s set %[2]s = %[3]s where %[2]s > now() + interval '2 days' and %[2]s < 'infinity'",
				f.table,
				f.column,
				f.becomes))
			if err != nil {
				return err
			}
		}
		err := mend("console_sessions.created_at",
			"delete from console_sessions where created_at > now() + interval '10 minutes'")
		if err == nil && len(mended) > 0 {
			tx.Record(Entry{
				Verb: "clock.mend", Subject: "clock", Reason: "times in the future, written while the clock was ahead",
				Detail: mended,
			})
		}
		return err
	})
}
