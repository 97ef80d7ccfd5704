// Package repositories has kept sheets follow those in git repositories: a
// branch, a tag or a commit, with what they name beside them.
//
// The service looks at a repository in its time, or when somebody announces
// that there is something new. When the commit is another than the one seen
// last, that commit alone is fetched into a folder, the sheet is taken from it
// with its files, and the folder is deleted. What was taken stays while the
// repository cannot be reached; but a commit that has no such sheet any more is
// somebody's will, and what was there before is not built then.
package repositories

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"gorm.io/gorm"

	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/pack"
	"nimblepane/core/problem"
	"nimblepane/core/secret"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/builds"
	"nimblepane/engine/foreign"
	"nimblepane/sandbox"
	"nimblepane/store"
)

// Repositories are the acts on them. They are safe for concurrent use.
type Repositories struct {
	engine *engine.Engine
	builds *builds.Builds

	hanging  sync.Map     // ids of repositories of which something goes on that was given up
	patience atomic.Int64 // with a repository that is asked for its branches, in nanoseconds
}

// How repositories are looked at, in real time.
const (
	Usual      = 5 * time.Minute // between two looks
	least      = time.Minute
	most       = 7 * 24 * time.Hour
	againAfter = 2 * time.Minute // one that could not be read, if it is looked at no more often than that
	atOnce     = 8               // in a process
	patience   = time.Minute
	atMost     = 15 * time.Minute // for a look, with all that is fetched
)

// New adds repositories to the engine.
func New(e *engine.Engine, bs *builds.Builds) *Repositories {
	transports()
	rs := &Repositories{engine: e, builds: bs}
	rs.patience.Store(int64(patience))
	e.Add(engine.Subject{
		Loops:   []func(context.Context){e.Watch(store.PollRepositories, atOnce, rs.see)},
		Matters: []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters},
	})
	return rs
}

// Request says where a sheet is.
type Request struct {
	Address             string
	Branch, Tag, Commit string // at most one
	Folder, File        string
	Credential          store.Credential
	Announced           *secret.Source // what announcements are signed with; nil for none
	Every               time.Duration
}

// Follow has a kept sheet follow one in a repository from now on. If there is none of the name, it begins as nothing
// and is what is found there. It may be one only of images that may says yes to.
func (rs *Repositories) Follow(ctx context.Context, actor, name string, r Request, may func(image string) error) (
	kept store.Sheet, err error,
) {
	if err := image.CheckName(name); err != nil {
		return kept, problem.InvalidRequest.Errorf("sheet name: %s", err)
	}
	row, err := rs.row(r)
	if err != nil {
		return kept, err
	}
	return kept, rs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		kept, err = store.LockSheet(tx.DB, name)
		isNew := errors.Is(err, store.ErrNotFound)
		if err != nil && !isNew {
			return err
		}
		if err := may(kept.Image); err != nil {
			return err
		}
		if isNew {
			kept = store.Sheet{Name: name, Revision: 1, ChangedBy: actor, ChangedAt: tx.Now}
			if added, err := store.AddSheet(tx, &kept); err != nil || !added {
				return errors.Join(err, problem.Busy.Errorf("another account is creating sheet %s at the moment: "+
					"read that sheet first", name))
			}
		}
		row.SheetID, row.AddedBy = kept.ID, actor
		before, err := store.RepositoryOf(tx.DB, kept.ID)
		if err == nil {
			row.ID = before.ID
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		record(tx, kept, "follow", "", map[string]any{"address": row.Address, "of": row.Of(), "file": row.Path()})
		return store.WatchNow(tx.DB, store.PollRepositories, row.ID)
	})
}

