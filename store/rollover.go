package store

import (
	"fmt"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
	"gorm.io/gorm"

	"nimblepane/agent"
	"nimblepane/core/delivery"
	"nimblepane/core/host"
	"nimblepane/core/rollover"
)

// Rollover is one rollover of a pool.
type Rollover struct {
	ID        int64
	PoolID    int64
	TargetID  int64
	State     rollover.State
	Settled   bool // nothing of it is in flight any more
	Options   JSON[rollover.Options]
	Plan      JSON[rollover.Plan]
	Reverses  *int64
	Reason    string
	CreatedBy string
	CreatedAt time.Time
	StartedAt *time.Time
	EndedAt   *time.Time
	PausedWhy string
	// StoppedWhy is the reason that was given for stopping it, if any.
	StoppedWhy string
	Holds      Strings `gorm:"type:jsonb"`
	// Members are its hosts as they were when it was added. They are not read with it.
	Members []RolloverHost `gorm:"-"`
}

// Name is how people call it.
func (r Rollover) Name() string { return fmt.Sprintf("rollover %d", r.ID) }

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
	Phases               JSON[map[rollover.Phase]int] // how many hosts are in which phase
	Batch                int                          // the newest
}

// RolloverFilter selects rollovers; empty fields select all.
type RolloverFilter struct {
	ID     int64
	Pool   string
	State  rollover.State
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
	Host               string
	State              host.State
	Phase              rollover.Phase
	Since              time.Time
	Batch              int
	Why, From, Version string
	Sessions, Progress int
}

// MemberRows returns the hosts of a rollover by name.
func MemberRows(db *gorm.DB, id int64) (rows []MemberRow, err error) {
	err = db.Raw(`select r.name as host, r.state, m.phase, m.since, m.batch, m.why, coalesce(v.number, '') as "from",
		  r.version, r.sessions, coalesce(w.progress, 0) as progress
		from rollover_hosts m join `+hostRows+` on r.id = m.host_id left join versions v on v.id = m.from_id
		left join works w on w.kind = ? and w.subject = 'rollover ' || m.rollover_id || ' host ' || m.host_id
		where m.rollover_id = ? order by r.name`, WorkRebuild, id).Scan(&rows).Error
	return rows, err
}

// TickNow makes a rollover due.
func (tx *Tx) TickNow(id int64) error {
	return tx.Exec("update rollovers set next_tick_at = now() where id = ? and not settled", id).Error
}

// AddRollover adds a rollover with its hosts.
func (tx *Tx) AddRollover(r *Rollover, members []RolloverHost) error {
	if err := tx.Create(r).Error; err != nil {
		return err
	}
	for i := range members {
		members[i].RolloverID = r.ID
	}
	r.Members = members
	return tx.CreateInBatches(members, 1000).Error
}

// FailedHosts counts the hosts of a rollover that failed.
func FailedHosts(db *gorm.DB, id int64) (n int64, err error) {
	err = db.Model(&RolloverHost{}).Where("rollover_id = ? and phase = ?", id, rollover.Failed).Count(&n).Error
	return n, err
}

// AllOpenRollovers returns the rollovers of all pools that have something in flight or to come.
func AllOpenRollovers(db *gorm.DB) (rows []Rollover, err error) {
	err = db.Where("not settled").Order("id").Find(&rows).Error
	return rows, err
}

// RolloversTo returns the open rollovers that take hosts to a version.
func RolloversTo(db *gorm.DB, versionID int64) (rows []Rollover, err error) {
	err = db.Where("target_id = ? and not settled", versionID).Order("id").Find(&rows).Error
	return rows, err
}

// LastRollover returns a pool's last rollover, other than of single hosts; false if there was none.
func LastRollover(db *gorm.DB, poolID int64) (r Rollover, was bool, err error) {
	var rows []Rollover
	err = db.Where("pool_id = ? and not (plan->>'Forced')::bool", poolID).Order("id desc").Limit(1).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return r, false, err
	}
	return rows[0], true, nil
}

