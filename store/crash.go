package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Crash is a background task that ended with a panic.
type Crash struct {
	Kind  string // the table of the row that the task works on
	Key   string // its id, or its key
	Times int    // within a day
	Why   string
	At    time.Time // real time
}

// CrashesAllowed is how often a task may crash before it is set aside.
const CrashesAllowed = 3

// notSetAside is the condition on a row of a table, whose key is the expression, that its task is not set aside.
func notSetAside(table, key string) string {
	return fmt.Sprintf("not exists (select from crashes x where x.kind = '%s' and x.key = %s and x.times >= %d)", table,
		key, CrashesAllowed)
}

// AddCrash counts a crash of a task, and returns how often it has crashed within a day.
func (s *Store) AddCrash(ctx context.Context, kind, key, why string) (times int, err error) {
	err = s.DB.WithContext(ctx).Raw(`insert into crashes as c (kind, key, times, why, at) values (?, ?, 1, ?, now())
		on conflict (kind, key) do update set why = excluded.why, at = now(),
		  times = case when c.at < now() - interval '1 day' then 1 else c.times + 1 end
		returning times`, kind, key, why).Scan(&times).Error
	return times, err
}

// SetAside returns the tasks that are set aside.
func SetAside(db *gorm.DB) (rows []Crash, err error) {
	err = db.Where("times >= ?", CrashesAllowed).Order("kind, key").Find(&rows).Error
	return rows, err
}

// ForgetCrashes has all tasks tried again.
func (s *Store) ForgetCrashes(ctx context.Context) error {
	return s.DB.WithContext(ctx).Exec("delete from crashes").Error
}
