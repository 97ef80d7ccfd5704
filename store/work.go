package store

import (
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Work is something asked of a platform.
type Work struct {
	Key        string `gorm:"primaryKey"`
	Kind       string
	SiteID     int64
	VersionID  int64
	CopyID     *int64
	HostID     *int64
	RolloverID *int64
	State      string
	Progress   int
	Why        string
	AskedAt    time.Time
	EndedAt    *time.Time
	NextPollAt time.Time `gorm:"<-:false"`
}

// Kinds and states of works.
const (
	WorkCapture    = "capture"
	WorkDeliver    = "deliver"
	WorkDeleteCopy = "delete-copy"
	WorkDeleteDisk = "delete-disk"
	WorkRebuild    = "rebuild"

	WorkAsked     = "asked"
	WorkUnderWay  = "under way"
	WorkSucceeded = "succeeded"
	WorkFailed    = "failed"
)

// Open says that the work has not ended.
func (w Work) Open() bool { return w.State == WorkAsked || w.State == WorkUnderWay }

// Ask writes down what platforms are to do. Whoever claims a work sees to it from there.
func (tx *Tx) Ask(works ...Work) error {
	if len(works) == 0 {
		return nil
	}
	for i := range works {
		works[i].State, works[i].AskedAt = WorkAsked, tx.Now
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

// WorkWaits notes what a work waits for that is under way.
func WorkWaits(db *gorm.DB, key, why string) error {
	return db.Exec("update works set why = ? where key = ? and state = 'under way'", why, key).Error
}

// WorkIsLater notes why a work does not get on now, and looks at it again after the wait.
func WorkIsLater(db *gorm.DB, key, why string, wait time.Duration) error {
	return db.Exec(`update works set why = ?, next_poll_at = now() + ? * interval '1 second'
		where key = ? and state in ('asked', 'under way')`, why, wait.Seconds(), key).Error
}

// WorkProgressed notes how far a work is, and the copy that it makes, in per cent.
func (tx *Tx) WorkProgressed(w Work, percent int) error {
	return errors.Join(
		tx.Exec("update copies set progress = ? where id = ?", percent, w.CopyID).Error,
		tx.Exec("update works set progress = ? where key = ?", percent, w.Key).Error,
	)
}

// FailedBefore counts how often the same was asked for and failed.
func FailedBefore(db *gorm.DB, w Work) (n int64, err error) {
	err = db.Model(&Work{}).Where("kind = ? and version_id = ? and copy_id is not distinct from ? and state = 'failed'", w.Kind, w.VersionID, w.CopyID).Count(&n).Error
	return n, err
}

// Deliveries counts how often the delivery of a copy was asked for.
func Deliveries(db *gorm.DB, copyID int64) (n int64, err error) {
	err = db.Model(&Work{}).Where("copy_id = ? and kind = ?", copyID, WorkDeliver).Count(&n).Error
	return n, err
}
