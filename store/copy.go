package store

import (
	"fmt"

	"gorm.io/gorm"

	"nimblepane/core/image"
)

// Copy is a version's disk at a site.
type Copy struct {
	ID        int64
	VersionID int64
	SiteID    int64
	Ordinal   int
	State     image.CopyState
	Progress  int
	Failure   string
}

// Copies returns the copies of a version that are or will be there.
func Copies(db *gorm.DB, versionID int64) (rows []Copy, err error) {
	err = db.Where("version_id = ? and state <> 'deleted'", versionID).Order("site_id, ordinal").Find(&rows).Error
	return rows, err
}

// CopyByID returns the copy, or ErrNotFound.
func CopyByID(db *gorm.DB, id int64) (Copy, error) {
	return first[Copy](db, fmt.Sprintf("copy %d", id), "id = ?", id)
}

// CopiesAt returns the copies of a version at a site that hosts can be cloned from.
func CopiesAt(db *gorm.DB, versionID, siteID int64) (rows []Copy, err error) {
	err = db.Where("version_id = ? and site_id = ? and state = ?", versionID, siteID,
		image.CopyPresent).Order("ordinal").Find(&rows).Error
	return rows, err
}

// CopyBeside is a copy with its version's number.
type CopyBeside struct {
	Copy
	Number string
}

// CopiesBeside returns the copies of an image at a site that are there, those of the version made nearest to the one
// given first.
func CopiesBeside(db *gorm.DB, imageID, siteID, versionID int64) (rows []CopyBeside, err error) {
	err = db.Raw(`select c.*, v.number from copies c join versions v on v.id = c.version_id
		where v.image_id = ? and c.site_id = ? and c.state = 'present' order by abs(v.id - ?), v.id desc, c.ordinal`, imageID, siteID,
		versionID).Scan(&rows).Error
	return rows, err
}

// CopiesPresent counts the copies of a version at a site that hosts can be cloned from.
func CopiesPresent(db *gorm.DB, versionID, siteID int64) (n int64, err error) {
	err = db.Model(&Copy{}).Where("version_id = ? and site_id = ? and state = 'present'", versionID,
		siteID).Count(&n).Error
	return n, err
}

// CopiesFailed returns the copies of an image's versions that could not be delivered, of those that may be used.
func CopiesFailed(db *gorm.DB, imageID int64) (rows []Copy, err error) {
	err = db.Raw("select c.* from copies c join versions v on v.id = c.version_id where v.image_id = ? and c.state "+
		"= 'failed' and v.barred = ''", imageID).Scan(&rows).Error
	return rows, err
}

// CopyRow is a copy with its site's name.
type CopyRow struct {
	Copy
	Site string
}

// CopyRows returns the copies of an image's versions that are or will be there, by site.
func CopyRows(db *gorm.DB, imageID int64) (rows []CopyRow, err error) {
	err = db.Raw(`select c.*, s.name as site from copies c join sites s on s.id = c.site_id join versions v on v.id = c.version_id
		where v.image_id = ? and c.state <> 'deleted' order by s.name, c.ordinal`, imageID).Scan(&rows).Error
	return rows, err
}

// CopyArrived notes that a copy is there whole.
func (tx *Tx) CopyArrived(id int64) error {
	return tx.Exec("update copies set state = 'present', progress = 100 where id = ? and state = 'delivering'",
		id).Error
}

// CopyProgressed notes how far the delivery of a copy is, in per cent.
func (tx *Tx) CopyProgressed(id int64, percent int) error {
	return tx.Exec("update copies set progress = ? where id = ?", percent, id).Error
}

// CopyDidNotArrive notes why a copy could not be delivered.
func (tx *Tx) CopyDidNotArrive(id int64, why string) error {
	return tx.Exec("update copies set state = 'failed', failure = ? where id = ? and state = 'delivering'", why,
		id).Error
}

// CopyIsComing notes that a copy is delivered again.
func (tx *Tx) CopyIsComing(id int64) error {
	return tx.Exec("update copies set state = 'delivering', progress = 0, failure = '' where id = ?", id).Error
}

// CopyIsGone notes that a copy was deleted.
func (tx *Tx) CopyIsGone(id int64) error {
	return tx.Exec("update copies set state = 'deleted', failure = '' where id = ?", id).Error
}

// CopyStays notes why a copy could not be deleted.
func (tx *Tx) CopyStays(id int64, why string) error {
	return tx.Exec("update copies set failure = ? where id = ?", why, id).Error
}

// SitesOf returns the sites that have a pool of the image.
func SitesOf(db *gorm.DB, imageID int64) (ids []int64, err error) {
	err = db.Model(&Pool{}).Where("image_id = ?", imageID).Distinct().Order("site_id").Pluck("site_id", &ids).Error
	return ids, err
}
