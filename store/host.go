package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/agent"
	"nimblepane/core/host"
)

// Host is one machine of a pool.
type Host struct {
	ID        int64
	Name      string
	PoolID    int64
	State     host.State
	Since     time.Time
	VersionID *int64 // what its disk was made from
	Why       string // why it is faulty
	// MachineWhy is what was seen of the machine of a faulty host.
	MachineWhy string
	// Silent marks a host that is faulty only because its agent is silent: it
	// comes back by itself when the agent speaks.
	Silent    bool
	DrainedBy string
	// DrainOrder numbers the drain order in force, 0 if the host takes
	// sessions. The agent's heartbeat confirms it by its number, so that a
	// confirmation of an earlier drain is not taken for one of this.
	DrainOrder int64
	CheckOrder int64 // numbers the checks asked for, likewise
	Machine    bool  // it has a machine whose disk was made whole
	Unserved   bool  // the machine was told to refuse everybody ever since its disk was made
	// VouchedAt is when a person gave their word that nobody is on it, nil if nobody did.
	VouchedAt *time.Time
}

// HostRow is a host with all that is shown of it.
type HostRow struct {
	ID        int64
	Name      string
	PoolID    int64
	Pool      string
	Site      string
	Image     string
	State     host.State
	Since     time.Time
	Why       string
	DrainedBy string
	VersionID *int64
	Version   string
	TargetID  *int64
	Target    string
	Drifts    bool
	Seats     int
	SeenAt    *time.Time
	Load      float64
	Stamp     string
	Checks    agent.ChecksState
	ChecksWhy string
	Sessions  int
}

// hostRows selects hosts with all that is shown of them, as r. What they have
// of their pool is planned by itself (a subquery with an offset is): to find
// the best order of nine tables at once takes PostgreSQL longer than to read a
// page of hosts.
const hostRows = `(
	select h.id, h.name, h.pool_id, p.pool, p.site, p.image, h.state, h.since,
	       h.why || case when h.state = 'faulty' and h.machine_why <> '' then '; ' || h.machine_why else '' end as why,
	       h.drained_by, h.version_id, coalesce(v.number, '') as version, p.target_id, p.target,
	       p.target_id is not null and h.version_id is distinct from p.target_id as drifts,
	       p.seats, u.seen_at, u.load, u.stamp, u.checks, u.checks_why,
	       case when h.state in ('off', 'rebuilding') then 0 else jsonb_array_length(u.sessions) end as sessions
	from hosts h
	join (
	  select p.id, p.name as pool, s.name as site, i.name as image, p.seats_per_host as seats,
	         pt.version_id as target_id, coalesce(v.number, '') as target
	  from pools p
	  join sites s on s.id = p.site_id
	  join images i on i.id = p.image_id
	  join pool_targets pt on pt.pool_id = p.id
	  left join versions v on v.id = pt.version_id
	  offset 0) p on p.id = h.pool_id
	join pulses u on u.host_id = h.id
	left join versions v on v.id = h.version_id) r`

// PeopleOn counts the people who are signed in on the hosts.
func PeopleOn(db *gorm.DB, hostIDs []int64) (n int, err error) {
	err = db.Raw("select coalesce(sum(sessions), 0) from "+hostRows+" where id in ?", append(hostIDs, 0)).Scan(&n).Error
	return n, err
}

// HostFilter selects hosts; empty fields select all.
type HostFilter struct {
	Pool, Site, Image, Version string
	State                      host.State
	Drifts                     bool
	Find                       string // in the name
	After                      string // only hosts with a greater name
	Limit                      int
}

// HostRows returns a page of hosts by name.
func HostRows(db *gorm.DB, f HostFilter) (rows []HostRow, err error) {
	for column, value := range map[string]string{
		"pool": f.Pool, "site": f.Site, "image": f.Image,
		"state": string(f.State), "version": f.Version,
	} {
		if value != "" {
			db = db.Where(column+" = ?", value)
		}
	}
	if f.Find != "" {
		db = db.Where("name ilike ?", containing(f.Find))
	}
	if f.Drifts {
		db = db.Where("drifts")
	}
	if f.After != "" {
		db = db.Where("name > ?", f.After)
	}
	if f.Limit > 0 {
		db = db.Limit(f.Limit)
	}
	err = db.Table(hostRows).Order("name").Find(&rows).Error
	return rows, err
}

