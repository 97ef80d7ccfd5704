package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/estate"
)

// Site is a place where hosts run and copies are kept.
type Site struct {
	ID              int64
	Name, Title     string
	Platform        string
	Address         string
	StartsPerMinute int
	ClonesPerCopy   int
	Deliveries      JSON[estate.Deliveries]      `gorm:"type:jsonb"`
	MachineSettings JSON[estate.MachineSettings] `gorm:"type:jsonb"`
	Revision        int
	// Failures counts how often in a row it did not answer; Trouble says why, and since when.
	Failures     int        `gorm:"<-:false"`
	Trouble      string     `gorm:"<-:false"`
	TroubleSince *time.Time `gorm:"<-:false"`
}

// Estate is the site as an estate file has it.
func (s Site) Estate() estate.Site {
	return estate.Site{
		Name: s.Name, Title: s.Title, Platform: s.Platform, Address: s.Address,
		StartsPerMinute: s.StartsPerMinute, ClonesPerCopy: s.ClonesPerCopy, Deliveries: s.Deliveries.V,
		MachineSettings: s.MachineSettings.V,
	}
}

// Sites returns all sites by name.
func Sites(db *gorm.DB) (rows []Site, err error) {
	err = db.Order("name").Find(&rows).Error
	return rows, err
}

// SiteNamed returns the site, or ErrNotFound.
func SiteNamed(db *gorm.DB, name string) (Site, error) {
	return named[Site](db, fmt.Sprintf("site %q", name), "name", fresh(db), "name = ?", name)
}

// SiteByID returns the site, or ErrNotFound.
func SiteByID(db *gorm.DB, id int64) (Site, error) {
	return first[Site](db, fmt.Sprintf("site %d", id), "id = ?", id)
}

// AtSite counts the pools and hosts at a site.
func AtSite(db *gorm.DB, siteID int64) (pools, hosts int, err error) {
	var n struct{ Pools, Hosts int }
	err = db.Raw(`select count(distinct p.id) as pools, count(h.id) as hosts
		from pools p left join hosts h on h.pool_id = p.id where p.site_id = ?`, siteID).Scan(&n).Error
	return n.Pools, n.Hosts, err
}

// AskSiteNow lets a site be asked at once, that perhaps answers again.
func AskSiteNow(tx *Tx, site int64) error {
	return tx.Exec("update sites set retry_at = '-infinity' where id = ?", site).Error
}

// SiteFailed notes that a site did not answer, and when it is asked again:
// twice as late each time, up to a minute. It returns whether that is news.
func SiteFailed(tx *Tx, site int64, why string) (news bool, err error) {
	var failures int
	err = tx.Raw(`update sites set failures = failures + 1, trouble = ?, trouble_since = coalesce(trouble_since, ?),
		retry_at = now() + least(60, 2 ^ least(10, failures)) * interval '1 second' where id = ? and retry_at <= now() returning failures`, why, tx.Now, site).Scan(&failures).Error
	return failures == 1, err
}

// SiteAnswered notes that a site answers again. It returns whether that is news.
func SiteAnswered(tx *Tx, site int64) (news bool, err error) {
	r := tx.Exec("update sites set failures = 0, trouble = '', trouble_since = null, retry_at = '-infinity' where "+
		"id = ? and failures > 0", site)
	return r.RowsAffected > 0, r.Error
}

// SiteOfPool returns the site of the pool.
func SiteOfPool(db *gorm.DB, poolID int64) (Site, error) {
	pool, err := PoolByID(db, poolID)
	if err != nil {
		return Site{}, err
	}
	return SiteByID(db, pool.SiteID)
}
