// Package flaws keeps lists of known flaws, and says which versions have which.
package flaws

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/flaw"
	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/problem"
	"nimblepane/core/software"
	"nimblepane/engine"
	"nimblepane/engine/foreign"
	"nimblepane/sandbox"
	"nimblepane/store"
)

// Flaws are the acts on lists of known flaws. They are safe for concurrent use.
type Flaws struct {
	engine *engine.Engine
}

// New has versions in use held against the lists, and adds what Today tells of that to the engine.
func New(e *engine.Engine) *Flaws {
	fs := &Flaws{e}
	e.Add(engine.Subject{
		Loops: []func(context.Context){func(ctx context.Context) {
			e.Repeat(ctx, lookEvery, "versions could not be held against the lists of known flaws", fs.look)
		}},
		Matters: []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters},
	})
	return fs
}

// lookEvery is how often is looked whether a list has changed, in real time.
const lookEvery = time.Second

// look holds versions in use against the lists that were not since one of those changed, so that nobody who asks for
// Today waits for it.
func (fs *Flaws) look(ctx context.Context) error {
	db := fs.engine.Store.DB.WithContext(ctx)
	epoch, lists, err := store.FlawEpoch(db)
	if err != nil || lists == 0 {
		return err
	}
	rows, err := store.VersionsToLookAt(db, epoch)
	if err != nil {
		return err
	}
	for _, v := range rows {
		if _, err := Of(db, v); err != nil {
			return err
		}
	}
	return nil
}

// Load takes a list in the OSV format, in place of the one that has the name. One with anything wrong is refused.
func (fs *Flaws) Load(ctx context.Context, actor, name string, list []byte) (store.FlawList, error) {
	var out store.FlawList
	if err := image.CheckName(name); err != nil {
		return out, problem.InvalidRequest.Errorf("name of the vulnerability list: %s", err)
	}
	records, err := fs.read(ctx, list)
	if err != nil {
		return out, err
	}
	defer records.Close()
	sum := sha256.Sum256(list)
	err = fs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		if _, err := records.Seek(0, io.SeekStart); err != nil {
			return err
		}
		out = store.FlawList{
			Name: name, LoadedAt: tx.Now, LoadedBy: actor, Digest: "sha256:" + hex.EncodeToString(sum[:]),
		}
		if err := store.ReplaceFlawList(tx, &out, foreign.Records(records)); errors.Is(err, store.ErrEcosystems) {
			return problem.InvalidRequest.Errorf("%s", err)
		} else if err != nil {
			return err
		}
		tx.Record(store.Entry{
			Verb: "flaws.load", Subject: "flaw list " + name,
			Detail: map[string]any{"records": out.Records, "digest": out.Digest},
		})
		return nil
	})
	return out, err
}

// read reads a list in the sandbox. Its records are in a file, which is gone when it is closed.
func (fs *Flaws) read(ctx context.Context, list []byte) (records *os.File, err error) {
	from, err := fs.engine.Scratch()
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.Remove(from.Name()), from.Close()) }()
	if _, err := from.Write(list); err != nil {
		return nil, err
	}
	if records, err = fs.engine.Scratch(); err != nil {
		return nil, err
	}
	if err := os.Remove(records.Name()); err != nil {
		return nil, errors.Join(err, records.Close())
	}
	err = foreign.VulnerabilityList(ctx, from.Name(), records)
	var problems flaw.Problems
	var unavailable *sandbox.Unavailable
	switch {
	case errors.As(err, &problems):
		err = &problem.Problem{
			Type: problem.InvalidFile, Detail: "the flaw list cannot be taken, and nothing of it was",
			Reasons: problems,
		}
	case errors.As(err, &unavailable):
		err = problem.NameTaken.Errorf("%s", err)
	}
	if err != nil {
		return nil, errors.Join(err, records.Close())
	}
	return records, nil
}

