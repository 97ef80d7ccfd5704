package store

import (
	"context"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/estate"
	"nimblepane/core/image"
)

// Site is a place where hosts run and copies are kept.
type Site struct {
	ID              int64
	Name, Title     string
	Platform        string
	Address         string
	StartsPerMinute int
	ClonesPerCopy   int
	Machinery       JSON[estate.Machinery] `gorm:"type:jsonb"`
	Edition         int
	// Failures counts how often in a row it did not answer; Trouble says why, and since when.
	Failures     int        `gorm:"<-:false"`
	Trouble      string     `gorm:"<-:false"`
	TroubleSince *time.Time `gorm:"<-:false"`
}

// Estate is the site as an estate file has it.
func (s Site) Estate() estate.Site {
	return estate.Site{Name: s.Name, Title: s.Title, Platform: s.Platform, Address: s.Address, StartsPerMinute: s.StartsPerMinute, ClonesPerCopy: s.ClonesPerCopy, Machinery: s.Machinery.V}
}

// Image is a golden image with its clearance settings.
type Image struct {
	ID           int64
	Name, Title  string
	Numbering    string
	MachineClass string
	Testers      int
	SoakSeconds  int64
	Copies       int // copies that each site gets, and that clearance asks for
	Edition      int
}

// Version is one sealed state of an image, or the attempt at one.
type Version struct {
	ID         int64
	ImageID    int64
	Number     string
	State      string
	Digest     string
	SizeBytes  int64
	SizeBefore int64   // of the disk before it was compacted, in bytes; 0 if not known
	Sealing    Strings `gorm:"type:jsonb"` // what was done to seal it
	Discards   bool    // the build machine is deleted after the capture
	Source     string
	Notes      string
	Tags       Strings `gorm:"type:jsonb"`
	EndOfLife  *time.Time
	CapturedBy string
	CreatedAt  time.Time
	SealedAt   *time.Time
	Failure    string
	Barred     string
	BarredBy   string
	BarredAt   *time.Time
	Edition    int
}

// States of a version.
const (
	Capturing     = "capturing"
	Sealed        = "sealed"
	Retired       = "retired"
	CaptureFailed = "failed"
)

// Track is a pointer of an image at one of its versions. VersionID and
// FallbackID are what the history in TrackMove comes to.
type Track struct {
	ID         int64
	ImageID    int64
	Name       string
	Position   int
	VersionID  *int64
	FallbackID *int64
	Since      *time.Time
}

// TrackMove is one entry of a track's history.
type TrackMove struct {
	ID        int64
	TrackID   int64
	Kind      image.MoveKind
	VersionID int64
	LetGo     bool
	Actor     string
	Reason    string
	At        time.Time
}

// Copy is a version's disk at a site.
type Copy struct {
	ID        int64
	VersionID int64
	SiteID    int64
	Ordinal   int
	State     string
	Progress  int
	Failure   string
}

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
	Edition      int
}

// SignOff is what a tester said of a version.
type SignOff struct {
	VersionID int64  `gorm:"primaryKey"`
	Tester    string `gorm:"primaryKey"`
	Yes       bool
	Comment   string
	At        time.Time
}

// Strings is a list kept as a JSON array.
type Strings []string

func (s Strings) Value() (driver.Value, error) {
	if s == nil {
		return "[]", nil
	}
	b, err := json.Marshal([]string(s))
	return string(b), err
}

func (s *Strings) Scan(v any) error { return scanJSON(v, s) }

func scanJSON(v, into any) error {
	switch v := v.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(v, into)
	case string:
		return json.Unmarshal([]byte(v), into)
	}
	return fmt.Errorf("a JSON column came as %T", v)
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

// Images returns all images by name.
func Images(db *gorm.DB) (rows []Image, err error) {
	err = db.Order("name").Find(&rows).Error
	return rows, err
}

// ImageNamed returns the image, or ErrNotFound.
func ImageNamed(db *gorm.DB, name string) (Image, error) {
	return named[Image](db, fmt.Sprintf("image %q", name), "name", fresh(db), "name = ?", name)
}

// ImageByID returns the image, or ErrNotFound.
func ImageByID(db *gorm.DB, id int64) (Image, error) {
	return first[Image](db, fmt.Sprintf("image %d", id), "id = ?", id)
}

// Versions returns the versions of an image in no particular order.
func Versions(db *gorm.DB, imageID int64) (rows []Version, err error) {
	err = db.Where("image_id = ?", imageID).Find(&rows).Error
	return rows, err
}

// VersionNumbered returns the version of the image, or ErrNotFound.
func VersionNumbered(db *gorm.DB, img Image, number string) (Version, error) {
	return named[Version](db, fmt.Sprintf("version %q of image %s", number, img.Name), "number", fresh(db).Where("image_id = ?", img.ID), "image_id = ? and number = ?", img.ID, number)
}

