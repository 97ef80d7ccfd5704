package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// SigningKey is an ed25519 key that versions' provenance is signed with.
type SigningKey struct {
	ID      string
	Public  []byte
	Private []byte // its seed; none if that is kept elsewhere
	MadeAt  time.Time
}

// SigningKeys returns all keys that something may have been signed with, the newest first.
func SigningKeys(db *gorm.DB) (rows []SigningKey, err error) {
	err = db.Order("made_at desc, id").Find(&rows).Error
	return rows, err
}

// OwnSigningKey returns the key whose private half is kept here. If there is none yet, the given one becomes it.
func OwnSigningKey(tx *Tx, otherwise SigningKey) (k SigningKey, err error) {
	if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&otherwise).Error; err != nil {
		return k, err
	}
	err = fresh(tx.DB).Where("private is not null").Take(&k).Error
	return k, err
}

// KeepPublicKey has a key be known whose private half is kept elsewhere.
func KeepPublicKey(tx *Tx, k SigningKey) error {
	return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&k).Error
}

// Provenance is how a version was made, signed.
type Provenance struct {
	VersionID int64 `gorm:"primaryKey"`
	Envelope  []byte
	KeyID     *string
	Why       string // it could not be written, if there is no envelope
}

// ProvenanceOf returns it, or ErrNotFound.
func ProvenanceOf(db *gorm.DB, versionID int64) (Provenance, error) {
	return first[Provenance](db, fmt.Sprintf("provenance of version %d", versionID), "version_id = ?", versionID)
}

// BuildOfVersion returns the build that makes or made a version, or ErrNotFound.
func BuildOfVersion(db *gorm.DB, versionID int64) (Build, error) {
	return first[Build](db, fmt.Sprintf("build of version %d", versionID), "version_id = ?", versionID)
}
