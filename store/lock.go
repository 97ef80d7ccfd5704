package store

import (
	"slices"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Whoever changes several records locks them in one order, so that two who
// change the same ones wait for each other and do not block each other for
// good: builds, images, pools, rollovers, hosts, each by id; then the lock of a site's
// clones; then that of the trail. An image's lock also stands for its versions
// and tracks, and for what its pools are pinned to.

// forChange locks rows against other changes, and not against records that
// only refer to them.
var forChange = clause.Locking{Strength: "NO KEY UPDATE"}

func lockRows[T any](db *gorm.DB, ids []int64) (rows []T, err error) {
	err = fresh(db).Clauses(forChange).Where("id in ?", ids).Order("id").Find(&rows).Error
	return rows, err
}

// LockImage returns the image and keeps others from changing it, its versions
// and its tracks, and from pinning pools to them, until the transaction ends.
func LockImage(db *gorm.DB, name string) (Image, error) {
	return ImageNamed(db.Clauses(forChange), name)
}

// LockPools returns the pools in the order of their names in the list, and
// keeps others from changing them and their images until the transaction ends.
func LockPools(db *gorm.DB, names ...string) ([]Pool, error) {
	ids, images := make([]int64, len(names)), make([]int64, len(names))
	for i, n := range names {
		p, err := PoolNamed(db, n)
		if err != nil {
			return nil, err
		}
		ids[i], images[i] = p.ID, p.ImageID
	}
	if _, err := lockRows[Image](db, images); err != nil {
		return nil, err
	}
	rows, err := lockRows[Pool](db, ids)
	if err != nil {
		return nil, err
	}
	pools := make([]Pool, len(ids))
	for i, id := range ids {
		pools[i] = rows[slices.IndexFunc(rows, func(p Pool) bool { return p.ID == id })]
	}
	return pools, nil
}

// LockPool is LockPools of one.
func LockPool(db *gorm.DB, name string) (Pool, error) {
	pools, err := LockPools(db, name)
	if err != nil {
		return Pool{}, err
	}
	return pools[0], nil
}

// LockFollowers returns the pools of an image that follow one of the tracks,
// and keeps others from changing them. The image has to be locked.
func LockFollowers(db *gorm.DB, img Image, tracks []string) (rows []Pool, err error) {
	err = fresh(db).Clauses(forChange).Where("image_id = ? and pinned_id is null and track in ?", img.ID,
		tracks).Order("id").Find(&rows).Error
	return rows, err
}

// LockEstate keeps others from changing any image or pool until the transaction ends.
func LockEstate(db *gorm.DB) error {
	var id []int64
	for _, model := range []any{&Image{}, &Pool{}} {
		if err := fresh(db).Clauses(forChange).Model(model).Order("id").Pluck("id", &id).Error; err != nil {
			return err
		}
	}
	return nil
}

// LockCapture makes the change the only one that begins a capture of a build
// machine, and returns the version that is being captured from it, "" if none.
func (tx *Tx) LockCapture(source string) (version string, err error) {
	if err := tx.Exec("select pg_advisory_xact_lock(?, hashtext(?))", lockCapture, source).Error; err != nil {
		return "", err
	}
	err = tx.Raw("select i.name || ' ' || v.number from versions v join images i on i.id = v.image_id where "+
		"v.source = ? and v.state = 'capturing'", source).Scan(&version).Error
	return version, err
}

// LockRollover returns the rollover and keeps others from changing it until the transaction ends.
func LockRollover(db *gorm.DB, id int64) (Rollover, error) {
	if err := lockRollover(db, id); err != nil {
		return Rollover{}, err
	}
	return RolloverByID(db, id)
}

// lockRollover locks no row: that would be written down, and a tick in which
// nothing happens writes nothing.
func lockRollover(db *gorm.DB, id int64) error {
	return fresh(db).Exec("select pg_advisory_xact_lock(?, id::int) from rollovers where id = ?", lockOfRollover,
		id).Error
}

// LockOpenRollovers returns the rollovers of a pool that have something in
// flight or to come, and keeps others from changing them and the hosts that
// they have in hand. The pool has to be locked.
func LockOpenRollovers(db *gorm.DB, poolID int64) ([]Rollover, error) {
	open, err := OpenRollovers(fresh(db), poolID)
	if err != nil {
		return nil, err
	}
	for _, r := range open {
		if err := lockRollover(db, r.ID); err != nil {
			return nil, err
		}
	}
	return OpenRollovers(fresh(db), poolID) // as they are now that they are held
}

// LockHost returns the host with its pool and the pool's open rollovers, and
// keeps others from changing any of them until the transaction ends.
func LockHost(db *gorm.DB, name string) (h Host, p Pool, open []Rollover, err error) {
	if h, err = HostNamed(db, name); err != nil {
		return h, p, nil, err
	}
	if p, err = PoolByID(db, h.PoolID); err != nil {
		return h, p, nil, err
	}
	if p, err = LockPool(db, p.Name); err != nil {
		return h, p, nil, err
	}
	if open, err = LockOpenRollovers(db, p.ID); err != nil {
		return h, p, nil, err
	}
	h, err = HostNamed(db.Clauses(forChange), name)
	return h, p, open, err
}
