package store

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/core/delivery"
	"nimblepane/platform"
)

// WorkKind is a kind of work. Whoever owns the kind knows what its input and output hold.
type WorkKind string

// WorkState is how a work stands.
type WorkState string

const (
	WorkAsked     WorkState = "asked"
	WorkUnderWay  WorkState = "under way"
	WorkSucceeded WorkState = "succeeded"
	WorkFailed    WorkState = "failed"
)

// Work is something asked of a platform.
type Work struct {
	Key      string `gorm:"primaryKey"`
	Kind     WorkKind
	Subject  string // what it is about, such as "copy 12"
	Attempt  int    // at it, from 1
	SiteID   int64
	Input    json.RawMessage `gorm:"type:jsonb"`
	Output   json.RawMessage `gorm:"type:jsonb"` // when it succeeded
	State    WorkState
	Progress int                      // per cent
	Transfer *JSON[platform.Transfer] `gorm:"type:jsonb"` // how a delivery by blocks stands, or ended
	Pace     *JSON[delivery.Pace]     `gorm:"type:jsonb"`
	Why      string
	AskedAt  time.Time
	EndedAt  *time.Time
}

// Open says that the work has not ended.
func (w Work) Open() bool { return w.State == WorkAsked || w.State == WorkUnderWay }

// Task is how the work stands, as decisions know it.
func (w Work) Task() build.Task {
	t := build.Task{State: build.UnderWay, Why: w.Why}
	switch w.State {
	case WorkSucceeded:
		t.State = build.Done
	case WorkFailed:
		t.State = build.TaskFailed
	}
	if w.EndedAt != nil {
		t.EndedAt = *w.EndedAt
	}
	return t
}

// Ask writes down what platforms are to do. Whoever claims a work sees to it
// from there. An attempt at a subject can be asked for once.
func (tx *Tx) Ask(works ...Work) error {
	if len(works) == 0 {
		return nil
	}
	for i := range works {
		w := &works[i]
		w.Key = strings.ReplaceAll(fmt.Sprintf("%s %s %d", w.Kind, w.Subject, w.Attempt), " ", "-")
		w.State, w.AskedAt = WorkAsked, tx.Now
	}
	return tx.CreateInBatches(works, 1000).Error
}

// WorkByKey returns the work, or ErrNotFound.
func WorkByKey(db *gorm.DB, key string) (Work, error) {
	return first[Work](db, fmt.Sprintf("work %q", key), "key = ?", key)
}

// LockWork is WorkByKey, and keeps others from changing the work until the transaction ends.
func LockWork(db *gorm.DB, key string) (Work, error) {
	return WorkByKey(db.Clauses(forChange), key)
}

// WorkBegan notes that the platform took the work on.
func WorkBegan(db *gorm.DB, key string) error {
	return db.Exec("update works set state = 'under way', why = '' where key = ? and state = 'asked'", key).Error
}

// WorkLost notes that the platform knows nothing of the work: it is asked again.
func WorkLost(db *gorm.DB, key string) error {
	return db.Exec("update works set state = 'asked' where key = ? and state = 'under way'", key).Error
}

// WorkWaits notes what a work under way waits for, "" if for nothing.
func WorkWaits(db *gorm.DB, key, why string) error {
	return db.Exec("update works set why = ? where key = ? and state = 'under way'", why, key).Error
}

// WorkIsLater notes why a work does not get on now, and looks at it again after the wait.
func WorkIsLater(db *gorm.DB, key, why string, wait time.Duration) error {
	return db.Exec(`update works set why = ?, next_poll_at = now() + ? * interval '1 second'
		where key = ? and state in ('asked', 'under way')`, why, wait.Seconds(), key).Error
}

// WorkProgressed notes how far a work is, in per cent, and how a delivery stands.
func (tx *Tx) WorkProgressed(w Work) error {
	return tx.Exec("update works set progress = ?, transfer = ?, pace = ? where key = ?", w.Progress, w.Transfer,
		w.Pace,
		w.Key).Error
}

// Succeeded says whether some attempt of a kind at a subject has succeeded.
func Succeeded(db *gorm.DB, kind WorkKind, subject string) (yes bool, err error) {
	err = db.Raw("select exists (select from works where kind = ? and subject = ? and state = 'succeeded')", kind,
		subject).Scan(&yes).Error
	return yes, err
}

// LastWork returns the last attempt of a kind at a subject, and whether there was one.
func LastWork(db *gorm.DB, kind WorkKind, subject string) (w Work, there bool, err error) {
	r := db.Where("kind = ? and subject = ?", kind, subject).Order("attempt desc").Limit(1).Find(&w)
	return w, r.RowsAffected == 1, r.Error
}

// WorksOf returns all attempts of a kind at a subject, in order.
func WorksOf(db *gorm.DB, kind WorkKind, subject string) (rows []Work, err error) {
	err = db.Where("kind = ? and subject = ?", kind, subject).Order("attempt").Find(&rows).Error
	return rows, err
}

// LastAttempt returns the number of the last attempt of a kind at a subject, 0 if there was none.
func LastAttempt(db *gorm.DB, kind WorkKind, subject string) (n int, err error) {
	err = db.Raw("select coalesce(max(attempt), 0) from works where kind = ? and subject = ?", kind,
		subject).Scan(&n).Error
	return n, err
}