// VersionByID returns the version, or ErrNotFound.
func VersionByID(db *gorm.DB, id int64) (Version, error) {
	return first[Version](db, fmt.Sprintf("version %d", id), "id = ?", id)
}

// Tracks returns the tracks of an image in their order.
func Tracks(db *gorm.DB, imageID int64) (rows []Track, err error) {
	err = db.Where("image_id = ?", imageID).Order("position").Find(&rows).Error
	return rows, err
}

// TrackNamed returns the track of the image, or ErrNotFound.
func TrackNamed(db *gorm.DB, img Image, name string) (Track, error) {
	return first[Track](db, fmt.Sprintf("track %q of image %s", name, img.Name), "image_id = ? and name = ?", img.ID, name)
}

// TrackMoves returns the history of a track, oldest first.
func TrackMoves(db *gorm.DB, trackID int64) (rows []TrackMove, err error) {
	err = db.Where("track_id = ?", trackID).Order("id").Find(&rows).Error
	return rows, err
}

// MoveRow is one entry of the history of an image's tracks, in words.
type MoveRow struct {
	Track, Kind, Version, Actor, Reason string
	At                                  time.Time
}

// MoveRows returns the last moves of an image's tracks, the newest first.
func MoveRows(db *gorm.DB, imageID int64, limit int) (rows []MoveRow, err error) {
	err = db.Raw(`select t.name as track, m.kind, v.number as version, m.actor, m.reason, m.at
		from track_moves m join tracks t on t.id = m.track_id join versions v on v.id = m.version_id
		where t.image_id = ? order by m.id desc limit ?`, imageID, limit).Scan(&rows).Error
	return rows, err
}

// MoveTrack points the track at the version, keeps the move in its history,
// and works out anew what the track falls back to.
func (tx *Tx) MoveTrack(t *Track, move TrackMove) error {
	move.TrackID, move.Actor, move.At = t.ID, tx.Actor, tx.Now
	if err := tx.Create(&move).Error; err != nil {
		return err
	}
	moves, err := TrackMoves(tx.DB, t.ID)
	if err != nil {
		return err
	}
	var usable []int64
	if err := tx.Model(&Version{}).Where("image_id = ? and state = ? and barred = ''", t.ImageID, Sealed).Pluck("id", &usable).Error; err != nil {
		return err
	}
	var history []image.Move
	for _, m := range moves {
		// Nothing falls back to what was retired or barred since.
		if m.VersionID == move.VersionID || slices.Contains(usable, m.VersionID) {
			history = append(history, image.Move{Kind: m.Kind, Version: m.VersionID, LetGo: m.LetGo})
		}
	}
	current, fallback := image.Standing(history)
	t.VersionID, t.FallbackID, t.Since = &current, nil, &tx.Now
	if fallback != 0 {
		t.FallbackID = &fallback
	}
	return tx.Save(t).Error
}

// Copies returns the copies of a version that are or will be there.
func Copies(db *gorm.DB, versionID int64) (rows []Copy, err error) {
	err = db.Where("version_id = ? and state <> 'deleted'", versionID).Order("site_id, ordinal").Find(&rows).Error
	return rows, err
}

// States of a copy.
const (
	CopyDelivering = "delivering"
	CopyPresent    = "present"
	CopyFailed     = "failed"
	CopyDeleted    = "deleted"
)

// CopyByID returns the copy, or ErrNotFound.
func CopyByID(db *gorm.DB, id int64) (Copy, error) {
	return first[Copy](db, fmt.Sprintf("copy %d", id), "id = ?", id)
}

// CopiesAt returns the copies of a version at a site that hosts can be cloned from.
func CopiesAt(db *gorm.DB, versionID, siteID int64) (rows []Copy, err error) {
	err = db.Where("version_id = ? and site_id = ? and state = ?", versionID, siteID, CopyPresent).Order("ordinal").Find(&rows).Error
	return rows, err
}

// CopiesFailed returns the copies of an image's versions that could not be delivered.
func CopiesFailed(db *gorm.DB, imageID int64) (rows []Copy, err error) {
	err = db.Raw("select c.* from copies c join versions v on v.id = c.version_id where v.image_id = ? and c.state = 'failed'", imageID).Scan(&rows).Error
	return rows, err
}

// CopyArrived notes that a copy is there whole.
func (tx *Tx) CopyArrived(id int64) error {
	return tx.Exec("update copies set state = 'present', progress = 100 where id = ? and state = 'delivering'", id).Error
}

