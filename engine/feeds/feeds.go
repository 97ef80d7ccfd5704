// Package feeds reads vendors' lists of releases, again and again, and finds
// the release in them that a base is to be made of.
//
// What stood in a feed when it was read last stays known while it cannot be
// read: a vendor's server that is down for a night keeps nobody from what was
// there the day before.
package feeds

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/feed"
	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/engine/foreign"
	"nimblepane/store"
)

// Feeds are the acts on feeds. They are safe for concurrent use.
type Feeds struct{ engine *engine.Engine }

// How feeds are read, in real time.
const (
	Usual      = time.Hour // between two readings
	least      = time.Minute
	most       = 7 * 24 * time.Hour
	againAfter = 5 * time.Minute // one that could not be read, if it is read no more often than that
	atOnce     = 4               // in a process
	patience   = 20 * time.Second
	atMost     = 3 * time.Minute // for the whole of a feed
	mostLeft   = 20              // that are kept of what could not be taken
)

// New adds feeds to the engine.
func New(e *engine.Engine) *Feeds {
	fs := &Feeds{e}
	e.Add(engine.Subject{
		Loops:   []func(context.Context){e.Watch(store.PollFeeds, atOnce, fs.see)},
		Matters: []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters},
	})
	return fs
}

// Request says what feed is to be read.
type Request struct {
	Name      string
	Address   string // of the vendor's mirror, of its index, or of a file of products
	Publisher string // of releases that do not say theirs
	Key       string // an OpenPGP public key that it has to be signed by; "" if it need not be
	Every     time.Duration
}

// Add has a feed read from now on.
func (fs *Feeds) Add(ctx context.Context, actor string, r Request) (f store.Feed, err error) {
	if err := image.CheckName(r.Name); err != nil {
		return f, problem.InvalidRequest.Errorf("feed name: %s", err)
	}
	u, err := url.Parse(r.Address)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		return f, problem.InvalidRequest.Errorf("%q is not an address: write http:// or https:// with a host and a "+
			"path", r.Address)
	case u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return f, problem.InvalidRequest.Errorf("the address of a feed has no user, query or fragment: omit it")
	}
	if r.Key = strings.TrimSpace(r.Key); r.Key != "" {
		if err := feed.CheckKey(r.Key); err != nil {
			return f, problem.InvalidRequest.Errorf("%s", err)
		}
	}
	if r.Every == 0 {
		r.Every = Usual
	}
	if r.Every < least || r.Every > most {
		return f, problem.InvalidRequest.Errorf("a feed cannot be read every %s: use %s to %s", r.Every, least, most)
	}
	f = store.Feed{
		Name: r.Name, Address: r.Address, Publisher: strings.TrimSpace(r.Publisher), Key: r.Key,
		EverySeconds: int64(r.Every / time.Second), AddedBy: actor,
	}
	return f, fs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		added, err := store.AddFeed(tx, &f)
		if err == nil && !added {
			return problem.NameTaken.Errorf("feed %s already exists: use another name, or delete that feed", f.Name)
		}
		record(tx, f, "add", "", map[string]any{"address": f.Address, "signed": f.Key != ""})
		return err
	})
}

func record(tx *store.Tx, f store.Feed, act, reason string, detail map[string]any) {
	tx.Record(store.Entry{Verb: "feed." + act, Subject: f.Subject(), Reason: reason, Detail: detail})
	tx.Emit("feed", f.Subject(), nil)
}

// Delete forgets a feed. Bases that were brought in from it stay.
func (fs *Feeds) Delete(ctx context.Context, actor, name string) error {
	return fs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		f, err := store.LockFeed(tx.DB, name)
		if err != nil {
			return err
		}
		record(tx, f, "delete", "", nil)
		return tx.Delete(&f).Error
	})
}

// ReadNow has a feed read now, and not only in its time.
func (fs *Feeds) ReadNow(ctx context.Context, name string) (f store.Feed, err error) {
	db := fs.engine.Store.DB.WithContext(ctx)
	if f, err = store.FeedNamed(db, name); err != nil {
		return f, err
	}
	return f, store.WatchNow(db, store.PollFeeds, f.ID)
}