// UsualOptions are those of a pool's last rollover, other than of single hosts: its people are used to them. Without
// one they are the defaults. They can be carried out on the pool as it is now.
func UsualOptions(db *gorm.DB, p Pool) (rollover.Options, error) {
	last, was, err := LastRollover(db, p.ID)
	if err != nil || !was {
		return rollover.DefaultOptions.FloorFor(p.Size()), err
	}
	o := last.Options.V
	o.EarliestStart = time.Time{}
	if o.Check(p.Size()) != nil {
		return rollover.DefaultOptions.FloorFor(p.Size()), nil // the pool is another by now
	}
	return o, nil
}

// DecisionRow is what is known of a host for a decision.
type DecisionRow struct {
	ID        int64
	Name      string
	State     host.State
	VersionID int64 // 0 for none
	DrainedBy string
	Machine   bool
	Unserved  bool
	VouchedAt time.Time // zero for never, as are the others
	SeenAt    time.Time
	Stamp     string
	Confirmed bool              // the last heartbeat confirms the present drain order
	Checks    agent.ChecksState // of the present check order, "" while there are none
	ChecksWhy string
	People    int               // who are on it
	Sessions  []DecisionSession // theirs, while they are to leave
	Phase     rollover.Phase
	Since     time.Time
	Batch     int
	WorkState WorkState // of its rebuild, while that goes on
	WorkWhy   string
}

// DecisionSession is what is known of a session for a decision.
type DecisionSession struct {
	Key    string `json:"key"`
	Person string `json:"person"`
}

// DecisionRows returns all hosts of the rollover's pool, with their part in the rollover.
func (tx *Tx) DecisionRows(r Rollover, pool Pool) ([]DecisionRow, error) {
	out := make([]DecisionRow, 0, pool.HostCount)
	var vouched, seen, since pgtype.Timestamptz
	err := tx.read(func(rows pgx.Rows) error {
		out = append(out, DecisionRow{})
		d := &out[len(out)-1]
		// As the plain strings that they are, these need no reflection.
		err := rows.Scan(&d.ID, &d.Name, (*string)(&d.State), &d.VersionID, &d.DrainedBy, &d.Machine, &d.Unserved,
			&vouched, &seen, &d.Stamp, &d.Confirmed, (*string)(&d.Checks), &d.ChecksWhy, &d.People, &d.Sessions,
			(*string)(&d.Phase), &since, &d.Batch, (*string)(&d.WorkState), &d.WorkWhy)
		d.VouchedAt, d.SeenAt, d.Since = vouched.Time, seen.Time, since.Time
		return err
	}, `
		select h.id, h.name, h.state, coalesce(h.version_id, 0), h.drained_by, h.machine, h.unserved, h.vouched_at,
		       u.seen_at, u.stamp,
		       h.drain_order <> 0 and u.drain_confirmed = h.drain_order,
		       case when h.check_order <> 0 and u.checks_order = h.check_order then u.checks else '' end,
		       case when h.check_order <> 0 and u.checks_order = h.check_order then u.checks_why else '' end,
		       case when h.state in ('off', 'rebuilding') then 0 else jsonb_array_length(u.sessions) end,
		       case when m.phase in ('draining', 'warned', 'emptied') and u.sessions <> '[]' then u.sessions end,
		       coalesce(m.phase, ''), m.since, coalesce(m.batch, 0),
		       coalesce(w.state, ''), coalesce(w.why, '')
		from hosts h
		join pulses u on u.host_id = h.id
		left join rollover_hosts m on m.host_id = h.id and m.rollover_id = @r
		left join works w on w.kind = @rebuild
		  and w.subject = case when m.phase = 'rebuilding' then 'rollover ' || m.rollover_id || ' host ' || h.id end
		where h.pool_id = @pool`, pgx.NamedArgs{"r": r.ID, "pool": pool.ID, "rebuild": WorkRebuild})
	return out, err
}

// Rebuilds counts rebuilds at a site.
type Rebuilds struct {
	Cloning int // from a version, that have not ended
	Recent  int // asked for after a time
	Mine    int // of those, by one rollover
	Stuck   int // asked for before it, and not taken on yet
}

// WorkRebuild is the kind of work that makes a host anew. Its input names the
// version and the rollover that it is counted by.
const WorkRebuild WorkKind = "rebuild"

// RebuildSubject is what the rebuild of a host by a rollover is about: there is one of it.
func RebuildSubject(rolloverID, hostID int64) string {
	return fmt.Sprintf("rollover %d host %d", rolloverID, hostID)
}

