package store

import (
	"errors"
	"fmt"
	"iter"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/flaw"
)

// FlawList is a list of known flaws that was loaded.
type FlawList struct {
	ID       int64
	Name     string
	LoadedAt time.Time
	LoadedBy string
	Digest   string
	Records  int
}

// Flaw is a record of a list.
type Flaw struct {
	ID     int64
	ListID int64
	Record JSON[flaw.Record] `gorm:"type:jsonb"`
}

// FlawPackage is what a record is looked up by.
type FlawPackage struct {
	Name   string
	FlawID int64
}

// FlawsFound is what was found in a version.
type FlawsFound struct {
	VersionID int64 `gorm:"primaryKey"`
	Epoch     int64
	Found     JSON[[]flaw.Found] `gorm:"type:jsonb"`
	// NotChecked is the software that no list covers.
	NotChecked JSON[[]flaw.Gap] `gorm:"type:jsonb"`
}

// FlawEcosystem is an ecosystem that a list covers.
type FlawEcosystem struct {
	ListID    int64
	Ecosystem string
}

// TableName is gorm's.
func (FlawsFound) TableName() string { return "flaws_found" }

// FlawLists returns all lists by name.
func FlawLists(db *gorm.DB) (rows []FlawList, err error) {
	err = db.Order("name").Find(&rows).Error
	return rows, err
}

// FlawListNamed returns the list, or ErrNotFound.
func FlawListNamed(db *gorm.DB, name string) (FlawList, error) {
	return named[FlawList](db, "flaw list "+name, "name", fresh(db), "name = ?", name)
}

// ReplaceFlawList takes the place of the list of the name, if there is one, and begins another epoch.
func ReplaceFlawList(tx *Tx, l *FlawList, records iter.Seq2[flaw.Record, error]) error {
	if err := DeleteFlawList(tx, l.Name); err != nil {
		return err
	}
	if err := tx.Create(l).Error; err != nil {
		return err
	}
	const batch, batchBytes = 1000, 8 << 20
	var rows []Flaw
	size, ecosystems := 0, map[string]bool{}
	write := func() error {
		if len(rows) == 0 {
			return nil
		}
		if err := fresh(tx.DB).Create(&rows).Error; err != nil {
			return err
		}
		var packages []FlawPackage
		for _, row := range rows {
			names := map[string]bool{}
			for _, a := range row.Record.V.Affected {
				if n := flaw.Normal(a.Ecosystem, a.Name); !names[n] {
					names[n] = true
					packages = append(packages, FlawPackage{n, row.ID})
				}
			}
		}
		l.Records += len(rows)
		rows, size = rows[:0], 0
		if len(packages) == 0 {
			return nil
		}
		return tx.CreateInBatches(packages, 10*batch).Error
	}
	for r, err := range records {
		if err != nil {
			return err
		}
		rows = append(rows, Flaw{ListID: l.ID, Record: JSON[flaw.Record]{V: r}})
		for _, a := range r.Affected {
			size += 100 + 20*len(a.Versions)
			if ecosystems[a.Ecosystem] = true; len(ecosystems) > mostEcosystems {
				return fmt.Errorf("%w: more than %d", ErrEcosystems, mostEcosystems)
			}
		}
		if len(rows) == batch || size > batchBytes {
			if err := write(); err != nil {
				return err
			}
		}
	}
	if err := write(); err != nil {
		return err
	}
	var covers []FlawEcosystem
	for e := range ecosystems {
		covers = append(covers, FlawEcosystem{l.ID, e})
	}
	if len(covers) > 0 {
		if err := tx.CreateInBatches(covers, batch).Error; err != nil {
			return err
		}
	}
	return tx.Save(l).Error
}

// mostEcosystems is how many ecosystems a list may cover. There are some hundreds.
const mostEcosystems = 20_000

// ErrEcosystems is the error of a list that covers too many ecosystems.
var ErrEcosystems = errors.New("the list names too many ecosystems")

