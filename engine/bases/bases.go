// Package bases brings in disk images that versions are made from, and has
// them at the sites where machines are made of them.
//
// A base comes as a file, in pieces that are sent or from an address, and goes
// on where it was when either side broke off. Once all of it is there and has
// the digest that it should have, it is told by its content what format it is
// of, converted to the form in which disks are kept, and looked into. Its
// content is never in memory as a whole: it is in the service's folder of
// bases, which all processes of a service share.
package bases

import (
	"context"
	"crypto/sha256"
	"encoding"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"nimblepane/core/base"
	"nimblepane/core/feed"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/engine/feeds"
	"nimblepane/platform"
	"nimblepane/platform/depot"
	"nimblepane/sandbox"
	"nimblepane/store"
)

// Bases are the acts on bases. They are safe for concurrent use.
type Bases struct {
	engine     *engine.Engine
	deliveries engine.Work[ofCopy, platform.Deliver, platform.Made]
	deletions  engine.Work[ofDeletion, platform.Named, platform.Nothing]
	patience   atomic.Int64                          // with an address that sends nothing, in nanoseconds
	measure    atomic.Pointer[func() (int64, error)] // replaces Engine.Room in tests
}

// New adds bases to the engine.
func New(e *engine.Engine) *Bases {
	bs := &Bases{engine: e}
	bs.patience.Store(int64(nothingFor))
	bs.deliveries = engine.Work[ofCopy, platform.Deliver, platform.Made]{
		Kind: store.WorkDeliverBase, Operation: platform.DeliverCopy, Ask: askDelivery,
		Progressed: deliveryProgressed, Ended: deliveryEnded,
	}
	bs.deletions = engine.Work[ofDeletion, platform.Named, platform.Nothing]{
		Kind: store.WorkDeleteBase, Operation: platform.DeleteCopy, Ask: askDeletion, Ended: bs.deletionEnded,
	}
	engine.AddWork(e, bs.deliveries)
	engine.AddWork(e, bs.deletions)
	if e.Bases != "" {
		e.Add(engine.Subject{Loops: []func(context.Context){
			e.Watch(store.PollBases, basesAtOnce, bs.see),
			func(ctx context.Context) {
				e.Repeat(ctx, tidyEvery, "the folder of bases could not be tidied", bs.tidied)
			},
		}})
	}
	return bs
}

// Request says what is to be brought in.
type Request struct {
	Name     string
	Labels   base.Labels
	File     string // what it is called where it comes from
	Address  string // that it is fetched from; "": its pieces are sent
	Size     int64  // of what is sent, in bytes
	Expected string // SHA-256 of the file, "" if that is not known
	// Feed that a release is taken from, instead of an address: the one that is wanted.
	Feed string
	Want feed.Want
}

// Begin begins to bring in a base.
func (bs *Bases) Begin(ctx context.Context, actor string, r Request) (b store.Base, err error) {
	r.Expected = strings.ToLower(strings.TrimSpace(r.Expected))
	if err := base.CheckName(r.Name); err != nil {
		return b, problem.InvalidRequest.Errorf("%s", err)
	}
	if r.Expected != "" {
		if err := base.CheckDigest(r.Expected); err != nil {
			return b, problem.InvalidRequest.Errorf("%s", err)
		}
	}
	b = store.Base{
		Name: r.Name, Labels: store.JSON[base.Labels]{V: r.Labels}, State: base.Receiving, File: r.File,
		Expected: r.Expected, Size: r.Size,
	}
	switch {
	case r.Feed != "" && (r.Address != "" || r.Size != 0 || r.Expected != ""):
		return b, problem.InvalidRequest.Errorf("address, size and digest of a feed's release come from the feed: " +
			"omit them")
	case r.Feed != "":
	case r.Address != "":
		u, err := url.Parse(r.Address)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return b, problem.InvalidRequest.Errorf("%q is not an address: write http:// or https:// with a host "+
				"and a path", r.Address)
		}
		if u.User != nil {
			return b, problem.InvalidRequest.Errorf("the address contains a user or a password, which everyone who " +
				"sees the base could read: omit it")
		}
		b.State, b.Address, b.File, b.Size = base.Fetching, r.Address, path.Base(u.Path), 0
	case r.Size <= 0 || r.Size > base.MostBytes:
		return b, problem.TooLarge.Errorf("the file has %d bytes: the least is 1, the most %s", r.Size,
			humanize.IBytes(base.MostBytes))
	}
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		if r.Feed != "" {
			f, o, err := feeds.One(tx.DB, r.Feed, r.Want)
			if err != nil {
				return err
			}
			b = ofRelease(f, o)
			b.Name = r.Name
		}
		return bs.beginIn(tx, actor, &b)
	})
	return b, err
}

