package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"nimblepane/platform"
	"nimblepane/store"
)

// A site that hangs keeps nobody waiting but itself: each has places of its
// own for the calls to its platform, and a call is given up after a while.
const (
	sitePlaces = 32
	siteShare  = 24 // works of a site that are claimed at once, over all processes
	callLimit  = 10 * time.Second
)

// places are those of every site, by its name.
type places struct {
	mu     sync.Mutex
	bySite map[string]chan struct{}
}

func (p *places) of(site string) chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bySite == nil {
		p.bySite = map[string]chan struct{}{}
	}
	if p.bySite[site] == nil {
		p.bySite[site] = make(chan struct{}, sitePlaces)
	}
	return p.bySite[site]
}

// silentSite is the error of a site that did not answer in time.
type silentSite struct{ name string }

func (s *silentSite) Error() string {
	return fmt.Sprintf("site %s did not answer within %s", s.name, callLimit)
}

// asked has a site's platform answer a question, within the limit. A platform
// that does not even heed its context keeps its place, and no more than that.
func asked[T any](ctx context.Context, e *Engine, site store.Site, question func(context.Context, platform.Platform) (T, error)) (T, error) {
	var none T
	p, err := e.site(site)
	if err != nil {
		return none, err
	}
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	places := e.places.of(site.Name)
	select {
	case places <- struct{}{}:
	case <-ctx.Done():
		cancel()
		return none, &silentSite{site.Name}
	}
	type answer struct {
		value T
		err   error
	}
	answers := make(chan answer, 1)
	go func() {
		defer cancel()
		defer func() { <-places }()
		v, err := question(ctx, p)
		answers <- answer{v, err}
	}()
	select {
	case a := <-answers:
		if errors.Is(a.err, context.DeadlineExceeded) {
			a.err = &silentSite{site.Name}
		}
		return a.value, a.err
	case <-ctx.Done():
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return none, &silentSite{site.Name}
		}
		return none, ctx.Err()
	}
}

// siteIsSilent notes that a site failed to answer, in the trail when that begins.
func (e *Engine) siteIsSilent(ctx context.Context, site store.Site, why error) error {
	return e.change(ctx, serviceActor, func(tx *store.Tx) error {
		news, err := store.SiteFailed(tx, site.ID, why.Error())
		if err == nil && news {
			tx.Record(store.Entry{Verb: "site.silent", Subject: "site " + site.Name, Reason: why.Error()})
		}
		return err
	})
}

// siteAnswers notes that a site which was silent answers.
func (e *Engine) siteAnswers(ctx context.Context, site store.Site) error {
	if site.Failures == 0 {
		return nil
	}
	return e.change(ctx, serviceActor, func(tx *store.Tx) error {
		news, err := store.SiteAnswered(tx, site.ID)
		if err == nil && news {
			tx.Record(store.Entry{Verb: "site.heard", Subject: "site " + site.Name})
		}
		return err
	})
}