// FlawEcosystems returns the ecosystems that the lists cover.
func FlawEcosystems(db *gorm.DB) (names []string, err error) {
	err = db.Model(&FlawEcosystem{}).Distinct().Order("ecosystem").Pluck("ecosystem", &names).Error
	return names, err
}

// DeleteFlawList deletes the list of the name, if there is one, and begins another epoch. Changes of lists wait for
// each other.
func DeleteFlawList(tx *Tx, name string) error {
	return errors.Join(tx.Exec("update flaw_epoch set epoch = epoch + 1").Error,
		tx.Exec("delete from flaw_lists where name = ?", name).Error)
}

// FlawEpoch is the epoch of the lists as they are, and how many there are.
func FlawEpoch(db *gorm.DB) (epoch int64, lists int, err error) {
	var row struct {
		Epoch int64
		Lists int
	}
	err = db.Raw("select epoch, (select count(*) from flaw_lists) as lists from flaw_epoch").Scan(&row).Error
	return row.Epoch, row.Lists, err
}

// FlawsByName returns the records that are about one of the packages.
func FlawsByName(db *gorm.DB, names []string) (records []flaw.Record, err error) {
	var rows []Flaw
	if len(names) == 0 {
		return nil, nil
	}
	err = db.Raw("select * from flaws where id in (select flaw_id from flaw_packages where name in ?) order by id",
		names).
		Scan(&rows).Error
	for _, r := range rows {
		records = append(records, r.Record.V)
	}
	return records, err
}

// FlawsFoundIn returns what was found in a version at an epoch, and whether that was looked for.
func FlawsFoundIn(db *gorm.DB, versionID, epoch int64) (row FlawsFound, known bool, err error) {
	r := db.Where("version_id = ? and epoch = ?", versionID, epoch).Limit(1).Find(&row)
	return row, r.RowsAffected == 1, r.Error
}

// KeepFlawsFound notes what was found in a version, unless it is known of a later epoch.
func KeepFlawsFound(db *gorm.DB, f FlawsFound) error {
	return db.Exec(`insert into flaws_found (version_id, epoch, found, not_checked) values (?, ?, ?, ?)
		on conflict (version_id) do update set epoch = excluded.epoch, found = excluded.found,
		  not_checked = excluded.not_checked
		where flaws_found.epoch < excluded.epoch`, f.VersionID, f.Epoch, f.Found, f.NotChecked).Error
}

// UsedVersion is a version that tracks name or hosts run, with the serious flaws that were found in it last.
type UsedVersion struct {
	Version
	Image string
	Hosts int
	Found JSON[[]flaw.Found]
}

// used is the condition on a version v that tracks or pins name it, or hosts run it.
const used = `exists (select from hosts h where h.version_id = v.id)
	or exists (select from tracks t where t.version_id = v.id) or exists (select from pools p where p.pinned_id = v.id)`

// VersionsToLookAt returns the used versions with a software list that were not checked at the epoch.
func VersionsToLookAt(db *gorm.DB, epoch int64) (rows []Version, err error) {
	err = db.Raw(`select v.* from versions v join software_lists l on l.version_id = v.id
		where not exists (select from flaws_found f where f.version_id = v.id and f.epoch = ?) and (`+used+`) order by v.id`,
		epoch).Scan(&rows).Error
	return rows, err
}

// UsedVersions returns the versions that tracks or pins name, or hosts run, by image, the newest first.
func UsedVersions(db *gorm.DB) (rows []UsedVersion, err error) {
	err = db.Raw(`select v.*, i.name as image, coalesce(h.hosts, 0) as hosts,
			jsonb_path_query_array(f.found, '$[*] ? (@.severity == "high" || @.severity == "critical")') as found
		from versions v join images i on i.id = v.image_id left join flaws_found f on f.version_id = v.id
		left join (select version_id, count(*) as hosts from hosts group by version_id) h on h.version_id = v.id
		where ` + used + ` order by i.name, v.id desc`).Scan(&rows).Error
	return rows, err
}