// row checks a request, and is what is kept of it.
func (rs *Repositories) row(r Request) (row store.Repository, err error) {
	row = store.Repository{
		Address: strings.TrimSpace(r.Address), Branch: r.Branch, Tag: r.Tag, Commit: r.Commit,
		Folder: strings.Trim(r.Folder, "/"), File: r.File, Credential: store.JSON[store.Credential]{V: r.Credential},
		Announced: store.JSON[*secret.Source]{V: r.Announced},
	}
	if row.Folder == "." {
		row.Folder = ""
	}
	given := 0
	for _, ref := range []string{r.Branch, r.Tag} {
		if ref == "" {
			continue
		}
		if given++; len(ref) > 200 || !refForm.MatchString(ref) || strings.Contains(ref, "..") {
			return row, problem.InvalidRequest.Errorf("%q is not the name of a branch or a tag", ref)
		}
	}
	switch {
	case r.Commit != "" && !commitForm.MatchString(r.Commit):
		return row, problem.InvalidRequest.Errorf("%q is not a commit: write all 40 hexadecimal digits", r.Commit)
	case given > 1 || given > 0 && r.Commit != "":
		return row, problem.InvalidRequest.Errorf("give a branch, a tag or a commit, and only one of them")
	case row.File == "" || !fs.ValidPath(row.Path()) || path.Base(row.File) != row.File:
		return row, problem.InvalidRequest.Errorf("%q in %q is not a file of a repository: give its name, such as "+
			"desk.yaml, and its folder separately, with slashes and without ..", row.File, r.Folder)
	}
	if r.Every == 0 {
		r.Every = Usual
	}
	if r.Every < least || r.Every > most {
		return row, problem.InvalidRequest.Errorf("a repository cannot be read every %s: use %s to %s", r.Every, least,
			most)
	}
	row.EverySeconds = int64(r.Every / time.Second)
	if err := rs.checkAddress(row); err != nil {
		return row, err
	}
	for what, from := range map[string]*secret.Source{
		"the password": r.Credential.Password, "the key": r.Credential.Key,
		"the known hosts": r.Credential.KnownHosts, "the secret of announcements": r.Announced,
	} {
		if from == nil {
			continue
		}
		if _, err := rs.engine.Secrets(*from); err != nil {
			return row, problem.NotConfigured.Errorf("%s: %s", what, err)
		}
	}
	return row, nil
}

func record(tx *store.Tx, kept store.Sheet, act, reason string, detail map[string]any) {
	tx.Record(store.Entry{Verb: "sheet." + act, Subject: kept.Subject(), Reason: reason, Detail: detail})
	tx.Emit("sheet", kept.Subject(), nil)
}

// Unfollow has a kept sheet be one of its own from now on, as it was seen last.
func (rs *Repositories) Unfollow(ctx context.Context, actor, name string, may func(image string) error) error {
	return rs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		kept, err := store.LockSheet(tx.DB, name)
		if err != nil {
			return err
		}
		if err := may(kept.Image); err != nil {
			return err
		}
		r, err := followed(tx.DB, kept)
		if err != nil {
			return err
		}
		record(tx, kept, "unfollow", "", map[string]any{"address": r.Address})
		kept.Commit, kept.History.V = "", nil
		return errors.Join(tx.Delete(&r).Error, tx.Save(&kept).Error)
	})
}

func followed(db *gorm.DB, kept store.Sheet) (store.Repository, error) {
	r, err := store.RepositoryOf(db, kept.ID)
	if errors.Is(err, store.ErrNotFound) {
		return r, problem.WrongState.Errorf("sheet %s follows no repository (pane sheet follow)", kept.Name)
	}
	return r, err
}

// LookNow has the repository of a kept sheet looked at now, and not only in its time.
func (rs *Repositories) LookNow(ctx context.Context, name string, may func(image string) error) error {
	db := rs.engine.Store.DB.WithContext(ctx)
	kept, err := store.SheetNamed(db, name)
	if err != nil {
		return err
	}
	if err := may(kept.Image); err != nil {
		return err
	}
	r, err := followed(db, kept)
	if err != nil {
		return err
	}
	return store.WatchNow(db, store.PollRepositories, r.ID)
}

// errUnsigned is the answer to every announcement that is not signed as it should be, so that nobody learns by it which
// sheets there are.
var errUnsigned = &problem.Problem{Type: problem.Forbidden, Detail: "there is no such sheet that takes " +
	"announcements, or " +
	"the body is not signed with its secret: send X-Hub-Signature-256: sha256= and the HMAC-SHA256 of the body in " +
	"hexadecimal digits"}

