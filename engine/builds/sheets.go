package builds

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/store"
)

// SheetCheck is what is to be said of a sheet.
type SheetCheck struct {
	Read    sheet.Sheet // as it is written down, as far as it can be read
	Sheet   sheet.Sheet // as it is built
	Wrong   sheet.Problems
	Unset   sheet.WrongValues // known once nothing is wrong
	Missing sheet.WrongFiles  // likewise
}

// CheckSheet says all that is to be said of a sheet, which may use the organisation's own ready steps.
func (bs *Builds) CheckSheet(db *gorm.DB, o Order) (c SheetCheck, err error) {
	own, err := bs.engine.Library()
	if err != nil {
		return c, problem.InvalidFile.Errorf("%s: correct or remove it", err)
	}
	c.Read, err = sheet.ParseUntil(db.Statement.Context.Err, []byte(o.Text), own)
	if errors.As(err, &c.Wrong) || err != nil {
		return c, unless(c.Wrong, err)
	}
	if c.Sheet, err = c.Read.With(o.Values); errors.As(err, &c.Unset) || err != nil {
		return c, unless(c.Unset, err)
	}
	c.Sheet, err = withFiles(db, c.Sheet, o.Files)
	errors.As(err, &c.Missing)
	return c, unless(c.Missing, err)
}

// unless is an error that was not told as what is wrong with a sheet.
func unless[T any](told []T, err error) error {
	if len(told) > 0 {
		return nil
	}
	return err
}

// SaveSheet keeps a sheet under a name, right or not, if it has one of the revisions; 0 is that of a new sheet. It may
// change only sheets of images that may allows.
func (bs *Builds) SaveSheet(ctx context.Context, actor string, revisions engine.Revisions, o Order,
	may func(image string) error,
) (s store.Sheet, err error) {
	if err := image.CheckName(o.Name); err != nil {
		return s, problem.InvalidRequest.Errorf("sheet name: %s", err)
	}
	if len(o.Text) > sheet.MostBytes || !utf8.ValidString(o.Text) {
		return s, problem.TooLarge.Errorf("a sheet is text of at most %d bytes", sheet.MostBytes)
	}
	// What is wrong with it is told when it is looked at.
	read, err := bs.CheckSheet(bs.engine.Store.DB.WithContext(ctx), o)
	if err != nil {
		return s, err
	}
	of := read.Read
	if image.CheckName(of.Image) != nil {
		of.Image = ""
	}
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		s, err = store.LockSheet(tx.DB, o.Name)
		isNew := errors.Is(err, store.ErrNotFound)
		if err != nil && !isNew {
			return err
		}
		if err := errors.Join(may(of.Image), may(cmp.Or(s.Image, of.Image))); err != nil {
			return err
		}
		if isNew && !revisions.New() {
			return &problem.Problem{Type: problem.ChangedSinceRead, Detail: fmt.Sprintf(
				"there is no sheet %s, or it was deleted since you read it: save it as a new one", o.Name)}
		}
		if err := unchanged(s, revisions); err != nil {
			return err
		}
		if r, err := store.RepositoryOf(tx.DB, s.ID); err == nil {
			return problem.WrongState.Errorf("sheet %s follows %s in %s: change it there, or unlink it from the "+
				"repository (pane sheet unfollow %s)", s.Name, r.Path(), r.Address, s.Name)
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := keepFiles(tx, o.Files); err != nil {
			return err
		}
		s.Name, s.Text, s.Image, s.Revision = o.Name, o.Text, of.Image, s.Revision+1
		s.Files.V = map[string]string{}
		maps.Copy(s.Files.V, o.Files)
		s.ChangedBy, s.ChangedAt = actor, tx.Now
		tx.Record(store.Entry{
			Verb: "sheet.save", Subject: s.Subject(), Detail: map[string]any{"revision": s.Revision, "image": s.Image},
		})
		tx.Emit("sheet", s.Subject(), nil)
		if !isNew {
			return tx.Save(&s).Error
		}
		added, err := store.AddSheet(tx, &s)
		if err == nil && !added {
			return problem.Busy.Errorf("another account is creating sheet %s at the moment: read that sheet first",
				s.Name)
		}
		return err
	})
	return s, err
}

// unchanged refuses a change of what somebody else has changed since it was seen.
func unchanged(s store.Sheet, revisions engine.Revisions) error {
	if revisions.Allow(s.Revision) {
		return nil
	}
	if revisions.New() {
		return &problem.Problem{Type: problem.ChangedSinceRead, Detail: fmt.Sprintf("there is a sheet %s already, "+
			"of %s, changed by "+
			"%s: look at it first (revision %d), or take another name", s.Name,
			s.ChangedAt.UTC().Format(time.DateTime), s.ChangedBy, s.Revision)}
	}
	return &problem.Problem{Type: problem.ChangedSinceRead, Detail: fmt.Sprintf("sheet %s was changed by %s since "+
		"you read it "+
		"(%s, now %d): look at it as it is now and repeat the change", s.Name, s.ChangedBy, revisions,
		s.Revision)}
}

