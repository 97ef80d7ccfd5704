// Package schedules starts builds of kept sheets by themselves: on dates of a
// recurrence rule, when something has changed, or both. What is to be done is
// decided by core/schedule; here it is asked what is, and done.
package schedules

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/calendar"
	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/schedule"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/builds"
	"nimblepane/store"
)

// Schedules are the acts on schedules. They are safe for concurrent use.
type Schedules struct {
	engine *engine.Engine
	builds *builds.Builds

	mu       sync.Mutex // of Follow
	seen     int64      // the newest event when schedules that start on changes were evaluated last
	lookedAt time.Time  // when that was, in real time
}

const (
	// followEvery is how often schedules are looked at, in real time.
	followEvery = 2 * time.Second
	// lookAnyway is how often schedules that start on changes are evaluated although no event says that something has
	// changed, in real time: secrets and the library of steps are in files.
	lookAnyway = time.Minute
)

// causes are the subjects of events that can change what a schedule would build, or whether it can.
var causes = []string{
	"account", "base", "build", "copies", "copy", "estate", "feed", "image", "schedule", "sheet", "sheet-file", "site",
	"version",
}

// New adds schedules to the engine.
func New(e *engine.Engine, bs *builds.Builds) *Schedules {
	ss := &Schedules{engine: e, builds: bs}
	e.Add(engine.Subject{
		Loops: []func(context.Context){func(ctx context.Context) {
			e.Repeat(ctx, followEvery, "schedules could not be looked at", ss.Follow)
		}, func(ctx context.Context) {
			e.Repeat(ctx, engine.MendEvery, "the next dates of schedules could not be computed", ss.Recompute)
		}},
		Matters: []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters},
	})
	return ss
}

// Request says what a schedule is to be.
type Request struct {
	Name, Sheet string
	Mode        schedule.Mode
	Rule, Zone  string
	Params      map[string]string
}

// rule reads the rule of a request.
func (r Request) rule(begins time.Time) (c calendar.Rule, err error) {
	switch {
	case r.Mode.Dated() && strings.TrimSpace(r.Rule) == "":
		return c, problem.InvalidRequest.Errorf("the schedule needs a recurrence rule, such as " +
			"FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30")
	case !r.Mode.Dated() && strings.TrimSpace(r.Rule) != "":
		return c, problem.InvalidRequest.Errorf("builds that start on changes have no recurrence rule: omit it, or " +
			"start builds on dates if something has changed")
	case !r.Mode.Dated():
		return c, nil
	}
	if c, err = calendar.Parse(r.Rule, r.Zone, begins); err != nil {
		return c, problem.InvalidRequest.Errorf("%s", err)
	}
	return c, nil
}

// Dates are the next so many dates of a rule that would be written down now.
func (ss *Schedules) Dates(r Request, most int) ([]time.Time, error) {
	now := ss.engine.Clock.Now()
	c, err := r.rule(now)
	if err != nil || !r.Mode.Dated() {
		return nil, err
	}
	return c.Next(now, most), nil
}

// Add writes a schedule down. It belongs to who does so.
func (ss *Schedules) Add(ctx context.Context, actor string, r Request) (s store.Schedule, err error) {
	if err := image.CheckName(r.Name); err != nil {
		return s, problem.InvalidRequest.Errorf("schedule name: %s", err)
	}
	err = ss.engine.Change(ctx, actor, func(tx *store.Tx) error {
		c, err := r.rule(tx.Now)
		if err != nil {
			return err
		}
		s = store.Schedule{
			Name: r.Name, Sheet: r.Sheet, Mode: r.Mode, Rule: c.Text, Zone: c.Zone, Begins: tx.Now,
			Params: store.JSON[map[string]string]{V: map[string]string{}}, Owner: actor, Revision: 1,
		}
		if r.Params != nil {
			s.Params.V = r.Params
		}
		if _, err := store.LockSheet(tx.DB, r.Sheet); err != nil { // so that nobody deletes it meanwhile
			return err
		}
		b, err := ss.builds.PlannedIn(tx, s)
		if err != nil {
			return fmt.Errorf("a build of it could not be started now: %w", err)
		}
		s.MadeOf = b.MadeOf
		if s.Mode.Dated() {
			s.NextAt = firstOf(c.Next(tx.Now, 1))
		}
		added, err := store.AddSchedule(tx, &s)
		if err == nil && !added {
			return problem.NameTaken.Errorf("schedule %s already exists: use another name, or delete that schedule",
				s.Name)
		}
		record(tx, s, "add", "", map[string]any{"sheet": s.Sheet, "mode": s.Mode, "rule": s.Rule, "zone": s.Zone})
		return err
	})
	return s, err
}

func firstOf(times []time.Time) *time.Time {
	if len(times) == 0 {
		return nil
	}
	return &times[0]
}

func record(tx *store.Tx, s store.Schedule, act, reason string, detail map[string]any) {
	tx.Record(store.Entry{Verb: "schedule." + act, Subject: s.Subject(), Reason: reason, Detail: detail})
	tx.Emit("schedule", s.Subject(), nil)
}

