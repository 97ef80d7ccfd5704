package store

import "gorm.io/gorm"

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
	Hosts, SeatsPerHost, Edition                                                         int
	Rollover                                                                             int64 // the open one, 0 if none
}

// PoolRows returns the pools by name, or the one of the name if it is not "".
func PoolRows(db *gorm.DB, name string) (rows []PoolRow, err error) {
	if name != "" {
		db = db.Where("p.name = ?", name)
	}
	err = db.Table("pools p").Select(`p.name, p.title, s.name as site, i.name as image, p.track,
			coalesce(v.number, '') as pinned, p.pinned_why, coalesce(tv.number, '') as target, p.machine_class,
			p.host_prefix, p.host_count as hosts, p.seats_per_host, p.edition,
			coalesce((select max(o.id) from rollovers o where o.pool_id = p.id and not o.settled), 0) as rollover`).
		Joins("join sites s on s.id = p.site_id").Joins("join images i on i.id = p.image_id").
		Joins("join pool_targets t on t.pool_id = p.id").Joins("left join versions tv on tv.id = t.version_id").
		Joins("left join versions v on v.id = p.pinned_id").Order("p.name").Scan(&rows).Error
	return rows, err
}

// HostCount is how many hosts of a pool are in one state and run one version.
type HostCount struct {
	Pool, State, Version string
	Hosts, Drifting      int
	Seats, Sessions      int
	Taken                int // seats, at most as many as there are on each host
}

// HostCounts counts the hosts of all pools, or of the one of the name if it is not "".
func HostCounts(db *gorm.DB, pool string) (rows []HostCount, err error) {
	if pool != "" {
		db = db.Where("pool = ?", pool)
	}
	err = db.Table("host_rows").Select(`pool, state, version, count(*) as hosts, count(*) filter (where drifts) as drifting,
		sum(seats) as seats, sum(sessions) as sessions, sum(least(seats, sessions)) as taken`).
		Group("pool, state, version").Scan(&rows).Error
	return rows, err
}