// One returns the release that is meant, with its feed. What is wrong is a problem that says what there is instead.
func One(db *gorm.DB, name string, want feed.Want) (f store.Feed, o feed.Offer, err error) {
	if f, err = store.FeedNamed(db, name); err != nil {
		return f, o, err
	}
	offers, err := store.OffersMeeting(db, f.ID, want)
	if err == nil && len(offers) == 0 { // the error says which there are
		offers, err = store.Offers(db, f.ID, "")
	}
	if err != nil {
		return f, o, err
	}
	if f.SeenAt == nil {
		why := f.Why
		if why == "" {
			why = "that is being done"
		}
		return f, o, problem.SourceFailed.Errorf("feed %s has not been read yet: %s", name, why)
	}
	if o, err = want.One(offers); err != nil {
		return f, o, problem.SourceFailed.Errorf("feed %s: %s", name, err)
	}
	return f, o, nil
}

// Newer returns the newest release of the product that a base is of with its feed, if that is newer than the base.
func Newer(db *gorm.DB, b store.Base) (f store.Feed, newest feed.Offer, is bool, err error) {
	name, product, serial := b.Feed, b.Product, b.Serial
	if name == "" && b.SHA256 != "" { // brought in by hand, and known by what is in it
		of, o, known, err := store.OfferWith(db, b.SHA256)
		if err != nil || !known {
			return f, newest, false, err
		}
		name, product, serial = of, o.Product, o.Serial
	}
	if name == "" {
		return f, newest, false, nil
	}
	if f, err = store.FeedNamed(db, name); errors.Is(err, store.ErrNotFound) {
		return f, newest, false, nil
	} else if err != nil {
		return f, newest, false, err
	}
	offers, err := store.Offers(db, f.ID, product)
	for _, o := range offers {
		if feed.CompareSerials(o.Serial, serial) > 0 {
			newest, serial, is = o, o.Serial, true
		}
	}
	return f, newest, is, err
}

// AddressOf is where the file of a release is.
func AddressOf(f store.Feed, o feed.Offer) string {
	root, _ := divided(f)
	return root + (&url.URL{Path: o.Path}).EscapedPath()
}

// divided is an address of a feed as its root, which ends with a slash, and the first file that is read, from there.
func divided(f store.Feed) (root, first string) {
	root = f.Address
	if strings.HasSuffix(root, ".json") || strings.HasSuffix(root, ".sjson") {
		at := strings.LastIndex(root, "/streams/")
		if at < 0 {
			at = strings.LastIndex(root, "/")
		}
		return root[:at+1], signedName(f, root[at+1:])
	}
	return strings.TrimSuffix(root, "/") + "/", signedName(f, "streams/v1/index.json")
}

// signedName is what a file is called in the form that the feed is to have.
func signedName(f store.Feed, name string) string {
	if f.Key != "" && strings.HasSuffix(name, ".json") {
		return strings.TrimSuffix(name, ".json") + ".sjson"
	}
	return name
}

// see reads a feed, and says when to do so again.
func (fs *Feeds) see(ctx context.Context, id int64) (again time.Duration, err error) {
	f, err := store.FeedByID(fs.engine.Store.DB.WithContext(ctx), id)
	if errors.Is(err, store.ErrNotFound) {
		return 0, nil // it was deleted meanwhile
	}
	if err != nil {
		return 0, err
	}
	reading, cancel := context.WithTimeout(ctx, atMost)
	signed := map[string]time.Time{}
	offers, left, broke := fs.read(reading, f, signed)
	if errors.Is(context.Cause(reading), context.DeadlineExceeded) {
		broke = fmt.Errorf("it was not read within %s", atMost)
	}
	cancel()
	if ctx.Err() != nil {
		return 0, nil // another process goes on, or this one later
	}
	again = time.Duration(f.EverySeconds) * time.Second
	err = fs.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
		if f, err = store.LockFeedByID(tx.DB, id); errors.Is(err, store.ErrNotFound) {
			return nil
		} else if err != nil {
			return err
		}
		f.LookedAt = &tx.Now
		if broke != nil {
			again = min(again, againAfter)
			if f.Why == "" {
				record(tx, f, "fail", broke.Error(), nil)
			}
			f.Why = broke.Error()
			return tx.Save(&f).Error
		}
		f.SeenAt, f.Why, f.LeftOut, f.SignedAt.V = &tx.Now, "", left, signed
		if err := changed(tx, f, offers); err != nil {
			return err
		}
		return tx.Save(&f).Error
	})
	return again, err
}

