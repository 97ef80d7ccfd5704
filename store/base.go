package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/base"
	"nimblepane/core/disk"
	"nimblepane/core/image"
)

// Base is a disk image that versions are made from. Its record stays when it is retired.
type Base struct {
	ID       int64
	Name     string // one, until it is retired
	Labels   JSON[base.Labels]
	State    base.State
	Why      string // it failed; while it comes: what it waits for
	File     string // what it was called where it came from
	Address  string // that it is fetched from
	Expected string // SHA-256 of the file, "" if that was not said
	Size     int64  // of the file, in bytes; 0 while it is not known
	Have     int64  // bytes of it that are there
	Hashed   []byte // the state of its SHA-256 over these
	SHA256   string `gorm:"column:sha256"` // of the whole file, once it is there
	Format   disk.Format
	Progress int    // of the converting, in per cent
	Digest   string // of the disk that it was converted to, "sha256:..."
	Bytes    int64  // of that
	Facts    JSON[base.Facts]
	Feed     string // that it is of, by its name then, "" if of none
	Product  string // the feed's name of it
	Serial   string
	AddedBy  string
	AddedAt  time.Time
	EndedAt  *time.Time
	// In real time: when what comes now began to come, from which byte on, and when something of it came last.
	BeganAt   time.Time
	BeganHave int64
	CameAt    time.Time
	Tries     int // that did not get on
}

// Subject is what a base is called in the trail.
func (b Base) Subject() string { return "base " + b.Name }

// Disk is what a base's disk is called at sites. Its digest is in it, so that
// another base of the same name is another disk.
func (b Base) Disk() string {
	const of = len("sha256:")
	return fmt.Sprintf("base-%s-%s", b.Name, b.Digest[of:of+12])
}

// BaseWithDisk says whether another base that is not retired has the disk.
func BaseWithDisk(db *gorm.DB, but int64, disk string) (has bool, err error) {
	err = fresh(db).Raw("select exists (select from bases where id <> ? and state not in ('retired', 'failed') and "+
		"'base-' || name || '-' || substr(digest, 8, 12) = ?)", but, disk).Scan(&has).Error
	return has, err
}

// BaseCopy is a base's disk at a site.
type BaseCopy struct {
	ID       int64
	BaseID   int64
	SiteID   int64
	State    image.CopyState
	Why      string
	Progress int
	EndedAt  *time.Time // when it arrived, or did not
}

// The kinds of works of bases.
const (
	WorkDeliverBase WorkKind = "deliver-base"
	WorkDeleteBase  WorkKind = "delete-base"
)

// BaseCopySubject is what a work about a base's copy is about.
func BaseCopySubject(id int64) string { return fmt.Sprintf("base copy %d", id) }

// BaseNamed returns the base that has the name now, or ErrNotFound.
func BaseNamed(db *gorm.DB, name string) (Base, error) {
	return first[Base](db, fmt.Sprintf("base %q", name), "name = ? and state <> 'retired'", name)
}

// LockBase is BaseNamed, and keeps others from changing it until the transaction ends.
func LockBase(db *gorm.DB, name string) (Base, error) { return BaseNamed(db.Clauses(forChange), name) }

// LockBaseByID returns the base and keeps others from changing it until the transaction ends, or ErrNotFound.
func LockBaseByID(db *gorm.DB, id int64) (Base, error) { return BaseByID(db.Clauses(forChange), id) }

// BaseByID returns the base, or ErrNotFound.
func BaseByID(db *gorm.DB, id int64) (Base, error) {
	return first[Base](db, fmt.Sprintf("base %d", id), "id = ?", id)
}

// Bases returns the bases, those that were added last first; with gone, also those that are retired.
func Bases(db *gorm.DB, gone bool) (rows []Base, err error) {
	if !gone {
		db = db.Where("state <> 'retired'")
	}
	err = db.Order("id desc").Find(&rows).Error
	return rows, err
}

// BaseCopies returns the copies of a base.
func BaseCopies(db *gorm.DB, id int64) (rows []BaseCopy, err error) {
	err = db.Where("base_id = ?", id).Order("id").Find(&rows).Error
	return rows, err
}

// BaseCopyByID returns the copy, or ErrNotFound.
func BaseCopyByID(db *gorm.DB, id int64) (BaseCopy, error) {
	return first[BaseCopy](db, fmt.Sprintf("base copy %d", id), "id = ?", id)
}

// BaseCopyAt returns the copy of a base at a site, or ErrNotFound.
func BaseCopyAt(db *gorm.DB, baseID, siteID int64) (BaseCopy, error) {
	return first[BaseCopy](db, "that copy of the base", "base_id = ? and site_id = ?", baseID, siteID)
}

// UsesOfBase names the builds that go on and the build machines that are made from a base.
func UsesOfBase(db *gorm.DB, id int64) (names []string, err error) {
	err = db.Raw(`select 'build ' || id from builds where from_base_id = @id and not settled
		union all select 'build machine ' || name from machines where from_base_id = @id and gone_at is null
		order by 1`, map[string]any{"id": id}).Scan(&names).Error
	return names, err
}

// BaseCopyProgressed notes how far a copy is, in per cent.
func (tx *Tx) BaseCopyProgressed(id int64, percent int) error {
	return tx.Exec("update base_copies set progress = ? where id = ?", percent, id).Error
}

// BuildsOfBaseNow has the builds looked at that may wait for a base.
func (tx *Tx) BuildsOfBaseNow(id int64) error {
	return tx.Exec("update builds set next_tick_at = now() where from_base_id = ? and not settled", id).Error
}

// Release is what a base is of, if it is one of a feed.
type Release struct{ Feed, Product, Serial, SHA256 string }

// BasesOfReleases returns the names of the bases that are releases of feeds and were not retired.
func BasesOfReleases(db *gorm.DB) (map[Release]string, error) {
	var rows []Base
	err := db.Where("state <> 'retired' and feed <> ''").Order("id").Find(&rows).Error
	names := map[Release]string{}
	for _, b := range rows {
		names[Release{b.Feed, b.Product, b.Serial, b.Expected}] = b.Name
	}
	return names, err
}

// BaseOfRelease returns the base of a release of a feed that was not retired, or ErrNotFound.
func BaseOfRelease(db *gorm.DB, feed, product, serial, sha256 string) (Base, error) {
	return first[Base](db.Order("id desc"), "the base of that release",
		"state <> 'retired' and feed = ? and product = ? and serial = ? and expected = ?", feed, product, serial,
		sha256)
}
