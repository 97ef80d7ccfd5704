package store

import (
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/image"
	"nimblepane/core/seal"
	"nimblepane/core/sheet"
)

// Image is a golden image with its clearance settings.
type Image struct {
	ID           int64
	Name, Title  string
	Numbering    image.Scheme
	MachineClass string
	Testers      int
	SoakSeconds  int64
	Copies       int   // copies per site that clearance asks for
	FixedCopies  int   // that every site gets; 0: as is proposed
	LogSeconds   int64 // for how long a build's log is kept, since its end
	// What clearance asks of the software of a version, beside the version in use.
	KeepApplications bool // none may be missing
	NoDowngrades     bool // none may be older, unless that is passed over
	NoSeriousFlaws   bool // none may be there that the version in use does not have
	Independent      bool // the approval of a tester does not count for a version that the same person has made
	RollPilot        bool // the pools that follow pilot are rolled over when a build has staged a version
	Revision         int

	FixedCopiesAt JSON[map[string]int]  // by the site's name, before FixedCopies
	Retention     JSON[image.Retention] // which versions are kept

	// AcceptedEcosystems says why software is accepted that is not checked for known vulnerabilities, by its ecosystem.
	AcceptedEcosystems JSON[map[string]string]
}

// Version is one sealed state of an image, or the attempt at one.
type Version struct {
	ID         int64
	ImageID    int64
	Number     string
	State      image.State
	Digest     string
	SizeBytes  int64
	SizeBefore int64                // of the disk before it was compacted, in bytes; 0 if not known
	Sealing    Strings              `gorm:"type:jsonb"` // what was done to seal it
	Findings   JSON[[]seal.Finding] // of the seal checks before it was sealed, if they were made
	Discards   bool                 // the build machine is deleted after the capture
	BackTo     string               // the checkpoint that the build machine goes back to after the capture, if to one
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
	Revision   int

	Applications JSON[[]sheet.Application] // that people open on its hosts
	Delivery     JSON[sheet.Delivery]      // of its copies, first; what it leaves open is as its image says
	Waived       JSON[map[string]string]   // why a downgrade is passed over, by the software's name
	Unlisted     string                    // why there is no list of what is in it, if there is none
}

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

// SignOff is what a tester said of a version.
type SignOff struct {
	VersionID int64  `gorm:"primaryKey"`
	Tester    string `gorm:"primaryKey"`
	Yes       bool
	Comment   string
	At        time.Time
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
	return named[Version](db, fmt.Sprintf("version %q of image %s", number, img.Name), "number",
		fresh(db).Where("image_id = ?", img.ID), "image_id = ? and number = ?", img.ID, number)
}

// VersionByID returns the version, or ErrNotFound.
func VersionByID(db *gorm.DB, id int64) (Version, error) {
	return first[Version](db, fmt.Sprintf("version %d", id), "id = ?", id)
}

// NotCloned says why no machine may be made from a version's disk of the digest: the version is blocked or retired. It
// is "" if one may be, or if no version has the digest.
func NotCloned(db *gorm.DB, digest string) (why string, err error) {
	var rows []struct {
		Label, Barred string
		State         image.State
	}
	err = db.Raw(`select i.name || ' ' || v.number as label, v.barred, v.state from versions v
		join images i on i.id = v.image_id where v.digest = ?`, digest).Scan(&rows).Error
	for _, v := range rows {
		switch {
		case v.State == image.Sealed && v.Barred == "":
			return "", nil // versions can have one disk
		case v.Barred != "":
			why = v.Label + " is blocked: " + v.Barred
		default:
			why = fmt.Sprintf("%s is %s", v.Label, v.State)
		}
	}
	return why, err
}

// HostsByVersion counts the hosts that run an image's versions, by version.
func HostsByVersion(db *gorm.DB, imageID int64) (map[int64]int, error) {
	return byVersion(db.Raw(`select h.version_id, count(*) as n from hosts h join versions v on v.id = h.version_id
		where v.image_id = ? group by 1`, imageID))
}

