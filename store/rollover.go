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

// RolloverRow is a rollover with all that is shown of it, but for its hosts.
type RolloverRow struct {
	Rollover
	Pool, Image, Version string
	Phases               JSON[map[string]int] // how many hosts are in which phase
	Batch                int                  // the newest
}

// RolloverFilter selects rollovers; empty fields select all.
type RolloverFilter struct {
	ID     int64
	Pool   string
	State  string
	Open   bool  // only those with something in flight or to come
	Before int64 // only those with a smaller number
	Limit  int
}

// RolloverRows returns a page of rollovers, the newest first.
func RolloverRows(db *gorm.DB, f RolloverFilter) (rows []RolloverRow, err error) {
	if f.ID != 0 {
		db = db.Where("r.id = ?", f.ID)
	}
	if f.Pool != "" {
		db = db.Where("p.name = ?", f.Pool)
	}
	if f.State != "" {
		db = db.Where("r.state = ?", f.State)
	}
	if f.Open {
		db = db.Where("not r.settled")
	}
	if f.Before != 0 {
		db = db.Where("r.id < ?", f.Before)
	}
	if f.Limit > 0 {
		db = db.Limit(f.Limit)
	}
	err = db.Table("rollovers r").Select(`r.*, p.name as pool, i.name as image, v.number as version,
			coalesce((select jsonb_object_agg(phase, n)
			  from (select phase, count(*) as n from rollover_hosts m where m.rollover_id = r.id group by phase) x), '{}') as phases,
			coalesce((select max(batch) from rollover_hosts m where m.rollover_id = r.id), 0) as batch`).
		Joins("join pools p on p.id = r.pool_id").Joins("join versions v on v.id = r.target_id").
		Joins("join images i on i.id = v.image_id").Order("r.id desc").Scan(&rows).Error
	return rows, err
}

// MemberRow is a host within a rollover, with all that is shown of it.
type MemberRow struct {
	Host, State, Phase string
	Since              time.Time
	Batch              int
	Why, From, Version string
	Sessions, Progress int
}

// MemberRows returns the hosts of a rollover by name.
func MemberRows(db *gorm.DB, id int64) (rows []MemberRow, err error) {
	err = db.Raw(`select r.name as host, r.state, m.phase, m.since, m.batch, m.why, coalesce(v.number, '') as "from",
		  r.version, r.sessions, coalesce(w.progress, 0) as progress
		from rollover_hosts m join host_rows r on r.id = m.host_id left join versions v on v.id = m.from_id
		left join works w on w.key = 'rebuild-' || m.rollover_id || '-' || m.host_id
		where m.rollover_id = ? order by r.name`, id).Scan(&rows).Error
	return rows, err
}

// TickNow makes a rollover due.
func (tx *Tx) TickNow(id int64) error {
	return tx.Exec("update rollovers set next_tick_at = now() where id = ? and not settled", id).Error
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
