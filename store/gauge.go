package store

import (
	"fmt"

	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/core/flaw"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
)

// RolloverCount is how many rollovers of a pool are open in a state.
type RolloverCount struct {
	Pool      string
	State     rollover.State
	Rollovers int
}

// RolloverCounts counts the open rollovers.
func RolloverCounts(db *gorm.DB) (rows []RolloverCount, err error) {
	err = db.Raw(`select p.name as pool, r.state, count(*) as rollovers from rollovers r join pools p on p.id = r.pool_id
		where not r.settled group by p.name, r.state`).Scan(&rows).Error
	return rows, err
}

// BuildCount is how many builds of an image are in a state that is not the last.
type BuildCount struct {
	Image  string
	State  build.State
	Builds int
}

// BuildCounts counts the builds that have not ended.
func BuildCounts(db *gorm.DB) (rows []BuildCount, err error) {
	err = db.Raw(`select i.name as image, b.state, count(*) as builds from builds b join images i on i.id = b.image_id
		where b.ended_at is null group by i.name, b.state`).Scan(&rows).Error
	return rows, err
}

// CopyCount is how many copies at a site are in a state.
type CopyCount struct {
	Site   string
	State  image.CopyState
	Copies int
}

// CopyCounts counts the copies that are at sites or come there, with 0 for what a site has none of.
func CopyCounts(db *gorm.DB) (rows []CopyCount, err error) {
	err = db.Raw(`select s.name as site, state.state, count(c.id) as copies
		from sites s cross join unnest(cast(? as text[])) as state(state)
		left join copies c on c.site_id = s.id and c.state = state.state
		group by s.name, state.state`,
		fmt.Sprintf("{%s,%s,%s}", image.CopyDelivering, image.CopyPresent, image.CopyFailed)).Scan(&rows).Error
	return rows, err
}

// FlawCount is how many known flaws of a severity were found in a version that is used.
type FlawCount struct {
	Image, Version string
	Severity       flaw.Severity
	Flaws          int
}

// FlawCounts counts the known flaws of all versions that tracks or pins name, or hosts run. A version that was not
// looked at, or has none, is not among them.
func FlawCounts(db *gorm.DB) (rows []FlawCount, err error) {
	err = db.Raw(`select i.name as image, v.number as version, one ->> 'severity' as severity, count(*) as flaws
		from versions v join images i on i.id = v.image_id join flaws_found f on f.version_id = v.id,
			jsonb_array_elements(f.found) as one
		where ` + used + ` group by i.name, v.number, one ->> 'severity'`).Scan(&rows).Error
	return rows, err
}