// keepFiles refuses files that were not sent.
func keepFiles(tx *store.Tx, files map[string]string) error {
	digests := slices.Collect(maps.Values(files))
	if err := store.UseSheetFiles(tx, digests); err != nil {
		return err
	}
	there, err := store.SheetFiles(tx.DB, digests)
	if err != nil {
		return err
	}
	for _, path := range slices.Sorted(maps.Keys(files)) {
		if !slices.ContainsFunc(there, func(f store.SheetFile) bool { return f.Digest == files[path] }) {
			return problem.InvalidRequest.Errorf("the file %s was not uploaded, or differs from its digest: upload "+
				"it first", path)
		}
	}
	return nil
}

// DeleteSheet forgets a sheet, if it still has the revision that was seen. Builds that were started from it stay.
func (bs *Builds) DeleteSheet(ctx context.Context, actor, name string, revisions engine.Revisions,
	may func(image string) error,
) error {
	return bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		s, err := store.LockSheet(tx.DB, name)
		if err != nil {
			return err
		}
		if err := may(s.Image); err != nil {
			return err
		}
		if err := unchanged(s, revisions); err != nil {
			return err
		}
		used, err := store.SchedulesOf(tx.DB, name)
		if err != nil {
			return err
		}
		if len(used) > 0 {
			return problem.InUse.Errorf("builds of sheet %s are started by %s %s: delete that first", name,
				english.PluralWord(len(used), "schedule", "schedules"), english.WordSeries(used, "and"))
		}
		tx.Record(store.Entry{
			Verb: "sheet.delete", Subject: s.Subject(), Detail: map[string]any{"revision": s.Revision},
		})
		tx.Emit("sheet", s.Subject(), nil)
		return tx.Delete(&s).Error
	})
}

// TakeIn has a kept sheet that is locked be as it is in a commit of its repository, as part of a change.
func (bs *Builds) TakeIn(tx *store.Tx, s *store.Sheet, o Order, img string, history []store.Commit) error {
	if err := keepFiles(tx, o.Files); err != nil {
		return err
	}
	detail := map[string]any{"commit": o.Commit, "image": img}
	if s.Text != o.Text || !maps.Equal(s.Files.V, o.Files) {
		s.Revision++
		// Anybody writes any name into a commit: it would read like that of an account.
		s.ChangedBy, s.ChangedAt = "commit "+o.Commit[:min(len(o.Commit), 12)], tx.Now
		detail["revision"] = s.Revision
	}
	s.Text, s.Files.V, s.Image, s.Commit, s.History.V = o.Text, o.Files, img, o.Commit, history
	tx.Record(store.Entry{Verb: "sheet.take", Subject: s.Subject(), Detail: detail})
	tx.Emit("sheet", s.Subject(), nil)
	return tx.Save(s).Error
}

// KeptOrder is a kept sheet as it is handed in.
func KeptOrder(s store.Sheet) Order {
	return Order{Name: s.Name, Text: s.Text, Files: s.Files.V, Commit: s.Commit}
}

// firstCommits is how many commits notes name if there was no build of a commit before.
const firstCommits = 20

// orderToBuild is a kept sheet as it is built: one that follows a repository in which there is no such sheet any more
// is not, and the notes name the commits since the image's last build.
func orderToBuild(db *gorm.DB, s store.Sheet) (Order, error) {
	o := KeptOrder(s)
	r, err := store.RepositoryOf(db, s.ID)
	if errors.Is(err, store.ErrNotFound) {
		return o, nil
	}
	switch {
	case err != nil:
		return o, err
	case r.Gone:
		return o, problem.SourceFailed.Errorf("sheet %s cannot be read from its repository: %s", s.Name, r.Why)
	case s.Commit == "":
		return o, problem.SourceFailed.Errorf("sheet %s has not been read from its repository yet: %s", s.Name,
			cmp.Or(r.Why, "that is being done"))
	}
	last := ""
	if img, err := store.ImageNamed(db, s.Image); err == nil {
		if last, err = store.LastCommitBuilt(db, img.ID); err != nil {
			return o, err
		}
	}
	history := s.History.V
	if at := slices.IndexFunc(history, func(c store.Commit) bool { return c.Hash == last }); at >= 0 {
		history = history[:at]
	} else {
		history = history[:min(len(history), firstCommits)]
	}
	for _, c := range history {
		o.Commits = append(o.Commits, c.Subject)
	}
	return o, nil
}

// StartKept begins a build of a kept sheet. If it fails, its machine is held for a while.
func (bs *Builds) StartKept(ctx context.Context, actor, name string, values map[string]string, hold time.Duration,
	may func(image string) error,
) (b store.Build, err error) {
	return bs.start(ctx, actor, hold, may, func(tx *store.Tx) (o Order, err error) {
		s, err := store.SheetNamed(tx.DB, name)
		if err != nil {
			return o, err
		}
		if err := may(s.Image); err != nil {
			return o, err
		}
		o, err = orderToBuild(tx.DB, s)
		o.Values = values
		return o, err
	})
}