// next is the date of a schedule that comes next after a time; nil if none does.
func next(s store.Schedule, after time.Time) *time.Time {
	if !s.Mode.Dated() {
		return nil
	}
	c, err := calendar.Parse(s.Rule, s.Zone, s.Begins)
	if err != nil {
		return nil // it could be read when it was written down
	}
	return firstOf(c.Next(after, 1))
}

func (ss *Schedules) change(ctx context.Context, actor, name string, fn func(*store.Tx, *store.Schedule) error) (
	s store.Schedule, err error,
) {
	err = ss.engine.Change(ctx, actor, func(tx *store.Tx) error {
		if s, err = store.LockSchedule(tx.DB, name); err != nil {
			return err
		}
		if err := fn(tx, &s); err != nil {
			return err
		}
		s.Revision++
		return tx.Save(&s).Error
	})
	return s, err
}

// Pause keeps a schedule from starting builds, for a reason.
func (ss *Schedules) Pause(ctx context.Context, actor, name, reason string) (store.Schedule, error) {
	return ss.change(ctx, actor, name, func(tx *store.Tx, s *store.Schedule) error {
		switch {
		case strings.TrimSpace(reason) == "":
			return problem.ReasonRequired.Errorf("pausing a schedule needs a reason")
		case s.Paused != "":
			return problem.WrongState.Errorf("schedule %s was already paused by %s (%s)", name, s.PausedBy, s.Paused)
		}
		s.Paused, s.PausedBy, s.PausedAt, s.Waits = reason, actor, &tx.Now, ""
		record(tx, *s, "pause", reason, nil)
		return nil
	})
}

// Resume has a schedule start builds again, from its next date on: those that came while it was paused are left out.
func (ss *Schedules) Resume(ctx context.Context, actor, name string) (store.Schedule, error) {
	return ss.change(ctx, actor, name, func(tx *store.Tx, s *store.Schedule) error {
		if s.Paused == "" {
			return problem.WrongState.Errorf("schedule %s is not paused", name)
		}
		s.Paused, s.PausedBy, s.PausedAt = "", "", nil
		s.NextAt = next(*s, tx.Now)
		record(tx, *s, "resume", "", nil)
		return nil
	})
}

// Delete forgets a schedule. Builds that it started go on, and stay.
func (ss *Schedules) Delete(ctx context.Context, actor, name string) error {
	return ss.engine.Change(ctx, actor, func(tx *store.Tx) error {
		s, err := store.LockSchedule(tx.DB, name)
		if err != nil {
			return err
		}
		record(tx, s, "delete", "", nil)
		return tx.Delete(&s).Error
	})
}

// Follow looks at all schedules: at each by itself, so that none is kept from its own by another.
// Schedules of the mode changes are evaluated only after a change.
func (ss *Schedules) Follow(ctx context.Context) error {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	newest, err := ss.engine.Store.LastEventOf(ctx, causes)
	if err != nil {
		return err
	}
	changed := newest != ss.seen || time.Since(ss.lookedAt) >= lookAnyway
	err = ss.each(ctx, func(tx *store.Tx, s *store.Schedule) error {
		if s.Mode == schedule.OnChanges && !changed {
			return nil
		}
		return ss.look(tx, s)
	})
	if changed && err == nil {
		ss.seen, ss.lookedAt = newest, time.Now()
	}
	return err
}

// Recompute computes the next date of each schedule again, and replaces a stored date that is too late because the
// clock
// was ahead.
func (ss *Schedules) Recompute(ctx context.Context) error {
	return ss.each(ctx, func(tx *store.Tx, s *store.Schedule) error {
		if !s.Mode.Dated() {
			return nil
		}
		c, err := calendar.Parse(s.Rule, s.Zone, s.Begins)
		if err != nil {
			return nil // it could be read when it was written down
		}
		for _, date := range c.Next(tx.Now, recomputed) {
			if s.NextAt != nil && !date.Before(*s.NextAt) {
				return nil
			}
			done, err := store.ScheduleRan(tx.DB, s.ID, date)
			if err != nil {
				return err
			}
			if !done {
				s.NextAt = &date
				record(tx, *s, "recompute", "the next date was computed while the clock was ahead", nil)
				return tx.Save(s).Error
			}
		}
		return nil
	})
}

// recomputed is how many dates Recompute looks at: more than a schedule runs in the minutes of a wrong clock.
const recomputed = 20

func (ss *Schedules) each(ctx context.Context, fn func(*store.Tx, *store.Schedule) error) error {
	rows, err := store.Schedules(ss.engine.Store.DB.WithContext(ctx))
	if err != nil {
		return err
	}
	errs := make([]error, len(rows))
	for i, s := range rows {
		err := ss.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
			s, err := store.LockSchedule(tx.DB, s.Name)
			if errors.Is(err, store.ErrNotFound) {
				return nil // it was deleted meanwhile
			}
			if err != nil {
				return err
			}
			return fn(tx, &s)
		})
		if err != nil {
			errs[i] = fmt.Errorf("schedule %s: %w", s.Name, err)
		}
	}
	return errors.Join(errs...)
}