// Announce has the repository of a kept sheet looked at now, if whoever says that there is something new there knows
// the secret. The signature is that of the body, as in the W3C recommendation WebSub, section 8: the method, =, and
// the HMAC (RFC 2104) in hexadecimal digits.
func (rs *Repositories) Announce(ctx context.Context, name, signature string, body []byte) error {
	db := rs.engine.Store.DB.WithContext(ctx)
	kept, err := store.SheetNamed(db, name)
	if errors.Is(err, store.ErrNotFound) {
		return errUnsigned
	}
	if err != nil {
		return err
	}
	r, err := store.RepositoryOf(db, kept.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && r.Announced.V == nil {
		return errUnsigned
	}
	if err != nil {
		return err
	}
	key, err := rs.engine.Secrets(*r.Announced.V)
	if err != nil {
		rs.engine.Log.Error("the secret of announcements cannot be found", "sheet", name, "err", err)
		return errUnsigned
	}
	given, err := hex.DecodeString(strings.TrimPrefix(signature, "sha256="))
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write(body)
	if err != nil || !strings.HasPrefix(signature, "sha256=") || !hmac.Equal(given, mac.Sum(nil)) {
		return errUnsigned
	}
	return store.WatchNow(db, store.PollRepositories, r.ID)
}

// taken is what was found in a repository.
type taken struct {
	commit, text, image string
	files               map[string]string
	history             []store.Commit
}

// see looks at a repository, and says when to do so again.
func (rs *Repositories) see(ctx context.Context, id int64) (again time.Duration, err error) {
	db := rs.engine.Store.DB.WithContext(ctx)
	r, err := store.RepositoryByID(db, id)
	if errors.Is(err, store.ErrNotFound) {
		return 0, nil // nobody follows it any more
	}
	if err != nil {
		return 0, err
	}
	looking, cancel := context.WithTimeout(context.WithValue(ctx, leave{}, rs.engine.FetchFromHere), atMost)
	defer cancel()
	found, tip, broke := rs.look(looking, r)
	if looking.Err() != nil && ctx.Err() == nil {
		broke = fmt.Errorf("it could not be read within %s", atMost)
	}
	if ctx.Err() != nil {
		return 0, nil // another process goes on, or this one later
	}
	again = time.Duration(r.EverySeconds) * time.Second
	err = rs.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
		kept, err := store.LockSheetByID(tx.DB, r.SheetID)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		now, err := store.LockRepositoryByID(tx.DB, id)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		if !now.Same(r) {
			again = 0 // somebody said meanwhile that it is another
			return nil
		}
		now.LookedAt = &tx.Now
		if broke == nil && found != nil && kept.Image != "" && found.image != kept.Image {
			broke = gonef("commit %.12s makes it a sheet of image %q, and it is kept as one of %s: keep it under "+
				"another name", found.commit, found.image, kept.Image)
		}
		if broke != nil {
			again = min(again, againAfter)
			var is *gone
			was := now
			if errors.As(broke, &is) {
				now.Gone, now.Tip = true, tip
			} // else nobody knows: what was gone is, until it is seen to be there
			if now.Why = broke.Error(); was.Why == "" || now.Gone != was.Gone {
				record(tx, kept, "look-fail", now.Why, nil)
			}
			tx.Emit("sheet", kept.Subject(), nil)
			return tx.Save(&now).Error
		}
		now.SeenAt, now.Why, now.Gone, now.Tip = &tx.Now, "", false, tip
		if found == nil {
			tx.Emit("sheet", kept.Subject(), nil)
			return tx.Save(&now).Error
		}
		err = rs.builds.TakeIn(tx, &kept, builds.Order{Text: found.text, Files: found.files, Commit: found.commit},
			found.image, found.history)
		return errors.Join(err, tx.Save(&now).Error)
	})
	return again, err
}

// look looks what is in a repository: which commit is followed, and what that has, nil if it was seen already.
func (rs *Repositories) look(ctx context.Context, r store.Repository) (found *taken, tip string, err error) {
	if err := rs.checkAddress(r); err != nil { // a folder may be another by now
		return nil, "", err
	}
	dir, err := os.MkdirTemp(rs.engine.Bases, engine.ScratchPrefix) // not where files may be kept in memory
	if err != nil {
		return nil, "", err
	}
	defer os.RemoveAll(dir)
	auth, err := rs.auth(r, dir)
	if err != nil {
		return nil, "", err
	}
	tip, err = bounded(ctx, rs, r, time.Duration(rs.patience.Load()), func(ctx context.Context) (string, error) {
		return rs.tip(ctx, r, auth)
	})
	if err != nil || tip == r.Tip && r.Why == "" {
		return nil, tip, err
	}
	is, err := rs.fetch(ctx, r, auth, filepath.Join(dir, "pack"), 1)
	if err != nil {
		return nil, tip, err
	}
	// What the server has sent is opened in the sandbox only.
	opened := filepath.Join(dir, "opened")
	if err := os.Mkdir(opened, 0o700); err != nil {
		return nil, tip, err
	}
	commit, err := foreign.GitTree(ctx, is.file, is.tip.String(), r.Folder, opened)
	if err != nil {
		return nil, tip, refused(err)
	}
	tip = commit.Hash // it may have gone on meanwhile
	found = &taken{commit: tip}
	root, err := os.OpenRoot(opened)
	if err != nil {
		return nil, tip, err
	}
	defer root.Close()
	files, err := root.OpenRoot(foreign.TreeFolder) // a link that leads out of it is refused
	if err != nil {
		return nil, tip, err
	}
	defer files.Close()
	read, err := rs.take(ctx, found, files.FS(), r)
	if err != nil || !read.Version.Commits {
		return found, tip, err
	}
	if is, err = rs.fetch(ctx, r, auth, filepath.Join(dir, "further"), mostCommits); err != nil {
		return nil, tip, err
	}
	again := filepath.Join(dir, "again")
	if err := os.Mkdir(again, 0o700); err != nil {
		return nil, tip, err
	}
	commits, err := foreign.GitHistory(ctx, is.file, commit.Hash, r.Folder, again, mostCommits)
	if err != nil {
		return nil, tip, refused(err)
	}
	for _, c := range commits {
		found.history = append(found.history, store.Commit{Hash: c.Hash, Subject: c.Subject})
	}
	return found, tip, nil
}

