package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nimblepane/core/build"
)

// Sheet is a build sheet that is kept here, right or not.
type Sheet struct {
	ID        int64
	Name      string
	Text      string
	Files     JSON[map[string]string] // digests of what it names beside it, by path
	Image     string                  // that it is of, as far as it can be read
	Revision  int
	ChangedBy string
	ChangedAt time.Time
	Commit    string         // that it was taken from, "" if it is of none
	History   JSON[[]Commit] // up to that one, the newest first, if its notes name them
}

// Subject is what the sheet is called in the trail.
func (s Sheet) Subject() string { return "sheet " + s.Name }

// SheetNamed returns the sheet, or ErrNotFound.
func SheetNamed(db *gorm.DB, name string) (Sheet, error) {
	return named[Sheet](db, fmt.Sprintf("sheet %q", name), "name", fresh(db), "name = ?", name)
}

// LockSheet is SheetNamed, and keeps others from changing the sheet until the transaction ends.
func LockSheet(db *gorm.DB, name string) (Sheet, error) {
	return SheetNamed(db.Clauses(forChange), name)
}

// AddSheet adds a sheet; false if there is one of its name.
func AddSheet(tx *Tx, s *Sheet) (bool, error) {
	r := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(s)
	return r.RowsAffected == 1, r.Error
}

// SheetsNaming returns the sheets of an image with a version's number anywhere in them, by name.
func SheetsNaming(db *gorm.DB, imageName, number string) (rows []Sheet, err error) {
	err = db.Where("image = ? and position(? in text) > 0", imageName, number).Order("name").Find(&rows).Error
	return rows, err
}

// SheetRow is a sheet with the last build that was started from it, if there is one.
type SheetRow struct {
	Sheet
	Build        int64
	BuildState   build.State
	BuildVersion string
}

// SheetRows returns the sheet of the name, or all of them, by name.
func SheetRows(db *gorm.DB, name string) (rows []SheetRow, err error) {
	err = db.Raw(`select s.*, coalesce(b.id, 0) as build, coalesce(b.state, '') as build_state,
			coalesce(v.number, '') as build_version
		from sheets s left join lateral (select id, state, version_id from builds
			where sheet_name = s.name order by id desc limit 1) b on true
		left join versions v on v.id = b.version_id
		where s.name = @name or @name = '' order by s.name`, map[string]any{"name": name}).Scan(&rows).Error
	return rows, err
}
