package store

import (
	"fmt"
	"time"

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
	ReadAt    *time.Time // when it was found intact last, as a whole
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

// FailedCopy is a copy that cannot be used, with its version's number and its site's name.
type FailedCopy struct {
	Copy
	Number, Site string
}

// CopiesFailed returns the copies of an image's versions that cannot be used, of the versions that may be.
func CopiesFailed(db *gorm.DB, imageID int64) (rows []FailedCopy, err error) {
	err = db.Raw(`select c.*, v.number, s.name as site from copies c join versions v on v.id = c.version_id join sites s on s.id = c.site_id
		where v.image_id = ? and c.state = 'failed' and v.barred = '' and v.state = 'sealed' order by v.id, s.name, c.ordinal`, imageID).
		Scan(&rows).Error
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
	return tx.Exec("update copies set state = 'present', progress = 100, read_at = ? where id = ? and state = "+
		"'delivering'",
		tx.Now, id).Error
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
	return tx.Exec("update copies set state = 'delivering', progress = 0, failure = '', read_at = null where id = ?",
		id).Error
}

// CopyLeaves notes that a copy is one too many: nothing is made from it any more, and it is to be deleted.
func (tx *Tx) CopyLeaves(id int64) error {
	return tx.Exec("update copies set state = 'leaving' where id = ? and state in ('present', 'failed')", id).Error
}

// DeletedCopy returns the copy that a version had at a site by the ordinal and that was deleted, and whether there was.
func DeletedCopy(db *gorm.DB, versionID, siteID int64, ordinal int) (c Copy, was bool, err error) {
	r := db.Where("version_id = ? and site_id = ? and ordinal = ? and state = 'deleted'", versionID, siteID,
		ordinal).Limit(1).Find(&c)
	return c, r.RowsAffected == 1, r.Error
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

// WorkReadCopy is the kind of work that reads a copy again.
const WorkReadCopy WorkKind = "read-copy"

// MarkCopyIntact records that a copy was read and matches its digests.
func (tx *Tx) MarkCopyIntact(id int64) error {
	return tx.Exec("update copies set read_at = ? where id = ? and state = 'present'", tx.Now, id).Error
}

// MarkCopyCorrupt records why a stored copy cannot be used: no machine is cloned from it. It returns false if the copy
// is no longer stored.
func (tx *Tx) MarkCopyCorrupt(id int64, why string) (was bool, err error) {
	r := tx.Exec("update copies set state = 'failed', failure = ? where id = ? and state = 'present'", why, id)
	return r.RowsAffected > 0, r.Error
}

// CopiesToRead returns the copies that are to be read again, one of a site at most: of the versions that live tracks
// name or fall back to, at sites with a pool that follows live, those that were read before a time and are not being
// read. After one could not be read it is left alone until a later time than the other one.
func CopiesToRead(db *gorm.DB, readBefore, triedBefore time.Time) (rows []Copy, err error) {
	err = db.Raw(`select distinct on (c.site_id) c.* from copies c join versions v on v.id = c.version_id
		join tracks t on t.image_id = v.image_id and t.name = @live and v.id in (t.version_id, t.fallback_id)
		where c.state = 'present' and (c.read_at is null or c.read_at < @read)
		  and exists (select from pools p where p.image_id = v.image_id and p.site_id = c.site_id and p.track = @live and p.pinned_id is null)
		  and not exists (select from works w where w.site_id = c.site_id and w.kind = @kind and w.state in ('asked', 'under way'))
		  and not exists (select from works w where w.kind = @kind and w.subject = 'copy ' || c.id and w.ended_at > @tried)
		order by c.site_id, c.read_at nulls first, c.id`,
		map[string]any{"live": image.Live, "read": readBefore, "tried": triedBefore, "kind": WorkReadCopy}).
		Scan(&rows).Error
	return rows, err
}

// ForgetReadings forgets all readings of a copy but the last.
func (tx *Tx) ForgetReadings(id int64, last int) error {
	return tx.Exec("delete from works where kind = ? and subject = ? and attempt < ? and ended_at is not null",
		WorkReadCopy, CopySubject(id), last).Error
}

// CopyPlan is how many copies of an image's versions a site is to have.
type CopyPlan struct {
	ImageID int64 `gorm:"primaryKey"`
	SiteID  int64 `gorm:"primaryKey"`
	Copies  int
	Why     string
	At      time.Time // when that was thought over last
}

// CopyPlanRow is one with its site's name.
type CopyPlanRow struct {
	CopyPlan
	Site string
}

// CopyPlans returns those of an image by site, of the sites that have a pool of it.
func CopyPlans(db *gorm.DB, imageID int64) (rows []CopyPlanRow, err error) {
	err = db.Raw(`select c.*, s.name as site from copy_plans c join sites s on s.id = c.site_id where c.image_id = @image
		and exists (select from pools p where p.image_id = @image and p.site_id = c.site_id) order by s.name`,
		map[string]any{"image": imageID}).Scan(&rows).Error
	return rows, err
}

// OldCopyPlans returns the images' sites that have a pool of it and no plan that was thought over since a time.
func OldCopyPlans(db *gorm.DB, since time.Time) (rows []CopyPlan, err error) {
	err = db.Raw(`select distinct p.image_id, p.site_id from pools p left join copy_plans c on c.image_id = p.image_id and c.site_id = p.site_id
		where c.at is null or c.at < ? order by 1, 2`, since).Scan(&rows).Error
	return rows, err
}

// CopyPlanFor returns the plan for a site, the zero value if there is none.
func CopyPlanFor(db *gorm.DB, imageID, siteID int64) (row CopyPlan, err error) {
	err = db.Where("image_id = ? and site_id = ?", imageID, siteID).Limit(1).Find(&row).Error
	return row, err
}

// ForgetCopyPlans has the copies of an image's sites thought over anew.
func ForgetCopyPlans(tx *Tx, imageID int64) error {
	return tx.Exec("update copy_plans set at = 'epoch' where image_id = ?", imageID).Error
}