// mostCommits is how many commits a history names at most.
const mostCommits = 500

// refused is the error of a commit that the sandbox has refused: only another commit can fix it.
func refused(err error) error {
	var unavailable *sandbox.Unavailable
	if sandbox.Final(err) && !errors.As(err, &unavailable) {
		return gonef("%s", err)
	}
	return err
}

// bounded does something that may hang although its context has ended, as a server does that takes a connection and
// then says nothing, and gives it up after a time. It is not tried again while that hangs.
func bounded[T any](ctx context.Context, rs *Repositories, r store.Repository, atMost time.Duration,
	do func(context.Context) (T, error),
) (none T, err error) {
	if _, hangs := rs.hanging.LoadOrStore(r.ID, true); hangs {
		return none, errors.New("it says nothing: what it was asked before hangs still")
	}
	ctx, cancel := context.WithTimeout(ctx, atMost)
	defer cancel()
	type outcome struct {
		is  T
		err error
	}
	done := make(chan outcome, 1)
	go func() {
		is, err := do(ctx)
		rs.hanging.Delete(r.ID)
		done <- outcome{is, err}
	}()
	select {
	case o := <-done:
		return o.is, o.err
	case <-ctx.Done():
		return none, fmt.Errorf("it says nothing for %s", atMost)
	}
}

// take reads the sheet of a commit, and keeps what it names beside it.
func (rs *Repositories) take(ctx context.Context, found *taken, files fs.FS, r store.Repository) (s sheet.Sheet,
	err error,
) {
	f, err := files.Open(r.File)
	if err != nil {
		return s, gonef("commit %.12s has no file %s", found.commit, r.Path())
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, sheet.MostBytes+1))
	if err != nil || len(text) > sheet.MostBytes || !utf8.Valid(text) {
		return s, gonef("file %s of commit %.12s is no sheet: that is text of at most %d bytes", r.Path(), found.commit,
			sheet.MostBytes)
	}
	found.text, found.files = string(text), map[string]string{}
	read, err := rs.builds.CheckSheet(rs.engine.Store.DB.WithContext(ctx), builds.Order{Text: found.text})
	if err != nil {
		return s, err
	}
	s = read.Read
	if found.image = s.Image; image.CheckName(found.image) != nil {
		found.image = ""
	}
	for _, named := range s.Sources() {
		err := pack.Open(files, named.Path, named.Folder, func() (pack.Scratch, error) { return rs.scratch() },
			func(content io.ReadSeeker, digest string, size int64) error {
				found.files[named.Path] = digest
				return rs.builds.KeepFile(ctx, engine.ServiceActor, content, digest, size, named.Folder)
			})
		// The check of the sheet reports missing and unusable files. After any other failure the commit is read again
		// later.
		var unfit *pack.Unfit
		switch problem.Of(err) {
		case problem.InvalidRequest, problem.TooLarge:
			continue
		}
		if err != nil && !errors.As(err, &unfit) {
			rs.engine.Log.Error("a file of a commit could not be stored", "file", named.Path, "commit",
				found.commit, "err", err)
			return s, fmt.Errorf("%s of commit %.12s could not be stored: the service's log says why", named.Path,
				found.commit)
		}
	}
	return s, nil
}

// scratch is a file that is gone when it is closed.
func (rs *Repositories) scratch() (*os.File, error) {
	f, err := os.CreateTemp(rs.engine.Bases, "looking-")
	if err != nil {
		return nil, err
	}
	return f, os.Remove(f.Name())
}

// matters are the sheets that cannot be taken from their repositories.
func matters(db *gorm.DB, _ time.Time, add func(engine.Matter)) error {
	of, err := store.Repositories(db)
	if err != nil || len(of) == 0 {
		return err
	}
	rows, err := store.SheetRows(db, "")
	for _, s := range rows {
		if r, is := of[s.ID]; is && r.Why != "" {
			add(engine.Matter{
				Kind: matter.Build, Title: "Sheet " + s.Name + " cannot be taken from its repository", Detail: r.Why,
				Link: "sheets/" + s.Name, Command: "pane sheet show " + s.Name,
			})
		}
	}
	return err
}
