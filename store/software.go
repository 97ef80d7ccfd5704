package store

import (
	"crypto/md5" // a mark by which a row is found again, and nothing secret
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/software"
)

// SoftwareList is what is in a version, as it was listed.
type SoftwareList struct {
	VersionID int64 `gorm:"primaryKey"`
	Document  []byte
	Entries   int
	Facts     JSON[software.Facts]
	TakenAt   time.Time
	TakenBy   string
	BroughtBy string
}

// Software is one piece of software, in whichever versions it is.
type Software struct {
	ID                                int64           `json:"-"`
	Mark                              string          `json:"mark"`
	Origin                            software.Origin `json:"origin"`
	Name, Version, Arch               string
	Source                            string
	SourceVersion                     string `json:"source_version"`
	Licence, Publisher, Summary, Path string
	Noticed, Security                 bool
}

// Entry is the piece of software as a list has it.
func (s Software) Entry() software.Entry {
	return software.Entry{
		Origin: s.Origin, Name: s.Name, Version: s.Version, Arch: s.Arch, Source: s.Source,
		SourceVersion: s.SourceVersion, Licence: s.Licence, Publisher: s.Publisher, Summary: s.Summary, Path: s.Path,
		Noticed: s.Noticed, Security: s.Security,
	}
}

// KeepSoftware keeps the list of a version that has none.
func KeepSoftware(tx *Tx, l SoftwareList, entries []software.Entry) error {
	if err := tx.Create(&l).Error; err != nil {
		return err
	}
	type row struct {
		Mark string `json:"mark"`
		software.Entry
	}
	rows := make([]row, len(entries))
	for i, e := range entries {
		e.Opens = nil
		text, err := json.Marshal(e)
		if err != nil {
			return err
		}
		sum := md5.Sum(text)
		rows[i] = row{hex.EncodeToString(sum[:]), e}
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	// In order, so that two lists that are kept at once do not wait for each other in a circle.
	if err := tx.Exec(`insert into software (mark, origin, name, version, arch, source, source_version, licence,
			publisher, summary, path, noticed, security)
		select distinct on (mark) mark, origin, name, coalesce(version, ''), coalesce(arch, ''), coalesce(source, ''),
			coalesce(source_version, ''), coalesce(licence, ''), coalesce(publisher, ''), coalesce(summary, ''),
			coalesce(path, ''), coalesce(noticed, false), coalesce(security, false)
		from jsonb_to_recordset(?::jsonb) r(mark uuid, origin text, name text, version text, arch text, source text,
			source_version text, licence text, publisher text, summary text, path text, noticed bool, security bool)
		order by mark on conflict (mark) do nothing`, string(text)).Error; err != nil {
		return err
	}
	return tx.Exec(`insert into software_in (version_id, software_id)
		select distinct ?::bigint, s.id from jsonb_to_recordset(?::jsonb) r(mark uuid) join software s using (mark)`,
		l.VersionID, string(text)).Error
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

// SoftwareSearch says which of a version's software is meant.
type SoftwareSearch struct {
	Text   string          // in its name, source, summary or version; all if ""
	Origin software.Origin // all if ""
	Limit  int
	After  int // so many that come before
}

// origins are the ranks of origins, for statements.
func origins() string {
	var list []string
	for _, o := range software.Origins() {
		list = append(list, "'"+string(o)+"'")
	}
	return "array[" + strings.Join(list, ", ") + "]"
}

// SearchSoftware returns what of a version's software is meant, in order, and how much there is of it by origin.
func SearchSoftware(db *gorm.DB, versionID int64, s SoftwareSearch) (rows []Software, counts map[software.Origin]int,
	err error,
) {
	meant := fresh(db).Table("software s").Joins("join software_in i on i.software_id = s.id and i.version_id = ?",
		versionID)
	if s.Text != "" {
		like := "%" + likeEscaped(strings.ToLower(s.Text)) + "%"
		meant = meant.Where("lower(s.name || ' ' || s.version || ' ' || s.source || ' ' || s.summary) like ?", like)
	}
	var found []struct {
		Origin software.Origin
		N      int
	}
	if err := meant.Session(&gorm.Session{}).Select("s.origin, count(*) as n").Group("s.origin").
		Scan(&found).Error; err != nil {
		return nil, nil, err
	}
	counts = map[software.Origin]int{}
	for _, f := range found {
		counts[f.Origin] = f.N
	}
	if s.Origin != "" {
		meant = meant.Where("s.origin = ?", s.Origin)
	}
	err = meant.Session(&gorm.Session{}).Select("s.*").Order("array_position(" + origins() + ", s.origin), " +
		"lower(s.name), s.version, s.arch, s.path, s.id").Limit(s.Limit).Offset(s.After).Scan(&rows).Error
	return rows, counts, err
}

// SoftwareOf returns all entries of a version's list.
func SoftwareOf(db *gorm.DB, versionID int64) (entries []software.Entry, err error) {
	var rows []Software
	err = db.Raw("select s.* from software s join software_in i on i.software_id = s.id where i.version_id = ?",
		versionID).Scan(&rows).Error
	for _, r := range rows {
		entries = append(entries, r.Entry())
	}
	return entries, err
}

// likeEscaped has a text stand for itself in a pattern of LIKE.
func likeEscaped(text string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text)
}

// SoftwareNamed returns the software of a name, or that was built from a source
// of that name, in any version of it. In the name, * is any text.
func SoftwareNamed(db *gorm.DB, name string, origin software.Origin) (rows []Software, err error) {
	like := strings.ReplaceAll(likeEscaped(strings.ToLower(name)), "*", "%")
	q := fresh(db).Table("software").Where("(lower(name) like ? or source <> '' and lower(source) like ?)", like, like)
	if origin != "" {
		q = q.Where("origin = ?", origin)
	}
	err = q.Order("name, version, id").Scan(&rows).Error
	return rows, err
}

// SoftwareUse is a version that has a piece of software, and what it is used for.
type SoftwareUse struct {
	SoftwareID int64
	VersionID  int64
	Image      string
	Number     string
	Barred     bool
	Tracks     Strings // that name it, and "fallback"
	Pinned     Strings // pools that are pinned to it
}

// SoftwareUses returns the versions, not retired, that have a piece of the software in them.
func SoftwareUses(db *gorm.DB, ids []int64) (rows []SoftwareUse, err error) {
	err = db.Raw(`select i.software_id, v.id as version_id, g.name as image, v.number, v.barred <> '' as barred,
			coalesce((select jsonb_agg(name order by position, name) from (
				select t.name, t.position from tracks t where t.version_id = v.id
				union all select 'fallback', 1000 from tracks t where t.name = 'live' and t.fallback_id = v.id) named), '[]') as tracks,
			coalesce((select jsonb_agg(p.name order by p.name) from pools p where p.pinned_id = v.id), '[]') as pinned
		from software_in i join versions v on v.id = i.version_id join images g on g.id = v.image_id
		where i.software_id in ? and v.state = 'sealed' order by g.name, v.id desc, i.software_id`, ids).Scan(&rows).Error
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
