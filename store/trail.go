package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/trail"
)

// TrailRow is an entry of the trail as it is stored.
type TrailRow struct {
	Seq     int64 `gorm:"primaryKey;autoIncrement:false"`
	At      time.Time
	Actor   string
	Verb    string
	Subject string
	Scope   string
	Reason  string
	Detail  *json.RawMessage `gorm:"type:jsonb"`
	Prev    string
	Hash    string
}

func (TrailRow) TableName() string { return "trail" }

func trailRow(e trail.Entry) TrailRow {
	r := TrailRow{e.Seq, e.At, e.Actor, e.Verb, e.Subject, e.Scope, e.Reason, nil, e.Prev, e.Hash}
	if len(e.Detail) > 0 {
		r.Detail = &e.Detail
	}
	return r
}

// Entry returns the row as an entry.
func (r TrailRow) Entry() trail.Entry {
	e := trail.Entry{
		Seq: r.Seq, At: r.At.UTC(), Actor: r.Actor, Verb: r.Verb, Subject: r.Subject, Scope: r.Scope,
		Reason: r.Reason, Prev: r.Prev, Hash: r.Hash,
	}
	if r.Detail != nil {
		e.Detail = *r.Detail
	}
	return e
}

// TrailFilter selects entries; empty fields select all.
type TrailFilter struct {
	Actor, Verb, Subject, Scope string
	From, To                    time.Time
	Before                      int64 // only entries with a smaller number, 0 for all
	Limit                       int
}

func (f TrailFilter) apply(db *gorm.DB) *gorm.DB {
	for column, value := range map[string]string{"actor": f.Actor, "scope": f.Scope} {
		if value != "" {
			db = db.Where(column+" = ?", value)
		}
	}
	if f.Subject != "" {
		// "host tc-07" exactly, or every subject that has the word: "tc-07", "counter-desk".
		db = db.Where("subject = ? or ? = any(string_to_array(subject, ' '))", f.Subject, f.Subject)
	}
	if f.Verb != "" {
		db = db.Where("verb = ? or verb like ?", f.Verb, f.Verb+".%")
	}
	if !f.From.IsZero() {
		db = db.Where("at >= ?", f.From)
	}
	if !f.To.IsZero() {
		db = db.Where("at < ?", f.To)
	}
	if f.Before > 0 {
		db = db.Where("seq < ?", f.Before)
	}
	return db
}

// Trail returns the newest entries first.
func (s *Store) Trail(ctx context.Context, f TrailFilter) ([]TrailRow, error) {
	var rows []TrailRow
	err := f.apply(s.DB.WithContext(ctx)).Order("seq desc").Limit(f.Limit).Find(&rows).Error
	return rows, err
}

// EachTrail calls fn with every selected entry, oldest first, until fn fails.
// It holds a bounded number of them at a time.
func (s *Store) EachTrail(ctx context.Context, f TrailFilter, fn func(trail.Entry) error) error {
	last := int64(0)
	for {
		var rows []TrailRow
		if err := f.apply(s.DB.WithContext(ctx)).Where("seq > ?",
			last).Order("seq").Limit(2000).Find(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			return nil
		}
		for _, r := range rows {
			if err := fn(r.Entry()); err != nil {
				return err
			}
		}
		last = rows[len(rows)-1].Seq
	}
}

// manualVerbs are the audit events of manual work on build machines, and of holds and continuations of builds.
var manualVerbs = []string{
	"build.failed", "build.hold", "build.go-on", "build-machine.run", "build-machine.run-ended",
	"build-machine.run-failed",
	"build-machine.put", "build-machine.put-failed", "build-machine.try", "build-machine.open", "build-machine.repair",
	"build-machine.start", "build-machine.checkpoint", "build-machine.revert",
}

// MostInterventions is how many entries Interventions returns at most.
const MostInterventions = 2000

// Interventions returns the first MostInterventions entries of the audit log about manual work on a build machine at a
// site since a time, and about holds and continuations of its build ("" if it has none), and how many there are.
func Interventions(db *gorm.DB, site, machine, build string, since time.Time) (list []trail.Entry, all int64,
	err error,
) {
	q := fresh(db).Model(&TrailRow{}).Where("verb in ? and at >= ?", manualVerbs, since).
		Where("subject = ? and coalesce(detail->>'site', ?) = ? or scope = ? and scope <> ''",
			"build machine "+machine, site, site, build)
	if err := q.Session(&gorm.Session{}).Count(&all).Error; err != nil {
		return nil, 0, err
	}
	var rows []TrailRow
	err = q.Session(&gorm.Session{}).Order("seq").Limit(MostInterventions).Find(&rows).Error
	for _, r := range rows {
		list = append(list, r.Entry())
	}
	return list, all, err
}

// VerifyTrail walks the whole chain. Expected is the hash that an entry should have, "" for none.
func (s *Store) VerifyTrail(ctx context.Context, expected string) (v trail.Verdict, err error) {
	var with trail.Verifier
	err = s.EachTrail(ctx, TrailFilter{}, func(e trail.Entry) error {
		v.Check(&with, e, expected)
		return nil
	})
	return v, err
}

// Event tells watchers that something is to be looked at again.
type Event struct {
	Seq     int64 `gorm:"primaryKey"`
	At      time.Time
	Kind    string
	Subject string
	Data    json.RawMessage `gorm:"type:jsonb"`
}

// EventsAfter returns events after the number, oldest first.
func (s *Store) EventsAfter(ctx context.Context, seq int64, limit int) ([]Event, error) {
	var rows []Event
	err := s.DB.WithContext(ctx).Where("seq > ?", seq).Order("seq").Limit(limit).Find(&rows).Error
	return rows, err
}

// LastEvent returns the number of the newest event, 0 if there is none.
func (s *Store) LastEvent(ctx context.Context) (int64, error) {
	var seq int64
	err := s.DB.WithContext(ctx).Raw("select coalesce(max(seq), 0) from events").Scan(&seq).Error
	return seq, err
}

// LastEventOf is LastEvent, of those whose kinds begin with one of the words.
func (s *Store) LastEventOf(ctx context.Context, words []string) (int64, error) {
	var seq int64
	err := s.DB.WithContext(ctx).Raw("select coalesce(max(seq), 0) from events where split_part(kind, '.', 1) in ? "+
		"and kind <> 'version.progress'", words).Scan(&seq).Error
	return seq, err
}

// PruneEvents keeps the newest events only: they are for watchers who lost
// their connection for a while, the trail is what is kept.
func PruneEvents(tx *Tx, keep int64) error {
	return tx.Exec("delete from events where seq <= (select max(seq) from events) - ?", keep).Error
}

// Listen calls wake whenever there may be new events, until the context ends.
// It returns the error that ended it; the caller listens again.
func (s *Store) Listen(ctx context.Context, wake func()) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "listen nimblepane_events"); err != nil {
		return err
	}
	wake()
	for {
		if _, err := conn.Conn().WaitForNotification(ctx); err != nil {
			return err
		}
		wake()
	}
}

// KnownActor returns ErrNotFound if the name has no account and is not in the audit log.
func KnownActor(db *gorm.DB, name string) error {
	var is bool
	err := db.Raw("select exists (select from accounts where name = @name) or exists (select from trail where actor "+
		"= @name)",
		map[string]any{"name": name}).Scan(&is).Error
	if err == nil && !is {
		err = fmt.Errorf("account %q: %w", name, ErrNotFound)
	}
	return err
}
