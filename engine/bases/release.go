package bases

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"nimblepane/core/base"
	"nimblepane/core/feed"
	"nimblepane/core/problem"
	"nimblepane/engine/feeds"
	"nimblepane/store"
)

// Release is the release of a feed that is meant, and the base that it is here, if it is or comes.
type Release struct {
	Feed  store.Feed
	Offer feed.Offer
	Base  store.Base // its ID is 0 if there is none yet
}

// ReleaseIn finds the release that is meant, as part of a change. One that is here and does not fit is a problem; what
// is in one that is not here is seen when it has come.
func ReleaseIn(tx *store.Tx, name string, want feed.Want, w base.Wanted) (r Release, err error) {
	if r.Feed, r.Offer, err = feeds.One(tx.DB, name, want); err != nil {
		return r, err
	}
	b, err := store.BaseOfRelease(tx.DB, r.Feed.Name, r.Offer.Product, r.Offer.Serial, r.Offer.SHA256)
	switch {
	case errors.Is(err, store.ErrNotFound) || err == nil && b.State == base.Failed:
		return r, nil // it is brought in, anew if need be
	case err != nil:
		return r, err
	}
	r.Base = b
	return r, fits(b, w)
}

// fits returns a problem that says why a base cannot be used for that, nil if it can or is not here yet.
func fits(b store.Base, w base.Wanted) error {
	if why := b.Facts.V.Misfits(w); b.State == base.Ready && why != nil {
		return &problem.Problem{Type: problem.Incompatible, Detail: "base " + b.Name + " does not fit", Reasons: why}
	}
	return nil
}

// BringReleaseIn begins to bring in a release that is not here, as part of a change. One that could not be brought in
// before is given up for it.
func (bs *Bases) BringReleaseIn(tx *store.Tx, actor string, r Release) (store.Base, error) {
	if _, err := store.LockFeedByID(tx.DB, r.Feed.ID); err != nil { // so that two do not do so at once
		return store.Base{}, err
	}
	failed, err := store.BaseOfRelease(tx.DB, r.Feed.Name, r.Offer.Product, r.Offer.Serial, r.Offer.SHA256)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return failed, err
	}
	if err == nil && failed.State != base.Failed {
		return failed, nil // another has just begun
	}
	b := ofRelease(r.Feed, r.Offer)
	if b.Name, err = freeName(tx, r.Offer); err != nil {
		return b, err
	}
	if failed.ID != 0 {
		b.Name = failed.Name
		if err := bs.retireIn(tx, &failed, "it is brought in anew"); err != nil {
			return b, err
		}
	}
	return b, bs.beginIn(tx, actor, &b)
}

var notInNames = regexp.MustCompile(`[^a-z0-9.]+`)

// freeName is what the base of a release is called that nobody gave a name.
func freeName(tx *store.Tx, o feed.Offer) (string, error) {
	says := o.Labels
	says.Publisher = ""
	const most = 40
	of := strings.ToLower(says.Text())
	if of == "" {
		of = strings.ToLower(o.Product)
	}
	if len(of) > most {
		of = of[:most]
	}
	of = strings.Trim(notInNames.ReplaceAllString(of+"-"+strings.ToLower(o.Serial), "-"), "-.")
	of = of[:min(len(of), most+15)]
	for n, name := 1, of; ; n++ {
		_, err := store.BaseNamed(tx.DB, name)
		if errors.Is(err, store.ErrNotFound) {
			return name, nil
		}
		if err != nil {
			return "", err
		}
		name = fmt.Sprintf("%s-%d", of, n+1)
	}
}