// Delete forgets a list, with what it said.
func (fs *Flaws) Delete(ctx context.Context, actor, name string) error {
	return fs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		l, err := store.FlawListNamed(tx.DB, name)
		if err != nil {
			return err
		}
		tx.Record(store.Entry{
			Verb: "flaws.delete", Subject: "flaw list " + name, Detail: map[string]any{"records": l.Records},
		})
		return store.DeleteFlawList(tx, name)
	})
}

// NotLooked is why it is not known which flaws a version has.
type NotLooked struct{ Why string }

func (n *NotLooked) Error() string { return n.Why }

// Result is what the lists say of a version.
type Result struct {
	Found      []flaw.Found // the worst first
	NotChecked []flaw.Gap   // software that no list covers
}

// Of returns the known flaws of a version by the lists as they are, and the software that they do not cover. The error
// is *NotLooked if there is no list, or the version has no software list.
func Of(db *gorm.DB, v store.Version) (r Result, err error) {
	epoch, lists, err := store.FlawEpoch(db)
	if err != nil {
		return r, err
	}
	if lists == 0 {
		return r, &NotLooked{"no list of known flaws was loaded (pane flaw load)"}
	}
	row, known, err := store.FlawsFoundIn(db, v.ID, epoch)
	if err != nil || known {
		return Result{row.Found.V, row.NotChecked.V}, err
	}
	kept, err := store.SoftwareListOf(db, v.ID)
	if errors.Is(err, store.ErrNotFound) {
		return r, &NotLooked{v.Number + " has no software list"}
	}
	if err != nil {
		return r, err
	}
	var l software.List
	if l.Entries, err = software.UnpackEntries(kept.Packed); err != nil {
		return r, err
	}
	records, err := store.FlawsByName(db, flaw.Names(l))
	if err != nil {
		return r, err
	}
	ecosystems, err := store.FlawEcosystems(db)
	if err != nil {
		return r, err
	}
	r = Result{flaw.Find(l, records), flaw.NotChecked(l, ecosystems)}
	return r, store.KeepFlawsFound(db, store.FlawsFound{
		VersionID: v.ID, Epoch: epoch, Found: store.JSON[[]flaw.Found]{V: r.Found},
		NotChecked: store.JSON[[]flaw.Gap]{V: r.NotChecked},
	})
}

// matters tells of versions in use with flaws that must not wait, as far as they were looked for.
func matters(db *gorm.DB, _ time.Time, add func(engine.Matter)) error {
	_, lists, err := store.FlawEpoch(db)
	if err != nil || lists == 0 {
		return err
	}
	used, err := store.UsedVersions(db)
	if err != nil {
		return err
	}
	for _, v := range used {
		serious := flaw.Serious(v.Found.V)
		if len(serious) == 0 {
			continue
		}
		label, by := v.Image+" "+v.Number, "a track or a pool names"
		if v.Hosts > 0 {
			by = english.PluralWord(v.Hosts, "a host runs", fmt.Sprintf("%d hosts run", v.Hosts))
		}
		add(engine.Matter{
			Kind: matter.Flaw, Urgent: serious[0].Severity == flaw.Critical,
			Title: fmt.Sprintf("%s, which %s, has %s", label, by, english.Plural(len(serious), "serious known flaw",
				"")),
			Detail: Named(serious), Link: "images/" + v.Image + "/versions/" + v.Number + "/flaws",
			Command: "pane version flaws " + label + " --serious",
		})
	}
	return nil
}

// Named names some flaws: "CVE-2026-1 (libtide, mended in 2.9-1), CVE-2026-2 (berth-planner)".
func Named(list []flaw.Found) string {
	const shown = 4
	var out []string
	for _, f := range list[:min(shown, len(list))] {
		text := f.ID + " (" + f.Package
		if f.Fixed != "" {
			text += ", mended in " + f.Fixed
		}
		out = append(out, text+")")
	}
	if n := len(list) - shown; n > 0 {
		out = append(out, fmt.Sprintf("%d more", n))
	}
	return strings.Join(out, ", ")
}
