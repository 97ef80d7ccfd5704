package store

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/rollover"
)

// Rollover is one rollover of a pool.
type Rollover struct {
	ID         int64
	PoolID     int64
	TargetID   int64
	State      rollover.State
	Settled    bool // nothing of it is in flight any more
	Options    JSON[rollover.Options]
	Plan       JSON[rollover.Plan]
	Reverses   *int64
	Reason     string
	CreatedBy  string
	CreatedAt  time.Time
	StartedAt  *time.Time
	EndedAt    *time.Time
	PausedWhy  string
	Holds      Strings   `gorm:"type:jsonb"`
	NextTickAt time.Time `gorm:"<-:false"` // of the database's clock
}

// Name is how people call it.
func (r Rollover) Name() string { return fmt.Sprintf("rollover %d", r.ID) }

// JSON keeps a value of our own in one column.
type JSON[T any] struct{ V T }

func (JSON[T]) GormDataType() string { return "jsonb" }

func (j JSON[T]) Value() (driver.Value, error) {
	b, err := json.Marshal(j.V)
	return string(b), err
}

func (j *JSON[T]) Scan(v any) error { return scanJSON(v, &j.V) }

// RolloverHost is a host within a rollover.
type RolloverHost struct {
	RolloverID int64 `gorm:"primaryKey"`
	HostID     int64 `gorm:"primaryKey"`
	Phase      rollover.Phase
	Since      time.Time
	Batch      int
	Why        string
	FromID     *int64 // the version that it ran before
	Wiped      bool   // its old disk is gone
}

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

// RolloverByID returns the rollover, or ErrNotFound.
func RolloverByID(db *gorm.DB, id int64) (Rollover, error) {
	return first[Rollover](db, fmt.Sprintf("rollover %d", id), "id = ?", id)
}

// PoolOfRollover returns the pool of the rollover whose number is written so, or ErrNotFound.
func PoolOfRollover(db *gorm.DB, number string) (Pool, error) {
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		return Pool{}, fmt.Errorf("rollover %q: %w", number, ErrNotFound)
	}
	r, err := RolloverByID(db, id)
	if err != nil {
		return Pool{}, err
	}
	return PoolByID(db, r.PoolID)
}

// OpenRollovers returns the rollovers of a pool that have something in flight or to come.
func OpenRollovers(db *gorm.DB, poolID int64) (rows []Rollover, err error) {
	err = db.Where("pool_id = ? and not settled", poolID).Order("id").Find(&rows).Error
	return rows, err
}

// RolloverHosts returns the hosts of a rollover.
func RolloverHosts(db *gorm.DB, id int64) (rows []RolloverHost, err error) {
	err = db.Where("rollover_id = ?", id).Order("host_id").Find(&rows).Error
	return rows, err
}
