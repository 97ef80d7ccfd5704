package store

import (
	"time"

	"gorm.io/gorm"

	"nimblepane/core/host"
	"nimblepane/core/rollover"
)

// DriftReasons says why hosts that drift do so, by their IDs.
func DriftReasons(db *gorm.DB, drifting []HostRow) (map[int64]host.Drift, error) {
	reasons := map[int64]host.Drift{}
	if len(drifting) == 0 {
		return reasons, nil
	}
	ids := make([]int64, len(drifting))
	for i, h := range drifting {
		ids[i] = h.ID
	}
	var rows []struct {
		HostID      int64
		Pinned      bool
		TargetSince *time.Time
		Rollover    int64
		Phase       rollover.Phase
		Note        string
		Open        bool
	}
	err := db.Raw(`select h.id as host_id, p.pinned_id is not null as pinned,
			case when p.pinned_id is null then t.since else (select max(e.at) from trail e
				where e.subject = 'pool ' || p.name and e.verb = 'pool.pin') end as target_since,
			coalesce(m.rollover, 0) as rollover, coalesce(m.phase, '') as phase, coalesce(m.why, '') as note,
			coalesce(m.open, false) as open
		from hosts h join pools p on p.id = h.pool_id join pool_targets pt on pt.pool_id = p.id
		left join tracks t on t.image_id = p.image_id and t.name = p.track
		left join lateral (select o.id as rollover, m.phase, m.why, not o.settled as open
			from rollover_hosts m join rollovers o on o.id = m.rollover_id
			where m.host_id = h.id and o.target_id = pt.version_id order by o.id desc limit 1) m on true
		where h.id in ?`, ids).Scan(&rows).Error
	for _, r := range rows {
		d := host.Drift{
			Pinned: r.Pinned, Rollover: r.Rollover, Open: r.Open, Queued: r.Phase == rollover.Queued,
			Missed: r.Phase == rollover.Left || r.Phase == rollover.Failed, Note: r.Note,
		}
		if r.TargetSince != nil {
			d.TargetSince = *r.TargetSince
		}
		reasons[r.HostID] = d
	}
	for _, h := range drifting {
		d := reasons[h.ID]
		d.State, d.Why, d.DrainedBy = h.State, h.Why, h.DrainedBy
		reasons[h.ID] = d
	}
	return reasons, err
}