// changed writes down what stands in a feed now, if that is something else than before.
func changed(tx *store.Tx, f store.Feed, offers []feed.Offer) error {
	before, err := store.Offers(tx.DB, f.ID, "")
	if err != nil {
		return err
	}
	key := func(o feed.Offer) string { return o.Product + "\n" + o.Serial + "\n" + o.SHA256 + "\n" + o.Path }
	had := map[string]bool{}
	for _, o := range before {
		had[key(o)] = true
	}
	var fresh []string
	for _, o := range offers {
		if !had[key(o)] {
			fresh = append(fresh, o.Title())
		}
	}
	if len(fresh) == 0 && len(offers) == len(before) {
		tx.Emit("feed", f.Subject(), nil)
		return nil
	}
	slices.Sort(fresh)
	record(tx, f, "change", "", map[string]any{
		"releases": len(offers), "new": len(fresh), "such_as": fresh[:min(len(fresh), 3)],
	})
	return store.ReplaceOffers(tx, f.ID, offers)
}

// read reads all files of a feed, and records when each was signed. It refuses a
// signed file with another content ID than in the index, and an older signature than
// the last time: an attacker could otherwise send any file that the vendor ever signed.
func (fs *Feeds) read(ctx context.Context, f store.Feed, signed map[string]time.Time) (offers []feed.Offer,
	left []string, err error,
) {
	root, first := divided(f)
	kept := int64(0)
	read := func(name, id string, isFirst bool) (out foreign.FeedFile, err error) {
		file, err := fs.get(ctx, root+name)
		if err != nil {
			return out, err
		}
		defer func() { err = errors.Join(err, os.Remove(file)) }()
		out, size, err := foreign.ReadFeedFile(ctx, file, f.Key, f.Publisher, isFirst, feed.MostKept-kept)
		if kept += size; err != nil {
			return out, fmt.Errorf("%s%s: %w", root, name, err)
		}
		if f.Key != "" {
			signed[name] = out.SignedAt
			switch before := f.SignedAt.V[name]; {
			case out.SignedAt.Before(before):
				return out, fmt.Errorf("%s%s: its signature of %s is older than that of the last file, of %s: an "+
					"older file does not replace a newer one", root, name, out.SignedAt.Format(time.DateTime),
					before.Format(time.DateTime))
			case id != "" && out.ContentID != id:
				return out, fmt.Errorf("%s%s: the signed file is %q, and the index names %q there", root, name,
					out.ContentID, id)
			}
		}
		if offers, left = append(offers, out.Offers...), append(left, out.Left...); len(offers) > feed.MostOffers {
			return out, fmt.Errorf("it has more than %d releases, which are at most read", feed.MostOffers)
		}
		return out, nil
	}
	index, err := read(first, "", true)
	if err != nil {
		return nil, nil, err
	}
	for _, file := range index.Named {
		if _, err := read(signedName(f, file.Path), file.ID, false); err != nil {
			return nil, nil, err
		}
	}
	seen := map[string]bool{}
	offers = slices.DeleteFunc(offers, func(o feed.Offer) bool {
		key := o.Product + "\n" + o.Serial
		twice := seen[key] // in another file of products; the first holds
		seen[key] = true
		return twice
	})
	if len(left) > mostLeft {
		left = append(left[:mostLeft:mostLeft], fmt.Sprintf("and %d more", len(left)-mostLeft))
	}
	return offers, left, nil
}

// get fetches one file of a feed to a temporary file, and returns its name.
func (fs *Feeds) get(ctx context.Context, address string) (name string, err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	answer, err := engine.NewExternalClient(fs.engine.FetchFromHere, patience).Do(request)
	if errors.Is(err, engine.ErrForbidden) {
		return "", engine.ErrForbidden
	}
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return "", fmt.Errorf("%s answers %s: see whether the address is right", address, answer.Status)
	}
	f, err := fs.engine.Scratch()
	if err != nil {
		return "", err
	}
	n, err := io.Copy(f, io.LimitReader(answer.Body, feed.MostBytes+1))
	if err != nil {
		err = fmt.Errorf("%s: %w", address, err)
	} else if n > feed.MostBytes {
		err = fmt.Errorf("%s has more than the %d bytes that are read of it", address, feed.MostBytes)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return "", errors.Join(err, os.Remove(f.Name()))
	}
	return f.Name(), nil
}

// matters are the feeds that cannot be read.
func matters(db *gorm.DB, _ time.Time, add func(engine.Matter)) error {
	rows, err := store.Feeds(db)
	for _, f := range rows {
		if f.Why != "" {
			add(engine.Matter{
				Kind: matter.Build, Title: "Feed " + f.Name + " cannot be read", Detail: f.Why, Link: "feeds/" + f.Name,
				Command: "pane feed show " + f.Name,
			})
		}
	}
	return err
}
