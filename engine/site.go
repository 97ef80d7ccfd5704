package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"nimblepane/core/estate"
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

// sites are the platforms of the sites that were asked so far.
type sites struct {
	openers map[string]platform.Opener // by platform

	mu     sync.Mutex
	open   map[string]openSite      // by site
	places map[string]chan struct{} // by site
}

// openSite is a site's platform, and how the site was described when it was opened.
type openSite struct {
	platform.Platform
	as string
}

// placesOf are the places for calls to a site.
func (s *sites) placesOf(site string) chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.places == nil {
		s.places = map[string]chan struct{}{}
	}
	if s.places[site] == nil {
		s.places[site] = make(chan struct{}, sitePlaces)
	}
	return s.places[site]
}

func (s *sites) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, p := range s.open {
		p.Close()
		delete(s.open, name)
	}
}

// Platform returns the platform of a site. A site that is described otherwise
// than before is opened anew.
func (e *Engine) Platform(s store.Site) (platform.Platform, error) {
	text, err := json.Marshal(s.Estate())
	if err != nil {
		return nil, fmt.Errorf("describe site %s: %w", s.Name, err)
	}
	e.sites.mu.Lock()
	defer e.sites.mu.Unlock()
	have, ok := e.sites.open[s.Name]
	if ok && have.as == string(text) {
		return have.Platform, nil
	}
	p, err := e.OpenSite(s.Estate())
	if err != nil {
		return nil, err
	}
	if ok {
		go have.Close() // it waits for what is under way
	}
	e.sites.open[s.Name] = openSite{p, string(text)}
	return p, nil
}

// OpenSite opens a site's platform as the site is described. The caller closes it.
func (e *Engine) OpenSite(s estate.Site) (platform.Platform, error) {
	opener, known := e.sites.openers[s.Platform]
	if !known {
		return nil, fmt.Errorf("site %s is on platform %s, which this service does not have", s.Name, s.Platform)
	}
	return opener(s, platform.Environment{
		Journal: e.Store.Journal(), Peer: e.peer, Secrets: e.Secrets, File: e.Store.SheetFileContent,
		Bases: ownDisks{e}, Allowance: e.allowance, Log: e.Log,
	})
}

// Allow says what deliveries may take.
func (e *Engine) Allow(rate func(ctx context.Context, key string) (int64, error)) { e.allowed = rate }

func (e *Engine) allowance(ctx context.Context, key string) (int64, error) {
	if e.allowed == nil {
		return 0, nil
	}
	return e.allowed(ctx, key)
}

// peer returns the platform of the site of that name.
func (e *Engine) peer(ctx context.Context, name string) (platform.Platform, error) {
	s, err := store.SiteNamed(e.Store.DB.WithContext(ctx), name)
	if err != nil {
		return nil, err
	}
	return e.Platform(s)
}

// silentSite is the error of a site that did not answer in time.
type silentSite struct{ name string }

func (s *silentSite) Error() string {
	return fmt.Sprintf("site %s did not answer within %s", s.name, callLimit)
}

// Ask has a site's platform answer a question, within the limit. A platform
// that does not even heed its context keeps its place, and no more than that.
func Ask[T any](ctx context.Context, e *Engine, site store.Site,
	question func(context.Context, platform.Platform) (T, error),
) (T, error) {
	var none T
	p, err := e.Platform(site)
	if err != nil {
		return none, err
	}
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	places := e.sites.placesOf(site.Name)
	select {
	case places <- struct{}{}:
	case <-ctx.Done():
		return none, silence(ctx, site)
	}
	type answer struct {
		value T
		err   error
	}
	answers := make(chan answer, 1)
	go func() {
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
		return none, silence(ctx, site)
	}
}

// silence is why there was no answer: the site gave none in time, or nobody waits for it any more.
func silence(ctx context.Context, site store.Site) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return &silentSite{site.Name}
	}
	return ctx.Err()
}

// AskTo has a site's platform do something that answers with nothing, as Ask does.
func (e *Engine) AskTo(ctx context.Context, site store.Site,
	order func(context.Context, platform.Platform) error,
) error {
	_, err := Ask(ctx, e, site, func(ctx context.Context, p platform.Platform) (struct{}, error) {
		return struct{}{}, order(ctx, p)
	})
	return err
}

// CheckRoom asks a platform whether hosts could all have a machine of a class,
// within the limit of a call. It returns what is lacking, "" if nothing is.
func CheckRoom(ctx context.Context, p platform.Platform, hosts []string, machineClass string) (lacking string,
	err error,
) {
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	err = p.CheckRoom(ctx, hosts, machineClass)
	var refusal *platform.Refusal
	if errors.As(err, &refusal) {
		return refusal.Why, nil
	}
	return "", err
}

// Nodes are the computers of a site, with what they have and what is used.
func (e *Engine) Nodes(ctx context.Context, site store.Site) ([]platform.Node, error) {
	return Ask(ctx, e, site, func(ctx context.Context, p platform.Platform) ([]platform.Node,
		error,
	) {
		return p.Nodes(ctx)
	})
}

// BuildMachines lists the build machines of a site.
func (e *Engine) BuildMachines(ctx context.Context, site store.Site) ([]platform.BuildMachine, error) {
	return Ask(ctx, e, site, func(ctx context.Context, p platform.Platform) ([]platform.BuildMachine, error) {
		return p.BuildMachines(ctx)
	})
}

// siteIsSilent notes that a site failed to answer, in the trail when that begins.
func (e *Engine) siteIsSilent(ctx context.Context, site store.Site, why error) error {
	return e.Change(ctx, ServiceActor, func(tx *store.Tx) error {
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
	return e.Change(ctx, ServiceActor, func(tx *store.Tx) error {
		news, err := store.SiteAnswered(tx, site.ID)
		if err == nil && news {
			tx.Record(store.Entry{Verb: "site.heard", Subject: "site " + site.Name})
		}
		return err
	})
}