// RebuildsAt counts the rebuilds at a site for a rollover, recent ones since
// the time. The kind is spelled out as in the index that there is for this.
func RebuildsAt(db *gorm.DB, siteID int64, r Rollover, since time.Time) (n Rebuilds, err error) {
	err = db.Raw(`
		select count(*) filter (where state in ('asked', 'under way') and (input->>'version')::bigint = @version) as cloning,
		       count(*) filter (where asked_at > @since) as recent,
		       count(*) filter (where asked_at > @since and (input->>'rollover')::bigint = @r) as mine,
		       count(*) filter (where state = 'asked' and asked_at < @since) as stuck
		from works where site_id = @site and kind = 'rebuild' and (state in ('asked', 'under way') or asked_at > @since)`,
		map[string]any{"version": r.TargetID, "since": since, "r": r.ID, "site": siteID}).Scan(&n).Error
	return n, err
}

// CloneTimes returns how long clones took at a site of late, and how long hosts until they were back in service, both
// since they were ordered: those in the middle of the last ones.
func CloneTimes(db *gorm.DB, siteID int64) (clone, host delivery.Seen, err error) {
	var row struct {
		Clones, Hosts    int
		Clone, HostsTook float64
	}
	err = db.Raw(`
		select count(*) as clones, count(*) filter (where m.phase = 'done') as hosts,
		  coalesce(percentile_cont(0.5) within group (order by extract(epoch from w.ended_at - w.asked_at)), 0) as clone,
		  coalesce(percentile_cont(0.5) within group (order by extract(epoch from m.since - w.asked_at))
		    filter (where m.phase = 'done'), 0) as hosts_took
		from (select * from works where site_id = ? and kind = 'rebuild' and state = 'succeeded'
		  order by asked_at desc limit ?) w
		left join rollover_hosts m on m.rollover_id = (w.input->>'rollover')::bigint and m.host_id = (w.input->>'host')::bigint`,
		siteID, clonesSeen).Scan(&row).Error
	span := func(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }
	return delivery.Seen{Time: span(row.Clone), Of: row.Clones},
		delivery.Seen{Time: span(row.HostsTook), Of: row.Hosts}, err
}

// clonesSeen is of how many clones it is remembered how long they took.
const clonesSeen = 50

// OpenRebuildsAt counts the hosts that are made anew at a site now.
func OpenRebuildsAt(db *gorm.DB, siteID int64) (n int64, err error) {
	err = db.Model(&Work{}).Where("site_id = ? and kind = ? and state in ('asked', 'under way')", siteID,
		WorkRebuild).Count(&n).Error
	return n, err
}

// OpenRollovers returns the rollovers of a pool that have something in flight or to come.
func OpenRollovers(db *gorm.DB, poolID int64) (rows []Rollover, err error) {
	err = db.Where("pool_id = ? and not settled", poolID).Order("id").Find(&rows).Error
	return rows, err
}

// OpenElsewhere returns the rollovers of some pools, with the names of the pools and the numbers of the versions, that
// are not stopped and take hosts to another version than one.
func OpenElsewhere(db *gorm.DB, versionID int64, poolIDs ...int64) (rows []struct {
	ID           int64
	Pool, Number string
	State        rollover.State
}, err error,
) {
	err = db.Raw(`select r.id, p.name as pool, v.number, r.state from rollovers r join pools p on p.id = r.pool_id
			join versions v on v.id = r.target_id
		where r.pool_id in ? and not r.settled and r.state <> 'stopped' and r.target_id <> ? order by r.id`,
		append(poolIDs, 0), versionID).Scan(&rows).Error
	return rows, err
}

// RolloverHosts returns the hosts of a rollover.
func RolloverHosts(db *gorm.DB, id int64) (rows []RolloverHost, err error) {
	err = db.Where("rollover_id = ?", id).Order("host_id").Find(&rows).Error
	return rows, err
}

// NotStopped returns the one of a pool's open rollovers that was not stopped, nil if there is none.
func NotStopped(open []Rollover) *Rollover {
	for i := range open {
		if open[i].State != rollover.Stopped {
			return &open[i]
		}
	}
	return nil
}