// ofRelease is the base that a release of a feed becomes.
func ofRelease(f store.Feed, o feed.Offer) store.Base {
	return store.Base{
		Labels: store.JSON[base.Labels]{V: o.Labels}, State: base.Fetching, File: path.Base(o.Path),
		Address: feeds.AddressOf(f, o), Expected: o.SHA256, Size: o.Size, Feed: f.Name, Product: o.Product,
		Serial: o.Serial,
	}
}

// beginIn begins to bring in a base, as part of a change.
func (bs *Bases) beginIn(tx *store.Tx, actor string, b *store.Base) error {
	if err := bs.room(tx.DB, b.Size); err != nil {
		return err
	}
	if err := sandbox.Available(); err != nil {
		return problem.InvalidRequest.Errorf("%s", err)
	}
	if has, err := store.LockBase(tx.DB, b.Name); err == nil {
		return problem.NameTaken.Errorf("base %s already exists (%s): use another name, or retire that base", b.Name,
			has.State)
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	now := time.Now()
	b.AddedBy, b.AddedAt, b.BeganAt, b.CameAt = actor, tx.Now, now, now
	if err := tx.Create(b).Error; err != nil {
		return err
	}
	detail := map[string]any{}
	for key, value := range map[string]string{
		"file": b.File, "address": b.Address, "sha256": b.Expected, "feed": b.Feed, "serial": b.Serial,
	} {
		if value != "" {
			detail[key] = value
		}
	}
	tx.Record(store.Entry{Verb: "base.bring", Subject: b.Subject(), Detail: detail})
	tx.Emit("base", b.Subject(), nil)
	return nil
}

// part is the file that a base comes in, and made the one that it is converted to.
func (bs *Bases) part(b store.Base) string {
	return filepath.Join(bs.engine.Bases, fmt.Sprintf("coming-%d", b.ID))
}

func (bs *Bases) made(b store.Base) string {
	return filepath.Join(bs.engine.Bases, fmt.Sprintf("converting-%d", b.ID))
}

// hashOf is the SHA-256 of what is there of a base.
func hashOf(b store.Base) (h hash.Hash, err error) {
	h = sha256.New()
	if b.Have > 0 {
		err = h.(encoding.BinaryUnmarshaler).UnmarshalBinary(b.Hashed)
	}
	return h, err
}

// came notes that more of a base is there.
func came(b *store.Base, n int64, h hash.Hash) (err error) {
	b.Have, b.CameAt, b.Tries, b.Why = b.Have+n, time.Now(), 0, ""
	b.Hashed, err = h.(encoding.BinaryMarshaler).MarshalBinary()
	return err
}

// Piece adds to a base what comes next of its file.
func (bs *Bases) Piece(ctx context.Context, actor, name string, from int64, content []byte) (b store.Base, err error) {
	if bs.engine.Bases == "" {
		return b, errNoFolder
	}
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		b, err = store.LockBase(tx.DB, name)
		switch {
		case err != nil:
			return err
		case b.State != base.Receiving:
			return problem.WrongState.Errorf("base %s is %s: it does not accept uploads", name, b.State)
		case b.AddedBy != actor:
			return &problem.Problem{Type: problem.Forbidden, Detail: fmt.Sprintf("the upload of base %s belongs to "+
				"%s: "+
				"only "+
				"that account can continue it", name, b.AddedBy)}
		case b.Have != from:
			return problem.UploadOffset.Errorf("%d bytes of the file are stored: continue at byte %d, not at byte %d",
				b.Have,
				b.Have, from)
		case b.Have+int64(len(content)) > b.Size:
			return problem.InvalidRequest.Errorf("the file has %d bytes as announced, but the upload reaches byte %d",
				b.Size,
				b.Have+int64(len(content)))
		case len(content) == 0:
			return nil
		}
		if err := bs.roomFor(int64(len(content))); err != nil {
			return problem.NoSpace.Errorf("%s", err)
		}
		h, err := hashOf(b)
		if err != nil {
			return err
		}
		if err := writeAt(bs.part(b), content, b.Have); err != nil {
			return err
		}
		h.Write(content)
		if err := came(&b, int64(len(content)), h); err != nil {
			return err
		}
		if b.Have == b.Size {
			arrived(tx, &b, h)
		}
		tx.Emit("base", b.Subject(), nil)
		return tx.Save(&b).Error
	})
	return b, err
}

// writeAt writes a part of a file, so that it is on the disk.
func writeAt(name string, content []byte, at int64) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(content, at)
	return errors.Join(err, f.Sync(), f.Close())
}