// CopyDidNotArrive notes why a copy could not be delivered.
func (tx *Tx) CopyDidNotArrive(id int64, why string) error {
	return tx.Exec("update copies set state = 'failed', failure = ? where id = ? and state = 'delivering'", why, id).Error
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

// CaptureProgress returns how far the captures of an image's versions are, in per cent, by version.
func CaptureProgress(db *gorm.DB, imageID int64) (map[int64]int, error) {
	return byVersion(db.Raw(`select w.version_id, w.progress as n from works w join versions v on v.id = w.version_id
		where v.image_id = ? and w.kind = ?`, imageID, WorkCapture))
}

// HostsByVersion counts the hosts that run an image's versions, by version.
func HostsByVersion(db *gorm.DB, imageID int64) (map[int64]int, error) {
	return byVersion(db.Raw(`select h.version_id, count(*) as n from hosts h join versions v on v.id = h.version_id
		where v.image_id = ? group by 1`, imageID))
}

// byVersion reads rows of a version's id and a number n.
func byVersion(q *gorm.DB) (map[int64]int, error) {
	var rows []struct {
		VersionID int64
		N         int
	}
	err := q.Scan(&rows).Error
	out := make(map[int64]int, len(rows))
	for _, r := range rows {
		out[r.VersionID] = r.N
	}
	return out, err
}

// CopiesPresent counts the copies of a version at a site that hosts can be cloned from.
func CopiesPresent(db *gorm.DB, versionID, siteID int64) (n int64, err error) {
	err = db.Model(&Copy{}).Where("version_id = ? and site_id = ? and state = 'present'", versionID, siteID).Count(&n).Error
	return n, err
}

// Pools returns all pools by name.
func Pools(db *gorm.DB) (rows []Pool, err error) {
	err = db.Order("name").Find(&rows).Error
	return rows, err
}

// SitesOf returns the sites that have a pool of the image.
func SitesOf(db *gorm.DB, imageID int64) (ids []int64, err error) {
	err = db.Model(&Pool{}).Where("image_id = ?", imageID).Distinct().Order("site_id").Pluck("site_id", &ids).Error
	return ids, err
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
	if err := db.Raw("select version_id from pool_targets where pool_id = ?", poolID).Scan(&id).Error; err != nil || id == nil {
		return 0, err
	}
	return *id, nil
}

// TrackNames returns the number of the version that a track names, "" if it names none.
func TrackNames(db *gorm.DB, img Image, track string) (number string, err error) {
	t, err := TrackNamed(db, img, track)
	if err != nil || t.VersionID == nil {
		return "", err
	}
	v, err := VersionByID(db, *t.VersionID)
	return v.Number, err
}

// Followers counts the hosts that do not run a version in pools that follow the track and are not pinned, and those pools.
func Followers(db *gorm.DB, img Image, track string, versionID int64) (hosts, pools int, err error) {
	var n struct{ Hosts, Pools int }
	err = db.Raw(`select count(h.id) as hosts, count(distinct p.id) as pools from pools p join hosts h on h.pool_id = p.id
		where p.image_id = ? and p.track = ? and p.pinned_id is null and h.version_id is distinct from ?`, img.ID, track, versionID).Scan(&n).Error
	return n.Hosts, n.Pools, err
}

// HostsNotOn counts the hosts of a pool that do not run a version.
func HostsNotOn(db *gorm.DB, poolID, versionID int64) (n int64, err error) {
	err = db.Model(&Host{}).Where("pool_id = ? and version_id is distinct from ?", poolID, versionID).Count(&n).Error
	return n, err
}

// OnOtherHosts counts the hosts of a pool that do not serve on a version, and the people on them.
func OnOtherHosts(db *gorm.DB, poolID, versionID int64) (hosts, people int, err error) {
	var n struct{ Hosts, People int }
	err = db.Raw(`select count(*) as hosts, coalesce(sum(sessions), 0) as people from host_rows
		where pool_id = ? and (state <> 'serving' or version_id is distinct from ?)`, poolID, versionID).Scan(&n).Error
	return n.Hosts, n.People, err
}

// PinnedTo returns the names of the pools that are pinned to the version.
func PinnedTo(db *gorm.DB, versionID int64) (names []string, err error) {
	err = db.Model(&Pool{}).Where("pinned_id = ?", versionID).Order("name").Pluck("name", &names).Error
	return names, err
}

// WasLive says whether the image's track live ever named the version.
func WasLive(db *gorm.DB, versionID int64) (was bool, err error) {
	err = db.Raw("select exists (select from track_moves m join tracks t on t.id = m.track_id where m.version_id = ? and t.name = ?)", versionID, image.Live).Scan(&was).Error
	return was, err
}

// SignOffs returns what testers said of the version.
func SignOffs(db *gorm.DB, versionID int64) (rows []SignOff, err error) {
	err = db.Where("version_id = ?", versionID).Order("at").Find(&rows).Error
	return rows, err
}

// Ready returns nil if the database answers.
func (s *Store) Ready(ctx context.Context) error { return s.Pool.Ping(ctx) }