// DoingWith says what goes on with a version, beside what names it: what builds, machines and deliveries do.
func DoingWith(db *gorm.DB, versionID int64) (doing []string, err error) {
	err = db.Raw(`
		select 'build ' || id || ' begins with it' from builds where base_id = @v and not settled
		union all select 'build ' || id || ' makes it' from builds where version_id = @v and ended_at is null
		union all select 'build machine ' || name || ' is made from it' from machines where base_id = @v and build_id is null and gone_at is null
		union all select 'proof ' || id || ' starts a machine from it' from proofs where version_id = @v and not settled
		union all (select distinct 'it is being delivered to ' || s.name || ': wait until that is done' from copies c join sites s on s.id = c.site_id where c.version_id = @v and c.state = 'delivering' order by 1)`,
		map[string]any{"v": versionID}).Scan(&doing).Error
	return doing, err
}

// LookForVersionsToRetire has an image's rule looked at when a time has come.
func (tx *Tx) LookForVersionsToRetire(imageID int64, at time.Time) error {
	return tx.Exec("update images set retention_due = ? where id = ?", at, imageID).Error
}

// ImagesToTidy returns the images with a rule that is due.
func ImagesToTidy(db *gorm.DB, now time.Time) (rows []Image, err error) {
	err = db.Where("(retention->>'keep')::int > 0 and retention_due <= ?", now).Order("id").Find(&rows).Error
	return rows, err
}

// Kinds of works on versions and their copies.
const (
	WorkCapture    WorkKind = "capture"
	WorkDeliver    WorkKind = "deliver"
	WorkDeleteCopy WorkKind = "delete-copy"
	WorkDeleteDisk WorkKind = "delete-disk"
)

// VersionSubject and CopySubject are what works on versions and copies are about.
func VersionSubject(versionID int64) string { return fmt.Sprintf("version %d", versionID) }

func CopySubject(copyID int64) string { return fmt.Sprintf("copy %d", copyID) }

// CaptureProgress returns how far the captures of an image's versions are, in per cent, by version.
func CaptureProgress(db *gorm.DB, imageID int64) (map[int64]int, error) {
	return byVersion(db.Raw(`select v.id as version_id, w.progress as n from works w join versions v on w.subject = 'version ' || v.id
		where v.image_id = ? and w.kind = ?`, imageID, WorkCapture))
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

// Tracks returns the tracks of an image in their order.
func Tracks(db *gorm.DB, imageID int64) (rows []Track, err error) {
	err = db.Where("image_id = ?", imageID).Order("position").Find(&rows).Error
	return rows, err
}

// TrackNamed returns the track of the image, or ErrNotFound.
func TrackNamed(db *gorm.DB, img Image, name string) (Track, error) {
	return first[Track](db, fmt.Sprintf("track %q of image %s", name, img.Name), "image_id = ? and name = ?", img.ID,
		name)
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

// TrackMoves returns the history of a track, oldest first.
func TrackMoves(db *gorm.DB, trackID int64) (rows []TrackMove, err error) {
	err = db.Where("track_id = ?", trackID).Order("id").Find(&rows).Error
	return rows, err
}

// MoveRow is one entry of the history of an image's tracks, in words.
type MoveRow struct {
	Track                  string
	Kind                   image.MoveKind
	Version, Actor, Reason string
	At                     time.Time
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
	if err := tx.Model(&Version{}).Where("image_id = ? and state = ? and barred = ''", t.ImageID,
		image.Sealed).Pluck("id", &usable).Error; err != nil {
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

// WasLive says whether the image's track live ever named the version.
func WasLive(db *gorm.DB, versionID int64) (was bool, err error) {
	err = db.Raw("select exists (select from track_moves m join tracks t on t.id = m.track_id where m.version_id = "+
		"? and t.name = ?)", versionID, image.Live).Scan(&was).Error
	return was, err
}

// SignOffs returns what testers said of the version.
func SignOffs(db *gorm.DB, versionID int64) (rows []SignOff, err error) {
	err = db.Where("version_id = ?", versionID).Order("at").Find(&rows).Error
	return rows, err
}

// KnownNumber returns ErrNotFound if no image has a version of the number.
func KnownNumber(db *gorm.DB, number string) error {
	_, err := first[Version](db, fmt.Sprintf("version %q", number), "number = ?", number)
	return err
}
