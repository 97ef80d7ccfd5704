package store

import (
	"crypto/md5" // a mark by which a row is found again, and nothing secret
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgerrcode"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"

	"nimblepane/core/software"
)

// SoftwareList is what is in a version, as it was listed.
type SoftwareList struct {
	VersionID int64 `gorm:"primaryKey"`
	Document  []byte
	Packed    []byte // its entries
	Entries   int
	Facts     JSON[software.Facts]
	TakenAt   time.Time
	TakenBy   string
	BroughtBy string
}

// Software is a version of a piece of software, in whichever versions of images it is.
type Software struct {
	ID                    int64           `json:"-"`
	Mark                  string          `json:"mark"`
	Origin                software.Origin `json:"origin"`
	Name, Version, Source string
}

// Entry is the piece of software as a list has it.
func (s Software) Entry() software.Entry {
	return software.Entry{Origin: s.Origin, Name: s.Name, Version: s.Version, Source: s.Source}
}

// KeepSoftware notes what is in a version. Most of it is known from other versions.
func KeepSoftware(tx *Tx, versionID int64, entries []software.Entry) error {
	by := make(map[string]Software, len(entries))
	for _, e := range entries {
		sum := md5.Sum([]byte(strings.Join([]string{string(e.Origin), e.Name, e.Version, e.Source}, "\x00")))
		mark := hex.EncodeToString(sum[:])
		by[mark] = Software{Mark: mark, Origin: e.Origin, Name: e.Name, Version: e.Version, Source: e.Source}
	}
	var known []struct {
		ID   int64
		Mark string
	}
	if err := tx.Raw(`select id, replace(mark::text, '-', '') as mark from software
		where mark = any(string_to_array(?, ',')::uuid[])`, strings.Join(slices.Collect(maps.Keys(by)), ",")).
		Scan(&known).Error; err != nil {
		return err
	}
	ids := make([]string, 0, len(by))
	for _, k := range known {
		ids = append(ids, strconv.FormatInt(k.ID, 10))
		delete(by, k.Mark)
	}
	text, err := json.Marshal(append([]Software{}, slices.Collect(maps.Values(by))...)) // [] if all is known
	if err != nil {
		return err
	}
	// In order, so that two lists that are kept at once do not wait for each other in a circle; what the other one
	// was first to write is taken from it.
	var added []string
	if err := tx.Raw(`insert into software (mark, origin, name, version, source)
		select mark, origin, "Name", "Version", "Source"
		from json_to_recordset(?::json) r(mark uuid, origin text, "Name" text, "Version" text, "Source" text)
		order by mark on conflict (mark) do update set mark = excluded.mark returning id`, string(text)).
		Scan(&added).Error; err != nil {
		return err
	}
	return tx.Exec(`insert into software_in (version_id, software_id)
		select ?::bigint, id from unnest(string_to_array(?, ',')::bigint[]) id order by id`, versionID,
		strings.Join(append(ids, added...), ",")).Error
}

// IsOfData says that the database would not have what it was given, and will not the next time either.
func IsOfData(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && (pgerrcode.IsDataException(e.Code) || pgerrcode.IsProgramLimitExceeded(e.Code))
}

// Try does something as part of the change that is undone by itself if it fails: the change can go on.
func (tx *Tx) Try(fn func(*Tx) error) error {
	return tx.Transaction(func(db *gorm.DB) error {
		within := *tx
		within.DB = db
		return fn(&within)
	})
}

// NotListed notes why there is no list of what is in a version.
func NotListed(tx *Tx, versionID int64, why string) error {
	return tx.Model(&Version{}).Where("id = ?", versionID).Update("unlisted", why).Error
}

// SoftwareListOf returns the list of a version, or ErrNotFound.
func SoftwareListOf(db *gorm.DB, versionID int64) (SoftwareList, error) {
	return first[SoftwareList](db, fmt.Sprintf("software list of version %d", versionID), "version_id = ?", versionID)
}

// SoftwareCounts returns how many entries the lists of an image's versions have, by version.
func SoftwareCounts(db *gorm.DB, imageID int64) (map[int64]int, error) {
	return byVersion(db.Raw(`select l.version_id, l.entries as n from software_lists l join versions v on v.id =
		l.version_id where v.image_id = ?`, imageID))
}

// likeEscaped has a text stand for itself in a pattern of LIKE.
func likeEscaped(text string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text)
}

// SoftwareNamed returns the software of a name, or that was built from a source
// of that name, in any version of it. In the name, * is any text.
func SoftwareNamed(db *gorm.DB, name string, origin software.Origin, limit int) (rows []Software, err error) {
	like := strings.ReplaceAll(likeEscaped(strings.ToLower(name)), "*", "%")
	q := fresh(db).Table("software").Where("(lower(name) like ? or source <> '' and lower(source) like ?)", like, like)
	if origin != "" {
		q = q.Where("origin = ?", origin)
	}
	err = q.Order("name, version, id").Limit(limit).Scan(&rows).Error
	return rows, err
}

// SoftwareUse is a version that has a piece of software.
type SoftwareUse struct {
	SoftwareID int64
	VersionID  int64
	Image      string
	Number     string
	Barred     bool
}

// SoftwareUses returns the versions, not retired, that have a piece of the software in them.
func SoftwareUses(db *gorm.DB, ids []int64) (rows []SoftwareUse, err error) {
	// One by one, and first: a database that guesses how many versions each of them is in would read all there is, or
	// look again for each version.
	text, err := json.Marshal(ids)
	if err != nil {
		return nil, err
	}
	err = db.Raw(`with i as materialized (select has.* from json_array_elements_text(?::json) asked
			cross join lateral (select * from software_in where software_id = asked::bigint offset 0) has)
		select i.software_id, v.id as version_id, g.name as image, v.number, v.barred <> '' as barred
		from i join versions v on v.id = i.version_id join images g on g.id = v.image_id
		where v.state = 'sealed' order by g.name, v.id desc, i.software_id`, string(text)).Scan(&rows).Error
	return rows, err
}

// NamedVersion is a version that something names.
type NamedVersion struct {
	VersionID int64
	Name      string // of a track, "fallback", or of the pool that is pinned to it
	Pinned    bool
}

// NamedVersions returns all versions that tracks, live's fallback and pools name, in the order of tracks.
func NamedVersions(db *gorm.DB) (rows []NamedVersion, err error) {
	err = db.Raw(`select version_id, name, pinned from (
			select version_id, name, false as pinned, position from tracks where version_id is not null
			union all select fallback_id, 'fallback', false, 1000 from tracks where name = 'live' and fallback_id is not null
			union all select pinned_id, name, true, 1001 from pools where pinned_id is not null) named
		order by position, name`).Scan(&rows).Error
	return rows, err
}

// HostOfVersion is a host that runs a version.
type HostOfVersion struct {
	VersionID  int64
	Pool, Name string
}

// HostsOfVersions returns the hosts that run one of the versions.
func HostsOfVersions(db *gorm.DB, versions []int64) (rows []HostOfVersion, err error) {
	err = db.Raw(`select h.version_id, p.name as pool, h.name from hosts h join pools p on p.id = h.pool_id
		where h.version_id in ? order by p.name, h.name`, versions).Scan(&rows).Error
	return rows, err
}
