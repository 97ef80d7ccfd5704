package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/agent"
	"nimblepane/core/proof"
	"nimblepane/core/sheet"
)

// Proof is a machine that is made from a version, looked at, and thrown away.
type Proof struct {
	ID         int64
	VersionID  int64
	SiteID     int64
	BuildID    *int64
	State      proof.State
	Settled    bool // its machine is gone
	Why        string
	Proofs     JSON[[]sheet.Step] // scripts that are run on its machine
	AskedBy    string
	AskedAt    time.Time
	Until      *time.Time // it is kept for a person, and nothing is tried on it
	LetGo      string     // why nobody wants it any more
	EndedAt    *time.Time
	Credential []byte // digest
	SpokeAt    *time.Time
	Says       string // the stamp that its agent reported
	Checks     agent.ChecksState
	ChecksWhy  string
	CheckedAt  *time.Time
}

// The kinds of works of proofs.
const (
	WorkProveMachine WorkKind = "prove-machine"
	WorkProveTry     WorkKind = "prove-try"
	WorkProveDiscard WorkKind = "prove-discard"
)

// Name is how people call it.
func (p Proof) Name() string { return fmt.Sprintf("proof %d", p.ID) }

// Host is what its machine is called.
func (p Proof) Host() string { return fmt.Sprintf("proof-%d", p.ID) }

// LockProof returns the proof and keeps others from changing it until the transaction ends, or ErrNotFound.
func LockProof(db *gorm.DB, id int64) (Proof, error) {
	return first[Proof](db.Clauses(forChange), fmt.Sprintf("proof %d", id), "id = ?", id)
}

// ProofByID returns the proof, or ErrNotFound.
func ProofByID(db *gorm.DB, id int64) (Proof, error) {
	return first[Proof](db, fmt.Sprintf("proof %d", id), "id = ?", id)
}

// ProofOfBuild returns the proof of a build, or ErrNotFound.
func ProofOfBuild(db *gorm.DB, id int64) (Proof, error) {
	return first[Proof](db, fmt.Sprintf("the proof of build %d", id), "build_id = ?", id)
}

// LastProof returns the last proof of a version that is not a person's, and whether there is one.
func LastProof(db *gorm.DB, versionID int64) (p Proof, there bool, err error) {
	r := db.Where("version_id = ? and until is null", versionID).Order("id desc").Limit(1).Find(&p)
	return p, r.RowsAffected == 1, r.Error
}

// ProofRow is a proof with the names that are shown of it.
type ProofRow struct {
	Proof
	Image, Version, Site string
	MachineAskedAt       *time.Time // nil before
}

// ProofFilter selects proofs; empty fields select all.
type ProofFilter struct {
	ID, VersionID int64
	Image         string
	Open          bool // only those whose machine is not gone
	Before        int64
	Limit         int
}

// ProofRows returns proofs, the newest first.
func ProofRows(db *gorm.DB, f ProofFilter) (rows []ProofRow, err error) {
	for column, id := range map[string]int64{"p.id": f.ID, "p.version_id": f.VersionID} {
		if id != 0 {
			db = db.Where(column+" = ?", id)
		}
	}
	if f.Image != "" {
		db = db.Where("i.name = ?", f.Image)
	}
	if f.Open {
		db = db.Where("not p.settled")
	}
	if f.Before != 0 {
		db = db.Where("p.id < ?", f.Before)
	}
	if f.Limit > 0 {
		db = db.Limit(f.Limit)
	}
	err = db.Table("proofs p").
		Select("p.*, i.name as image, v.number as version, s.name as site, w.asked_at as machine_asked_at").
		Joins("left join works w on w.kind = ? and w.subject = 'proof ' || p.id", WorkProveMachine).
		Joins("join versions v on v.id = p.version_id").Joins("join images i on i.id = v.image_id").
		Joins("join sites s on s.id = p.site_id").Order("p.id desc").Scan(&rows).Error
	return rows, err
}

// ProofWorks returns the works of a proof, by kind and attempt.
func ProofWorks(db *gorm.DB, p Proof) (rows []Work, err error) {
	err = db.Where("subject = ? and subject like 'proof %'", p.Name()).Order("kind, attempt").Find(&rows).Error
	return rows, err
}

// ProofNow makes a proof due.
func (tx *Tx) ProofNow(id int64) error {
	return tx.Exec("update proofs set next_tick_at = now() where id = ? and not settled", id).Error
}

// AddProofToken adds the digest of an enrolment token that an attempt to make the proof's machine gives it. Those of
// earlier attempts stay good: the machine has one of them if only the answer to its attempt was lost.
func AddProofToken(db *gorm.DB, id int64, token []byte) error {
	return db.Exec("update proofs set tokens = tokens || array[?::bytea] where id = ? and spoke_at is null", token,
		id).Error
}

// EnrolProof trades a token of a proof's machine for a credential, both as digests. Until the machine has used its
// credential, the token can be traded again, in case the answer was lost. ErrNotFound: the token is of none, or was
// used.
func (s *Store) EnrolProof(ctx context.Context, token, credential []byte, now time.Time) (p Proof, err error) {
	err = s.Change(ctx, "agent", now, func(tx *Tx) error {
		r := tx.Raw("update proofs set credential = ? where ?::bytea = any(tokens) and spoke_at is null and not "+
			"settled "+
			"returning *", credential, token).Scan(&p)
		if r.Error == nil && r.RowsAffected == 0 {
			return fmt.Errorf("the token: %w", ErrNotFound)
		}
		if r.Error == nil {
			tx.Record(Entry{Verb: "proof.enrol", Subject: p.Name(), Scope: p.Name()})
		}
		return r.Error
	})
	return p, err
}

// SaveProofBeat keeps what the agent of a proof's machine says, by the digest of its credential. ErrNotFound: it is of
// none that there still is.
func (s *Store) SaveProofBeat(ctx context.Context, credential []byte, beat agent.Heartbeat, now time.Time) (p Proof,
	err error,
) {
	r := s.DB.WithContext(ctx).Raw(`update proofs set spoke_at = coalesce(spoke_at, @now), says = @says,
			checks = @checks, checks_why = @why,
			checked_at = case when @checks in ('passed', 'failed') then coalesce(checked_at, @now) end,
			next_tick_at = case when spoke_at is null or checks <> @checks then now() else next_tick_at end
		where credential = @credential and not settled returning *`, map[string]any{
		"now": now, "says": beat.Stamp, "checks": beat.Checks.State, "why": beat.Checks.Why, "credential": credential,
	}).Scan(&p)
	if r.Error == nil && r.RowsAffected == 0 {
		err = fmt.Errorf("the credential: %w", ErrNotFound)
	}
	return p, errors.Join(r.Error, err)
}
