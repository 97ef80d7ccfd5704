package store

import (
	"fmt"

	"gorm.io/gorm"

	"nimblepane/core/host"
	"nimblepane/core/rollover"
)

// Pool is hosts of one kind for one group of people.
type Pool struct {
	ID           int64
	Name, Title  string
	SiteID       int64
	ImageID      int64
	Track        string
	PinnedID     *int64
	PinnedWhy    string
	HostCount    int
	HostPrefix   string
	SeatsPerHost int
	MachineClass string
	Revision     int
}

// Size is what options for it are checked against.
func (p Pool) Size() rollover.Pool {
	return rollover.Pool{Hosts: p.HostCount, SeatsPerHost: p.SeatsPerHost}
}

// Pools returns all pools by name.
func Pools(db *gorm.DB) (rows []Pool, err error) {
	err = db.Order("name").Find(&rows).Error
	return rows, err
}

// PoolsAt returns the pools of an image at a site, by name.
func PoolsAt(db *gorm.DB, imageID, siteID int64) (rows []Pool, err error) {
	err = db.Where("image_id = ? and site_id = ?", imageID, siteID).Order("name").Find(&rows).Error
	return rows, err
}

// PoolNamed returns the pool, or ErrNotFound.
func PoolNamed(db *gorm.DB, name string) (Pool, error) {
	return named[Pool](db, fmt.Sprintf("pool %q", name), "name", fresh(db), "name = ?", name)
}

// PoolByID returns the pool, or ErrNotFound.
func PoolByID(db *gorm.DB, id int64) (Pool, error) {
	return first[Pool](db, fmt.Sprintf("pool %d", id), "id = ?", id)
}

// PoolTarget returns the id of the version that the pool should run, 0 if its track names none.
func PoolTarget(db *gorm.DB, poolID int64) (int64, error) {
	var id *int64
	if err := db.Raw("select version_id from pool_targets where pool_id = ?", poolID).Scan(&id).Error; err != nil ||
		id == nil {
		return 0, err
	}
	return *id, nil
}

// PinnedTo returns the names of the pools that are pinned to the version.
func PinnedTo(db *gorm.DB, versionID int64) (names []string, err error) {
	err = db.Model(&Pool{}).Where("pinned_id = ?", versionID).Order("name").Pluck("name", &names).Error
	return names, err
}

// DriftIn counts the hosts that drift in some pools, and the pools that have such hosts.
func DriftIn(db *gorm.DB, poolIDs ...int64) (hosts, pools int, err error) {
	var n struct{ Hosts, Pools int }
	err = db.Raw("select count(*) as hosts, count(distinct pool_id) as pools from "+hostRows+
		" where drifts and pool_id in ?", append(poolIDs, 0)).Scan(&n).Error
	return n.Hosts, n.Pools, err
}

// OnOtherHosts counts the hosts of a pool that a rollover to a version takes
// (rollover.Host.Joins), and the people on them.
func OnOtherHosts(db *gorm.DB, poolID, versionID int64) (hosts, people int, err error) {
	var n struct{ Hosts, People int }
	err = db.Raw(`select count(*) as hosts, coalesce(sum(sessions), 0) as people from `+hostRows+`
		where pool_id = ? and (version_id is distinct from ? or state <> 'serving' and drained_by = '')`,
		poolID, versionID).Scan(&n).Error
	return n.Hosts, n.People, err
}

// PrefixTaken says whether a pool has the prefix for its hosts' names.
func PrefixTaken(db *gorm.DB, prefix string) (bool, error) {
	var n int64
	err := db.Model(&Pool{}).Where("host_prefix = ?", prefix).Count(&n).Error
	return n > 0, err
}

// Unpinned returns the pools of an image that follow a track, by name.
func Unpinned(db *gorm.DB, imageID int64) (rows []Pool, err error) {
	err = db.Where("image_id = ? and pinned_id is null", imageID).Order("name").Find(&rows).Error
	return rows, err
}

// PoolRow is a pool with all that is shown of it, but for its hosts.
type PoolRow struct {
	Name, Title, Site, Image, Track, Pinned, PinnedWhy, Target, MachineClass, HostPrefix string
	Hosts, SeatsPerHost, Revision                                                        int
	// the open one, 0 if none
	Rollover int64
}

// PoolRows returns the pools by name, or the one of the name if it is not "".
func PoolRows(db *gorm.DB, name string) (rows []PoolRow, err error) {
	if name != "" {
		db = db.Where("p.name = ?", name)
	}
	err = db.Table("pools p").Select(`p.name, p.title, s.name as site, i.name as image, p.track,
			coalesce(v.number, '') as pinned, p.pinned_why, coalesce(tv.number, '') as target, p.machine_class,
			p.host_prefix, p.host_count as hosts, p.seats_per_host, p.revision,
			coalesce((select max(o.id) from rollovers o where o.pool_id = p.id and not o.settled), 0) as rollover`).
		Joins("join sites s on s.id = p.site_id").Joins("join images i on i.id = p.image_id").
		Joins("join pool_targets t on t.pool_id = p.id").Joins("left join versions tv on tv.id = t.version_id").
		Joins("left join versions v on v.id = p.pinned_id").Order("p.name").Scan(&rows).Error
	return rows, err
}

// HostCount is how many hosts of a pool are in one state and run one version.
type HostCount struct {
	Pool, Version   string
	State           host.State
	Hosts, Drifting int
	Seats, Sessions int
	Taken           int // seats, at most as many as there are on each host
}

// HostCounts counts the hosts of all pools, or of the one of the name if it is not "".
func HostCounts(db *gorm.DB, pool string) (rows []HostCount, err error) {
	if pool != "" {
		db = db.Where("pool = ?", pool)
	}
	err = db.Table(hostRows).Select(`pool, state, version, count(*) as hosts, count(*) filter (where drifts) as drifting,
		sum(seats) as seats, sum(sessions) as sessions, sum(least(seats, sessions)) as taken`).
		Group("pool, state, version").Scan(&rows).Error
	return rows, err
}
