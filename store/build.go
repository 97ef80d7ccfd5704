package store

import (
	"fmt"
	"strconv"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/core/sheet"
)

// Build is one run of a build sheet.
type Build struct {
	ID            int64
	ImageID       int64
	SiteID        int64
	BaseID        *int64 // the version that its machine is made from; nil if that is a base disk
	FromBaseID    *int64 // the base that it is made from, if from one
	Release       JSON[*BuildRelease]
	VersionID     *int64 // that it made, or is making
	Number        string // of its version: since it was started if its sheet says it, and else since the sealing
	State         build.State
	Settled       bool   // its machine is gone
	Sheet         string // as it was uploaded
	SheetName     string // of the kept sheet that it was started from, "" if of none
	Schedule      string // that started it, by its name then
	ScheduleID    *int64
	MadeOf        string // a digest of its sheet, files and base
	Plan          JSON[sheet.Sheet]
	Files         JSON[map[string]string] // digests of what its sheet names beside it, by path
	Done          int                     // steps that are done, or failed and were noted
	Commit        string                  // that its sheet was taken from, "" if that is not known
	Commits       JSON[[]string]          // subject lines since the last build, if its notes want them
	StartedBy     string
	StartedAt     time.Time
	EndedAt       *time.Time
	Cancel        string // why it is to be cancelled
	StagedAt      *time.Time
	StagingFailed string
	Rolled        string       // what came of rolling the pilot pools over, "" if that was not asked for
	Why           string       // it ended as it did, or waits
	HoldSeconds   int64        // for how long its machine is held if it fails
	HeldUntil     *time.Time   `gorm:"column:machine_held_until"`
	WentOnAt      *time.Time   // last, after it had failed
	Before        JSON[Before] // it last went on
}

// BuildRelease is the release of a feed that a build is made from.
type BuildRelease struct {
	Feed    string `json:"feed"`
	Product string `json:"product"`
	Serial  string `json:"serial"`
	SHA256  string `json:"sha256"`
	Title   string `json:"title"`
}

// Name is what people call it, "" if there is none.
func (r *BuildRelease) Name() string {
	if r == nil {
		return ""
	}
	return r.Title
}

// Before is what was tried before a build went on after it had failed, and counts no more.
type Before struct {
	Tries       []int  `json:"tries,omitempty"` // of each step
	Inspections int    `json:"inspections,omitempty"`
	Seals       int    `json:"seals,omitempty"`
	Reverts     int    `json:"reverts,omitempty"`
	BackTo      string `json:"back_to,omitempty"` // the checkpoint that its machine goes back to first, if to one
}

// Of returns how many tries of a step count no more.
func (b Before) Of(step int) int {
	if step >= len(b.Tries) {
		return 0
	}
	return b.Tries[step]
}

// Held says whether its machine is held, after it failed.
func (b Build) Held(now time.Time) bool {
	return b.State == build.Failed && b.HeldUntil != nil && now.Before(*b.HeldUntil) && !b.Settled
}

// Name is how people call it.
func (b Build) Name() string { return fmt.Sprintf("build %d", b.ID) }

// Machine is what its build machine is called.
func (b Build) Machine() string { return fmt.Sprintf("build-%d", b.ID) }

// The kinds of works of builds.
const (
	WorkMakeMachine    WorkKind = "make-machine"
	WorkDoStep         WorkKind = "do-step"
	WorkInspectMachine WorkKind = "inspect-machine"
	WorkSealMachine    WorkKind = "seal-machine"
	WorkDiscardMachine WorkKind = "discard-machine"
)

// BuildSubject is what a work of a build is about, and StepSubject what one of a step is, by its index.
func BuildSubject(id int64) string { return fmt.Sprintf("build %d", id) }

func StepSubject(id int64, step int) string { return fmt.Sprintf("build %d step %d", id, step) }

// BuildByID returns the build, or ErrNotFound.
func BuildByID(db *gorm.DB, id int64) (Build, error) {
	return first[Build](db, fmt.Sprintf("build %d", id), "id = ?", id)
}

// ImageOfBuild returns the image of the build whose number is written so, or ErrNotFound.
func ImageOfBuild(db *gorm.DB, number string) (Image, error) {
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		return Image{}, fmt.Errorf("build %q: %w", number, ErrNotFound)
	}
	b, err := BuildByID(db, id)
	if err != nil {
		return Image{}, err
	}
	return ImageByID(db, b.ImageID)
}

// LockBuild is BuildByID, and keeps others from changing the build until the transaction ends.
func LockBuild(db *gorm.DB, id int64) (Build, error) {
	if err := fresh(db).Exec("select pg_advisory_xact_lock(?, id::int) from builds where id = ?", lockOfBuild,
		id).Error; err != nil {
		return Build{}, err
	}
	return BuildByID(db, id)
}

// SystemBefore is the operating system of the base that the image's last version came from that came from one of which
// that is known, "" if there is none.
func SystemBefore(db *gorm.DB, imageID int64) (system string, err error) {
	var rows []string
	err = fresh(db).Raw(`select f.facts->>'system' from builds b join bases f on f.id = b.from_base_id
		where b.image_id = ? and b.state = 'ready' and coalesce(f.facts->>'system', '') <> '' order by b.id desc limit 1`,
		imageID).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return "", err
	}
	return rows[0], nil
}