// look does what is to be done about a schedule that is locked.
func (ss *Schedules) look(tx *store.Tx, s *store.Schedule) error {
	if s.Paused != "" || s.Mode.Dated() && (s.NextAt == nil || tx.Now.Before(*s.NextAt)) {
		return nil
	}
	k := schedule.Known{Mode: s.Mode, Started: s.MadeOf}
	if s.NextAt != nil {
		k.Due = *s.NextAt
	}
	last, ready, started, made, err := store.ScheduledBuilds(tx.DB, s.ID)
	if err != nil {
		return err
	}
	if started {
		k.Started = last.MadeOf
		if !last.State.Ended() {
			k.Before = last.Name()
		}
	}
	if made {
		k.Ready = ready.MadeOf
	}
	b, refused, err := ss.planned(tx, *s)
	if err != nil {
		return err
	}
	if k.MadeOf = b.MadeOf; refused != "" {
		k.MadeOf = "what cannot be built: " + refused
		if s.Mode == schedule.OnChanges {
			return waits(tx, s, refused) // until that is mended
		}
	}
	d := schedule.Decide(k, tx.Now)
	switch {
	case d.Waits != "":
		return waits(tx, s, d.Waits)
	case !d.Seen && !d.Start:
		return waits(tx, s, "")
	}
	run := store.ScheduleRun{ScheduleID: s.ID, At: tx.Now, Why: d.Skips}
	if d.Seen {
		run.DueAt, s.NextAt = s.NextAt, next(*s, tx.Now)
	}
	if d.Start {
		if run.Why = refused; refused == "" {
			if err := ss.builds.StartIn(tx, &b, *s); err != nil {
				return err
			}
			run.BuildID = &b.ID
		}
	}
	if run.BuildID == nil {
		record(tx, *s, "skip", run.Why, nil)
	}
	s.Waits = ""
	tx.Emit("schedule", s.Subject(), nil)
	return errors.Join(tx.Create(&run).Error, tx.Save(s).Error)
}

// waits notes why a build does not start yet.
func waits(tx *store.Tx, s *store.Schedule, why string) error {
	if s.Waits == why {
		return nil
	}
	s.Waits = why
	tx.Emit("schedule", s.Subject(), nil)
	return tx.Save(s).Error
}

// planned is the build that a schedule would start now, or why it cannot.
func (ss *Schedules) planned(tx *store.Tx, s store.Schedule) (b store.Build, refused string, err error) {
	a, err := store.AccountNamed(tx.DB, s.Owner)
	switch {
	case errors.Is(err, store.ErrNotFound) || err == nil && (a.Disabled || !a.Role.Has(role.Operator)):
		return b, "it belongs to " + s.Owner + ", who may not start builds any more: delete it, and write it down anew",
			nil
	case err != nil:
		return b, "", err
	}
	b, err = ss.builds.PlannedIn(tx, s)
	var unusable *problem.Problem
	var wrong sheet.Problems
	var unset sheet.WrongValues
	var missing sheet.WrongFiles
	switch {
	case errors.As(err, &unusable), errors.Is(err, store.ErrNotFound), errors.As(err, &wrong), errors.As(err, &unset),
		errors.As(err, &missing):
		return b, err.Error(), nil
	}
	return b, "", err
}

// Coming is a date on which a build starts, if it does.
type Coming struct {
	Schedule store.Schedule
	At       time.Time
}

// Calendar returns the dates of all schedules that are not paused, up to a time, in order.
func Calendar(rows []store.Schedule, now, until time.Time, most int) (dates []Coming) {
	for _, s := range rows {
		if s.Paused != "" || !s.Mode.Dated() || s.NextAt == nil {
			continue
		}
		c, err := calendar.Parse(s.Rule, s.Zone, s.Begins)
		if err != nil {
			continue
		}
		for _, at := range c.Next(now, most) {
			if at.After(until) {
				break
			}
			dates = append(dates, Coming{s, at})
		}
	}
	return dates
}

// matters are the schedules that cannot start what they should.
func matters(db *gorm.DB, _ time.Time, add func(engine.Matter)) error {
	rows, err := store.Schedules(db)
	if err != nil {
		return err
	}
	for _, s := range rows {
		runs, err := store.ScheduleRuns(db, s.ID, 1)
		if err != nil {
			return err
		}
		why := ""
		if s.Mode == schedule.OnChanges {
			why = s.Waits
		} else if len(runs) > 0 && runs[0].BuildID == nil && runs[0].Why != schedule.NothingChanged {
			why = runs[0].Why
		}
		if s.Paused != "" || why == "" {
			continue
		}
		add(engine.Matter{
			Kind: matter.Build, Title: "Schedule " + s.Name + " started no build", Detail: why,
			Link: "sheets/" + s.Sheet, Command: "pane schedule show " + s.Name,
		})
	}
	return nil
}