// arrived notes that all of a base's file is there. One that is not what it should be has failed.
func arrived(tx *store.Tx, b *store.Base, h hash.Hash) {
	b.SHA256, b.Hashed = hex.EncodeToString(h.Sum(nil)), nil
	if b.Expected != "" && b.SHA256 != b.Expected {
		fail(tx, b, fmt.Sprintf("what came has the digest %s, and not %s: bring it in again", b.SHA256, b.Expected))
		return
	}
	b.State, b.Progress = base.Converting, 0
	tx.Record(store.Entry{
		Verb: "base.arrive", Subject: b.Subject(),
		Detail: map[string]any{"bytes": b.Size, "sha256": b.SHA256},
	})
}

// fail notes why a base will not be one.
func fail(tx *store.Tx, b *store.Base, why string) {
	b.State, b.Why, b.EndedAt = base.Failed, why, &tx.Now
	tx.Record(store.Entry{Verb: "base.fail", Subject: b.Subject(), Reason: why})
	tx.Emit("base", b.Subject(), nil)
}

// Retire gives a base up: its disk is deleted here and at all sites, and its record stays.
func (bs *Bases) Retire(ctx context.Context, actor, name, reason string) (b store.Base, err error) {
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		if b, err = store.LockBase(tx.DB, name); err != nil {
			return err
		}
		return bs.retireIn(tx, &b, reason)
	})
	if err == nil {
		bs.tidy(b)
	}
	return b, err
}

// retireIn is Retire as part of a change, but for the files here, which are deleted when that has gone well.
func (bs *Bases) retireIn(tx *store.Tx, b *store.Base, reason string) error {
	uses, err := store.UsesOfBase(tx.DB, b.ID)
	if err != nil {
		return err
	}
	if len(uses) > 0 {
		return problem.InUse.Errorf("base %s cannot be retired while %s made from it: wait for the end, or cancel it",
			b.Name,
			english.WordSeries(uses, "and")+english.PluralWord(len(uses), " is", " are"))
	}
	copies, err := store.BaseCopies(tx.DB, b.ID)
	if err != nil {
		return err
	}
	for _, c := range copies {
		if c.State == image.CopyDelivering {
			return problem.Busy.Errorf("base %s is being delivered to a site: wait for the end of the delivery", b.Name)
		}
		if err := tx.Ask(bs.deletions.Of(c.SiteID, store.BaseCopySubject(c.ID), 1, ofDeletion{
			b.ID,
			b.Disk(),
		})); err != nil {
			return err
		}
		if err := tx.Delete(&c).Error; err != nil {
			return err
		}
	}
	b.State, b.EndedAt, b.Why = base.Retired, &tx.Now, ""
	tx.Record(store.Entry{Verb: "base.retire", Subject: b.Subject(), Reason: reason})
	tx.Emit("base", b.Subject(), nil)
	return tx.Save(b).Error
}

// tidy deletes the files of a base that is none.
func (bs *Bases) tidy(b store.Base) {
	files := []string{bs.part(b), bs.made(b)}
	if b.Digest != "" && b.State == base.Retired {
		files = append(files, bs.engine.BaseFile(b.Disk()), bs.blockMap(b))
	}
	for _, f := range files {
		if err := os.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			bs.engine.Log.Error("a file of a base could not be deleted", "file", f, "err", err)
		}
	}
}

// blockMap is the file that says what the disk of a base consists of, once it was delivered somewhere.
func (bs *Bases) blockMap(b store.Base) string {
	return strings.TrimSuffix(bs.engine.BaseFile(b.Disk()), depot.DiskEnding) + depot.MapEnding
}

// ForgottenAfter is how long a base that is sent waits for its next piece, in real time.
const ForgottenAfter = 24 * time.Hour

// tidied deletes the files in the folder of bases that belong to none of them.
func (bs *Bases) tidied(ctx context.Context) error {
	entries, err := os.ReadDir(bs.engine.Bases)
	if err != nil {
		return err
	}
	rows, err := store.Bases(bs.engine.Store.DB.WithContext(ctx), false)
	if err != nil {
		return err
	}
	var wanted []string
	for _, b := range rows {
		if b.State.Coming() {
			wanted = append(wanted, filepath.Base(bs.part(b)), filepath.Base(bs.made(b)))
		}
		if b.Digest != "" {
			wanted = append(wanted, filepath.Base(bs.engine.BaseFile(b.Disk())), filepath.Base(bs.blockMap(b)))
		}
	}
	for _, e := range entries {
		ours := strings.HasPrefix(e.Name(), "coming-") || strings.HasPrefix(e.Name(), "converting-") ||
			strings.HasPrefix(e.Name(), "base-") || strings.HasPrefix(e.Name(), "looking-") // at a repository
		info, err := e.Info()
		if !ours || slices.Contains(wanted, e.Name()) || err != nil || time.Since(info.ModTime()) < time.Hour {
			continue // it may be of one that was begun since they were asked for
		}
		if err := os.RemoveAll(filepath.Join(bs.engine.Bases, e.Name())); err != nil {
			return err
		}
	}
	return nil
}
