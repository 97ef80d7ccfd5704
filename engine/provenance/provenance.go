// Package provenance signs how versions were made, when they are sealed.
package provenance

import (
	"cmp"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/core/compare"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/provenance"
	"nimblepane/core/software"
	"nimblepane/engine"
	"nimblepane/engine/builds"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// signer signs with one key.
type signer struct {
	engine *engine.Engine
}

// New has the provenance of every version signed that is sealed from now on. It
// is said after what keeps the software lists, which are named in it.
func New(e *engine.Engine, vs *versions.Versions) {
	vs.WhenSealed((&signer{e}).sealed)
}

// key is what is signed with: the key that the service was given, or else its
// own, which is made when it is needed first.
func (s *signer) key(tx *store.Tx) (ed25519.PrivateKey, error) {
	if given := s.engine.SigningKey; given != nil {
		public := given.Public().(ed25519.PublicKey) // it is one
		return given, store.KeepPublicKey(tx, store.SigningKey{
			ID: provenance.KeyID(public), Public: public, MadeAt: tx.Now,
		})
	}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	own, err := store.OwnSigningKey(tx, store.SigningKey{
		ID: provenance.KeyID(public), Public: public, Private: private.Seed(), MadeAt: tx.Now,
	})
	if err != nil {
		return nil, err
	}
	return ed25519.NewKeyFromSeed(own.Private), nil
}

// sealed signs how a version was made. That it cannot be written is kept: the version is none the worse for it.
func (s *signer) sealed(tx *store.Tx, v store.Version, made platform.Captured) error {
	m, err := s.made(tx, v, made)
	if err != nil {
		return err
	}
	statement, err := provenance.Statement(m)
	if err != nil {
		return tx.Create(&store.Provenance{VersionID: v.ID, Why: err.Error()}).Error
	}
	key, err := s.key(tx)
	if err != nil {
		return err
	}
	id := provenance.KeyID(key.Public().(ed25519.PublicKey)) // it is one
	return tx.Create(&store.Provenance{VersionID: v.ID, Envelope: provenance.Sign(statement, key), KeyID: &id}).Error
}

// made is all that is known of how a version was made.
func (s *signer) made(tx *store.Tx, v store.Version, c platform.Captured) (m provenance.Made, err error) {
	img, err := store.ImageByID(tx.DB, v.ImageID)
	if err != nil {
		return m, err
	}
	site, machine := versions.SourceOf(v)
	m = provenance.Made{
		Version: provenance.Thing{Name: versions.Label(img, v), SHA256: provenance.Digest(v.Digest)},
		Kind:    provenance.ByHand, Builder: cmp.Or(s.engine.AgentURL, "urn:nimblepane:service"),
		Versions: map[string]string{"nimblepaned": cmp.Or(s.engine.Version, "dev")},
		Run:      versions.Subject(img, v), Began: v.CreatedAt, Ended: tx.Now,
		Told: map[string]any{
			"image": img.Name, "number": v.Number, "site": site, "build_machine": machine, "captured_by": v.CapturedBy,
			"notes": v.Notes,
		},
		Did: map[string]any{"seal_checks": findings(v), "sealing": append([]string{}, c.Sealing...)},
	}
	switch b, err := store.BuildOfVersion(tx.DB, v.ID); {
	case err == nil:
		if err := built(tx.DB, &m, b, site); err != nil {
			return m, err
		}
	case !errors.Is(err, store.ErrNotFound):
		return m, err
	default:
		if err := byHand(tx.DB, &m, site, machine); err != nil {
			return m, err
		}
	}
	l, err := store.SoftwareListOf(tx.DB, v.ID)
	if errors.Is(err, store.ErrNotFound) {
		return m, nil
	}
	if err != nil {
		return m, err
	}
	document, err := software.Unpack(l.Document)
	sum := sha256.Sum256(document)
	m.Brought = append(m.Brought, provenance.Thing{Name: "software list", SHA256: hex.EncodeToString(sum[:])})
	return m, err
}

// findings are what the seal checks found, and why it was passed over.
func findings(v store.Version) []map[string]any {
	list := []map[string]any{}
	for _, f := range v.Findings.V {
		list = append(list, map[string]any{
			"check": f.Check, "severity": f.Severity, "evidence": f.Evidence, "waived": f.Waived,
		})
	}
	return list
}

// built adds what is known of the build that made a version.
func built(db *gorm.DB, m *provenance.Made, b store.Build, site string) error {
	plan := b.Plan.V
	sheet := sha256.Sum256([]byte(b.Sheet))
	m.Kind, m.Run, m.Began = provenance.BySheet, fmt.Sprintf("build %d", b.ID), b.StartedAt
	m.Told["started_by"], m.Told["schedule"] = b.StartedBy, b.Schedule
	m.Told["sheet"] = map[string]any{"name": b.SheetName, "sha256": hex.EncodeToString(sheet[:]), "commit": b.Commit}
	m.Told["parameters"] = plan.Values
	m.Told["secrets"] = slices.Sorted(maps.Keys(plan.Secrets)) // their names
	works, err := store.BuildWorks(db, b.ID)
	if err != nil {
		return err
	}
	steps, done := []map[string]any{}, builds.StepsOf(b, works)
	for i, step := range plan.Steps {
		result := build.StepStateOf(step, done[i].Task, b.State)
		s := map[string]any{
			"name": step.Name, "does": step.Explain(), "sha256": compare.Digest(step), "left_out": step.Skipped,
			"result": results[result], "attempts": done[i].Attempts,
		}
		if result == build.StepNoted {
			s["failure"] = done[i].Why
		}
		steps = append(steps, s)
		if f := step.Fetch; f != nil && !step.Skipped {
			m.From = append(m.From, provenance.Thing{Name: step.Name, URI: f.From, SHA256: f.SHA256})
		}
	}
	m.Did["steps"] = steps
	changed, err := manualWork(db, m, site, b.Machine(), b.Name(), b.StartedAt)
	if err != nil {
		return err
	}
	if changed || b.WentOnAt != nil {
		m.Kind = provenance.BySheetAndHand
	}
	for _, name := range slices.Sorted(maps.Keys(b.Files.V)) {
		m.From = append(m.From, provenance.Thing{Name: name, SHA256: b.Files.V[name]})
	}
	return from(db, m, site, b.BaseID, b.FromBaseID, plan.Base.Disk)
}

// results are the results of steps, as they are signed.
var results = map[build.StepState]string{
	build.StepDone: "succeeded", build.StepNoted: "failed and tolerated", build.StepSkipped: "skipped",
	build.StepLater: "done after the capture, on a test machine",
}

// manualWork adds manual work on the machine, and the holds and continuations of its build. It reports whether the
// machine may have been changed.
func manualWork(db *gorm.DB, m *provenance.Made, site, machine, build string, since time.Time) (changed bool,
	err error,
) {
	entries, all, err := store.Interventions(db, site, machine, build, since)
	if err != nil {
		return false, err
	}
	list := []map[string]any{}
	for _, e := range entries {
		row := map[string]any{"at": e.At, "actor": e.Actor, "act": e.Verb}
		if e.Reason != "" {
			row["reason"] = e.Reason
		}
		if len(e.Detail) > 0 {
			row["detail"] = e.Detail
		}
		list = append(list, row)
		changed = changed || strings.HasPrefix(e.Verb, "build-machine.")
	}
	m.Did["manual_work"] = list
	if more := all - int64(len(list)); more > 0 {
		m.Did["manual_work_not_listed"] = more // it is in the audit log
	}
	return changed, nil
}

// byHand adds what the build machine was made from, if the service made it.
func byHand(db *gorm.DB, m *provenance.Made, siteName, machine string) error {
	site, err := store.SiteNamed(db, siteName)
	if errors.Is(err, store.ErrNotFound) {
		return nil // it was taken out of the estate meanwhile
	}
	if err != nil {
		return err
	}
	made, err := store.LockMachineAt(db, site, machine)
	if errors.Is(err, store.ErrNotFound) {
		return nil // the site has it by itself, or it is gone already
	}
	if err != nil {
		return err
	}
	if _, err := manualWork(db, m, siteName, machine, "", made.AskedAt); err != nil {
		return err
	}
	return from(db, m, siteName, made.BaseID, made.FromBaseID, made.BaseDisk)
}

// from adds the source of a machine as the first dependency. A base disk in a site's storage has no known digest, and
// is
// a parameter: a dependency needs a digest.
func from(db *gorm.DB, m *provenance.Made, site string, version, base *int64, disk string) error {
	t := provenance.Thing{}
	switch {
	case version != nil:
		img, v, err := versions.Of(db, *version)
		if err != nil {
			return err
		}
		t = provenance.Thing{Name: versions.Label(img, v), SHA256: provenance.Digest(v.Digest)}
	case base != nil:
		b, err := store.BaseByID(db, *base)
		if err != nil {
			return err
		}
		t = provenance.Thing{Name: "base " + b.Name, URI: b.Address, SHA256: b.SHA256}
	case disk != "":
		m.Told["base_disk"] = map[string]any{"site": site, "name": disk}
		return nil
	default:
		return nil
	}
	m.From = append([]provenance.Thing{t}, m.From...)
	return nil
}

// Of returns the signed provenance of a version. The error says why it has none.
func Of(db *gorm.DB, img store.Image, v store.Version) (store.Provenance, error) {
	p, err := store.ProvenanceOf(db, v.ID)
	if errors.Is(err, store.ErrNotFound) {
		why := "it was sealed before that was signed"
		if v.State == image.Capturing || v.State == image.Failed {
			why = fmt.Sprintf("it is %s", v.State)
		}
		return p, problem.NotRecorded.Errorf("%s has no signed provenance: %s", versions.Label(img, v), why)
	}
	if err == nil && p.Envelope == nil {
		return p, problem.NotRecorded.Errorf("%s has no signed provenance: %s", versions.Label(img, v), p.Why)
	}
	return p, err
}

// Checked is what a provenance says, or why it is not to be trusted.
type Checked struct {
	provenance.Verified
	Wrong []string
}

// Check verifies the provenance of a version with the keys that the service has
// or had, and holds it against what the records say.
func Check(db *gorm.DB, img store.Image, v store.Version) (c Checked, err error) {
	p, err := Of(db, img, v)
	if err != nil {
		return c, err
	}
	keys, err := store.SigningKeys(db)
	if err != nil {
		return c, err
	}
	var public []ed25519.PublicKey
	for _, k := range keys {
		public = append(public, k.Public)
	}
	if c.Verified, err = provenance.Verify(p.Envelope, public); err != nil {
		c.Wrong = append(c.Wrong, err.Error())
		return c, nil
	}
	if is := versions.Label(img, v); c.Version.Name != is {
		c.Wrong = append(c.Wrong, fmt.Sprintf("it is about %s, and not %s", c.Version.Name, is))
	}
	if is := provenance.Digest(v.Digest); c.Version.SHA256 != is {
		c.Wrong = append(c.Wrong, fmt.Sprintf("the disk was sealed with digest %s, and the records say %s",
			c.Version.SHA256, is))
	}
	l, err := store.SoftwareListOf(db, v.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return c, err
	}
	if err == nil && l.BroughtBy == "" {
		document, err := software.Unpack(l.Document)
		if err != nil {
			return c, err
		}
		sum := sha256.Sum256(document)
		for _, b := range c.Brought {
			if b.Name == "software list" && b.SHA256 != hex.EncodeToString(sum[:]) {
				c.Wrong = append(c.Wrong, "the software list is not the one that it was sealed with")
			}
		}
	}
	return c, nil
}
