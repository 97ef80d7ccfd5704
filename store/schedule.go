package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nimblepane/core/build"
	"nimblepane/core/schedule"
)

// Schedule says when builds of a kept sheet start by themselves.
type Schedule struct {
	ID       int64
	Name     string
	Sheet    string // the kept sheet's name
	Mode     schedule.Mode
	Rule     string // RFC 5545; "" if builds start on changes only
	Zone     string // the time zone of its dates
	Begins   time.Time
	NextAt   *time.Time              // the date that comes next, or has come and was not seen to
	Params   JSON[map[string]string] // values of the sheet's parameters
	Owner    string
	Paused   string // why it is
	PausedBy string
	PausedAt *time.Time
	MadeOf   string // what a build would have been made of when it was written down
	Waits    string // why a build does not start yet
	Revision int
}

// Subject is what the schedule is called in the trail.
func (s Schedule) Subject() string { return "schedule " + s.Name }

// ScheduleRun is what became of a date, or of a change.
type ScheduleRun struct {
	ID         int64
	ScheduleID int64
	DueAt      *time.Time // the date; nil if it was a change
	At         time.Time
	BuildID    *int64 // that was started, if one was
	Why        string // none was
}

// ScheduleRunRow is a run with how its build stands.
type ScheduleRunRow struct {
	ScheduleRun
	State   build.State
	Version string
}

// Schedules returns all schedules by name.
func Schedules(db *gorm.DB) (rows []Schedule, err error) {
	err = db.Order("name").Find(&rows).Error
	return rows, err
}

// ScheduleNamed returns the schedule, or ErrNotFound.
func ScheduleNamed(db *gorm.DB, name string) (Schedule, error) {
	return first[Schedule](db, fmt.Sprintf("schedule %q", name), "name = ?", name)
}

// LockSchedule is ScheduleNamed, and keeps others from changing the schedule until the transaction ends.
func LockSchedule(db *gorm.DB, name string) (Schedule, error) {
	return ScheduleNamed(db.Clauses(forChange), name)
}

// AddSchedule adds a schedule; false if there is one of its name.
func AddSchedule(tx *Tx, s *Schedule) (bool, error) {
	r := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(s)
	return r.RowsAffected == 1, r.Error
}

// ScheduleRuns returns what became of a schedule's dates and changes, the last first.
func ScheduleRuns(db *gorm.DB, id int64, limit int) (rows []ScheduleRunRow, err error) {
	err = db.Raw(`select r.*, coalesce(b.state, '') as state, coalesce(v.number, '') as version from schedule_runs r
		left join builds b on b.id = r.build_id left join versions v on v.id = b.version_id
		where r.schedule_id = ? order by r.id desc limit ?`, id, limit).Scan(&rows).Error
	return rows, err
}

// ScheduleRan says whether a schedule has run for a date, or has left it out.
func ScheduleRan(db *gorm.DB, id int64, date time.Time) (ran bool, err error) {
	err = db.Raw("select exists (select from schedule_runs where schedule_id = ? and due_at = ?)", id,
		date).Scan(&ran).Error
	return ran, err
}

// ScheduledBuilds returns the build that a schedule started last, and the last of its that became ready; false if
// there is none.
func ScheduledBuilds(db *gorm.DB, id int64) (last, ready Build, started, made bool, err error) {
	one := func(also string) (b Build, is bool, err error) {
		var rows []Build
		err = fresh(db).Where("schedule_id = ?"+also, id).Order("id desc").Limit(1).Find(&rows).Error
		if err != nil || len(rows) == 0 {
			return b, false, err
		}
		return rows[0], true, nil
	}
	if last, started, err = one(""); err != nil || !started {
		return last, ready, started, false, err
	}
	ready, made, err = one(" and state = 'ready'")
	return last, ready, started, made, err
}

// SchedulesOf returns the names of the schedules of a kept sheet.
func SchedulesOf(db *gorm.DB, sheet string) (names []string, err error) {
	err = db.Model(&Schedule{}).Where("sheet = ?", sheet).Order("name").Pluck("name", &names).Error
	return names, err
}