// HostRowNamed returns the host, or ErrNotFound.
func HostRowNamed(db *gorm.DB, name string) (HostRow, error) {
	return first[HostRow](db.Table(hostRows), fmt.Sprintf("host %q", name), "name = ?", name)
}

// HostNamed returns the host, or ErrNotFound.
func HostNamed(db *gorm.DB, name string) (Host, error) {
	return first[Host](db, fmt.Sprintf("host %q", name), "name = ?", name)
}

// HostByID returns the host, or ErrNotFound.
func HostByID(db *gorm.DB, id int64) (Host, error) {
	return first[Host](db, fmt.Sprintf("host %d", id), "id = ?", id)
}

// ClaimFaulty returns faulty hosts whose machines are to be looked at, and
// keeps them from others for so long.
func (s *Store) ClaimFaulty(ctx context.Context, limit int, hold time.Duration) (rows []Host, err error) {
	err = s.DB.WithContext(ctx).Raw(`
		update hosts set look_at = now() + ? * interval '1 second' where id in (
		  select id from hosts where state = 'faulty' and look_at <= now() order by look_at limit ? for update skip locked)
		returning *`, hold.Seconds(), limit).Scan(&rows).Error
	return rows, err
}

// MachineSeen notes what is wrong with the machine of a host, if the host is as faulty as it was.
func (tx *Tx) MachineSeen(h Host, why string) error {
	return tx.Exec("update hosts set machine_why = ? where id = ? and state = 'faulty' and since = ?", why, h.ID,
		h.Since).Error
}

// InHand returns the host's place in a rollover that has it in flight; false if none has.
func InHand(db *gorm.DB, hostID int64) (m RolloverHost, in bool, err error) {
	var rows []RolloverHost
	err = db.Raw(`select m.* from rollover_hosts m join rollovers r on r.id = m.rollover_id
		where m.host_id = ? and not r.settled and m.phase in ('draining', 'warned', 'emptied', 'rebuilding', 'checking')`, hostID).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return m, false, err
	}
	return rows[0], true, nil
}

// NextOrder returns a number for an order to drain or to check.
func (tx *Tx) NextOrder() (n int64, err error) {
	err = tx.Raw("select nextval('order_numbers')").Scan(&n).Error
	return n, err
}

// AddHosts adds hosts to a pool, and the pulse of each.
func (tx *Tx) AddHosts(poolID int64, hosts []Host) error {
	if err := tx.CreateInBatches(hosts, 1000).Error; err != nil {
		return err
	}
	return tx.Exec(`insert into pulses (host_id)
		select id from hosts h where pool_id = ? and not exists (select from pulses u where u.host_id = h.id)`, poolID).Error
}

// HostsOn returns the names of the hosts that run the version, or are made from it.
func HostsOn(db *gorm.DB, versionID int64) (names []string, err error) {
	err = db.Model(&Host{}).Where("version_id = ?", versionID).Order("name").Pluck("name", &names).Error
	return names, err
}

// OutOfService is the hosts of a pool that are out of service for the same cause.
type OutOfService struct {
	Pool      string
	State     host.State
	N         int
	Name, Why string // of the first by name
}

// HostsOutOfService returns the hosts that are faulty or drained by hand, by pool and state.
func HostsOutOfService(db *gorm.DB) (rows []OutOfService, err error) {
	err = db.Raw(`select distinct on (r.pool, r.state) r.pool, r.state, r.name, r.why, count(*) over (partition by r.pool, r.state) as n
		from ` + hostRows + ` where r.state = 'faulty' or r.state in ('draining', 'emptied') and r.drained_by <> ''
		order by r.pool, r.state, r.name`).Scan(&rows).Error
	return rows, err
}

// Drift is how many hosts of a pool run another version than they should.
type Drift struct {
	Pool, Target string
	N, Total     int
}

// Drifts returns the drift of the pools that no rollover has in hand: one that is being rolled drifts by intent.
func Drifts(db *gorm.DB) (rows []Drift, err error) {
	err = db.Raw(`select r.pool, max(r.target) as target, count(*) filter (where r.drifts) as n, count(*) as total
		from ` + hostRows + ` where not exists (select from rollovers o where o.pool_id = r.pool_id and not o.settled)
		group by 1 having count(*) filter (where r.drifts) > 0 order by 1`).Scan(&rows).Error
	return rows, err
}

// Hosts returns the hosts of a pool by name.
func Hosts(db *gorm.DB, poolID int64) (rows []Host, err error) {
	err = db.Where("pool_id = ?", poolID).Order("name").Find(&rows).Error
	return rows, err
}