// Origin is the build that made a version, and what it was made of.
type Origin struct {
	VersionID    int64
	Build        int64
	Base, Commit string
}

// Origins returns them by the versions of an image that builds made.
func Origins(db *gorm.DB, imageID int64) (map[int64]Origin, error) {
	var rows []Origin
	err := db.Raw(`select b.version_id, b.id as build, b.commit, `+madeFrom+` as base from builds b
		join images i on i.id = b.image_id left join versions o on o.id = b.base_id
		left join bases f on f.id = b.from_base_id
		where b.image_id = ? and b.version_id is not null`, imageID).Scan(&rows).Error
	of := map[int64]Origin{}
	for _, r := range rows {
		of[r.VersionID] = r
	}
	return of, err
}

// NumbersTaken returns the numbers of an image's versions, and those of builds that may still make theirs: a build that
// failed and is held can be continued.
func NumbersTaken(db *gorm.DB, imageID int64) (numbers []string, err error) {
	err = db.Raw(`select number from versions where image_id = @image union
		select number from builds where image_id = @image and number <> '' and (ended_at is null or not settled and state = 'failed')`,
		map[string]any{"image": imageID}).Scan(&numbers).Error
	return numbers, err
}

// BuildNow makes a build due.
func (tx *Tx) BuildNow(id int64) error {
	return tx.Exec("update builds set next_tick_at = now() where id = ? and not settled", id).Error
}

// BuildWorks returns the works of a build: by kind, step and attempt.
func BuildWorks(db *gorm.DB, id int64) (rows []Work, err error) {
	err = db.Where("subject = ? or subject like ?", BuildSubject(id), BuildSubject(id)+" %").
		Where("subject like 'build %'").Order("kind, subject, attempt").Find(&rows).Error
	return rows, err
}

// madeFrom is what the machine of a build b was made from, with its image i, the version o and the base f.
const madeFrom = `coalesce(i.name || ' ' || o.number, b.release->>'title', 'base ' || f.name,
	'disk ' || (b.plan->'base'->>'disk'))`

// BuildRow is a build with the names that are shown of it.
type BuildRow struct {
	Build
	Image, Site, Base, Version string
}

// pastBuilds is how many earlier builds tell how long one takes.
const pastBuilds = 20

// PastBuilds returns how long the last builds of a build's image at its site took that became ready before it, the
// newest first, and the number of the newest, 0 if there is none.
func PastBuilds(db *gorm.DB, b Build) (past []build.Past, last int64, err error) {
	var rows []struct {
		ID            int64
		Sealed, Ready float64 // in seconds
	}
	err = db.Raw(`select b.id, extract(epoch from s.ended_at - b.started_at) as sealed,
			extract(epoch from b.ended_at - b.started_at) as ready
		from builds b join works s on s.kind = ? and s.subject = 'build ' || b.id and s.state = 'succeeded'
		where b.image_id = ? and b.site_id = ? and b.state = 'ready' and b.went_on_at is null and b.id < ?
		order by b.id desc limit ?`,
		WorkSealMachine, b.ImageID, b.SiteID, b.ID, pastBuilds).Scan(&rows).Error
	for _, r := range rows {
		past = append(past, build.Past{
			Sealed: time.Duration(r.Sealed * float64(time.Second)),
			Ready:  time.Duration(r.Ready * float64(time.Second)),
		})
		last = max(last, r.ID)
	}
	return past, last, err
}

// ReadyBuilds returns the last builds of an image that became ready without having gone on after a failure, the newest
// first.
func ReadyBuilds(db *gorm.DB, imageID int64) (rows []Build, err error) {
	err = db.Where("image_id = ? and state = 'ready' and went_on_at is null", imageID).Order("id desc").
		Limit(pastBuilds).Find(&rows).Error
	return rows, err
}

// BuildFilter selects builds; empty fields select all.
type BuildFilter struct {
	ID      int64
	Image   string
	State   build.State
	Notable bool  // only those that go on, and the newest of their image that failed
	Before  int64 // only those with a smaller number
	Limit   int
}

// BuildRows returns a page of builds, the newest first.
func BuildRows(db *gorm.DB, f BuildFilter) (rows []BuildRow, err error) {
	if f.ID != 0 {
		db = db.Where("b.id = ?", f.ID)
	}
	if f.Image != "" {
		db = db.Where("i.name = ?", f.Image)
	}
	if f.State != "" {
		db = db.Where("b.state = ?", f.State)
	}
	if f.Notable {
		db = db.Where("not b.settled or b.state = 'failed' and b.id in (select max(id) from builds group by image_id)")
	}
	if f.Before != 0 {
		db = db.Where("b.id < ?", f.Before)
	}
	if f.Limit > 0 {
		db = db.Limit(f.Limit)
	}
	err = db.Table("builds b").Select(`b.*, i.name as image, s.name as site, coalesce(v.number, '') as version,
			` + madeFrom + ` as base`).
		Joins("join images i on i.id = b.image_id").Joins("join sites s on s.id = b.site_id").
		Joins("left join versions v on v.id = b.version_id").Joins("left join versions o on o.id = b.base_id").
		Joins("left join bases f on f.id = b.from_base_id").
		Order("b.id desc").Scan(&rows).Error
	return rows, err
}
