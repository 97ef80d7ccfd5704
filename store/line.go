package store

import (
	"time"

	"gorm.io/gorm"

	"nimblepane/core/delivery"
	"nimblepane/core/estate"
	"nimblepane/platform"
)

// Line is a line that leads to sites.
type Line struct {
	Name     string `gorm:"primaryKey"`
	Title    string
	Settings JSON[estate.Line] `gorm:"type:jsonb"`
}

// Lines returns all lines by name.
func Lines(db *gorm.DB) (rows []Line, err error) {
	err = db.Order("name").Find(&rows).Error
	return rows, err
}

// LineNamed returns the line, or ErrNotFound.
func LineNamed(db *gorm.DB, name string) (Line, error) {
	return named[Line](db, "line "+name, "name", fresh(db), "name = ?", name)
}

// DeliveryRow is a delivery of a copy of a version, or of a base's disk, with what it is called.
type DeliveryRow struct {
	Key      string
	Kind     WorkKind
	State    WorkState
	Progress int
	Why      string
	AskedAt  time.Time
	EndedAt  *time.Time
	Transfer *JSON[platform.Transfer]
	Pace     *JSON[delivery.Pace]
	SiteID   int64
	Site     string
	Line     string // "" if none leads to the site
	Silent   bool   // its site does not answer
	Own      bool   // its site is where the version was made
	Near     bool   // its site has what it brings already, and it was not seen to go over the line all the same
	Pilot    bool   // pools of its site try versions of the image out
	Image    string // "" of a base
	Number   string
	Ordinal  int
	Base     string
}

// Open says that the delivery has not ended.
func (d DeliveryRow) Open() bool { return d.State == WorkAsked || d.State == WorkUnderWay }

// selectDeliveries is what rows are read by; conditions follow.
const selectDeliveries = `select w.key, w.kind, w.state, w.progress, w.why, w.asked_at, w.ended_at, w.transfer, w.pace, w.site_id,
		s.name as site, coalesce(s.deliveries->>'line', '') as line, s.failures > 0 as silent,
		coalesce(split_part(v.source, '/', 1) = s.name, false) as own,
		coalesce(split_part(v.source, '/', 1) = s.name, false) or not coalesce((w.transfer->>'far')::boolean, false)
			and exists (select from copies o where o.version_id = v.id
				and o.site_id = w.site_id and o.id <> c.id and o.state = 'present') as near,
		exists (select from pools p where p.image_id = v.image_id and p.site_id = w.site_id and p.track = 'pilot') as pilot,
		coalesce(i.name, '') as image, coalesce(v.number, '') as number, coalesce(c.ordinal, 1) as ordinal, coalesce(b.name, '') as base
	from works w join sites s on s.id = w.site_id
		left join copies c on w.kind = 'deliver' and c.id = (w.input->>'copy')::bigint
		left join versions v on v.id = c.version_id left join images i on i.id = v.image_id
		left join base_copies bc on w.kind = 'deliver-base' and bc.id = (w.input->>'copy')::bigint
		left join bases b on b.id = bc.base_id
	where w.kind in ('deliver', 'deliver-base') `

// OpenDeliveries returns the deliveries that have not ended, the oldest first.
func OpenDeliveries(db *gorm.DB) (rows []DeliveryRow, err error) {
	err = db.Raw(selectDeliveries + "and w.state in ('asked', 'under way') order by w.asked_at, w.key").Scan(
		&rows).Error
	return rows, err
}

// DeliveryQuery says which deliveries are wanted; what is left out says nothing.
type DeliveryQuery struct {
	Site, Image string
	Ended       bool // those that have ended, too
	Limit       int
}

// Deliveries returns deliveries: those under way, then those that wait, both the oldest first, then those that have
// ended, the last first.
func Deliveries(db *gorm.DB, q DeliveryQuery) (rows []DeliveryRow, err error) {
	err = db.Raw(selectDeliveries+`and (? or w.state in ('asked', 'under way')) and (? = '' or s.name = ?) and (? = '' or i.name = ?)
		order by array_position(array['under way', 'asked'], w.state), w.ended_at desc, w.asked_at, w.key limit ?`,
		q.Ended, q.Site, q.Site, q.Image, q.Image, q.Limit).Scan(&rows).Error
	return rows, err
}

// DeliveriesNow has deliveries that wait looked at at once: one that ended may have kept them from their turn.
func DeliveriesNow(tx *Tx) error {
	return tx.Exec("update works set next_poll_at = now() where kind in ('deliver', 'deliver-base') and state = " +
		"'asked'").Error
}

// DeliveryByKey returns the delivery, or ErrNotFound.
func DeliveryByKey(db *gorm.DB, key string) (row DeliveryRow, err error) {
	r := db.Raw(selectDeliveries+"and w.key = ?", key).Scan(&row)
	if r.Error == nil && r.RowsAffected == 0 {
		return row, ErrNotFound
	}
	return row, r.Error
}

// DeliveriesOf returns the last delivery of each copy of an image's versions, by copy.
func DeliveriesOf(db *gorm.DB, imageID int64) (byCopy map[int64]DeliveryRow, err error) {
	var rows []struct {
		DeliveryRow
		CopyID int64
	}
	err = db.Raw(`select distinct on (x.copy_id) x.* from (
			select w.key, w.kind, w.state, w.progress, w.why, w.asked_at, w.ended_at, w.transfer, w.pace, w.attempt, c.id as copy_id
			from copies c join versions v on v.id = c.version_id and v.image_id = ? join works w on w.kind = 'deliver' and w.subject = 'copy ' || c.id
			where c.state <> 'deleted') x
		order by x.copy_id, x.attempt desc`, imageID).Scan(&rows).Error
	byCopy = map[int64]DeliveryRow{}
	for _, r := range rows {
		byCopy[r.CopyID] = r.DeliveryRow
	}
	return byCopy, err
}
