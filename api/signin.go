package api

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"sync/atomic"
	"time"

	"github.com/alexedwards/argon2id"

	"nimblepane/client"
	"nimblepane/core/password"
	"nimblepane/core/problem"
	"nimblepane/store"
)

// Guessing is bounded by name and by address. A name waits a minute at most,
// so that somebody who guesses it cannot keep its owner out for long; an
// address that tries many names waits longer.
const (
	nameFree    = 5
	nameMost    = time.Minute
	addressFree = 20
	addressMost = 15 * time.Minute
)

// guard bounds how much work and memory passwords take: each takes 64 MiB for
// some tens of milliseconds.
type guard struct {
	places  chan struct{}
	waiting atomic.Int64
	tidied  atomic.Int64 // when its memory was collected last, in nanoseconds of Unix time
}

const (
	guardPlaces = 2
	guardQueue  = 16
)

func newGuard() *guard { return &guard{places: make(chan struct{}, guardPlaces)} }

// compute runs fn when there is a place, unless too many wait already.
func (g *guard) compute(ctx context.Context, fn func()) error {
	if g.waiting.Add(1) > guardPlaces+guardQueue {
		g.waiting.Add(-1)
		return later(problem.Unavailable, 2*time.Second, "too many sign-ins at the moment; try again")
	}
	defer g.waiting.Add(-1)
	select {
	case g.places <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-g.places }()
	fn()
	g.tidy()
	return nil
}

// tidyEvery is how often the memory of hashes is collected at most.
const tidyEvery = 10 * time.Second

// tidy collects the 64 MiB that a hash took: the collector would let the service grow to several times them first.
func (g *guard) tidy() {
	last, now := g.tidied.Load(), time.Now().UnixNano()
	if now-last > int64(tidyEvery) && g.tidied.CompareAndSwap(last, now) {
		debug.FreeOSMemory()
	}
}

// noAccount is compared with when a name is unknown, so that the time taken does not tell.
const noAccount = "$argon2id$v=19$m=65536,t=1,p=2$c29tZXNhbHRzb21lc2FsdA$Zm9yIG5vYm9keSBhdCBhbGwsIGZvciBubyBvbmUgMTI"

// hashPassword returns the password as it is kept: argon2id in PHC format. A
// password that may not be used is a Problem.
func hashPassword(text string, known ...string) (string, error) {
	if err := password.Check(text, known...); err != nil {
		return "", &problem.Problem{Type: problem.InvalidRequest, Detail: err.Error()}
	}
	return argon2id.CreateHash(text, &argon2id.Params{
		Memory: 64 * 1024, Iterations: 1, Parallelism: 2, SaltLength: 16,
		KeyLength: 32,
	})
}

// hashed is hashPassword within the guard.
func (s *Server) hashed(ctx context.Context, text string, known ...string) (hash string, err error) {
	if gerr := s.guard.compute(ctx, func() { hash, err = hashPassword(text, known...) }); gerr != nil {
		return "", gerr
	}
	return hash, err
}

// network is what an address counts as: itself, or the network that one
// subscriber has of IPv6.
func network(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return "unknown"
	}
	if a = a.Unmap(); a.Is6() {
		p, _ := a.Prefix(64)
		return p.String()
	}
	return a.String()
}

// proven returns the account if the password is its own. The try is counted
// before the password is looked at.
func (s *Server) proven(ctx context.Context, name, text string) (store.Account, error) {
	at := addressOf(ctx)
	byName, byAddress := "name "+name, "address "+network(at)
	wait, err := s.store.CountTry(ctx, store.Trier{Key: byName, Free: nameFree, Most: nameMost},
		store.Trier{Key: byAddress, Free: addressFree, Most: addressMost})
	if err != nil {
		return store.Account{}, err
	}
	if wait > 0 {
		return store.Account{}, later(problem.TooManyRequests, wait,
			"too many failed sign-ins: wait "+wait.Round(time.Second).String()+", then try again")
	}
	a, err := store.AccountNamed(s.store.DB.WithContext(ctx), name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return a, err
	}
	known := err == nil
	kept := a.Password
	if !known {
		kept = noAccount
	}
	var right bool
	if err := s.guard.compute(ctx, func() { right, err = argon2id.ComparePasswordAndHash(text, kept) }); err != nil {
		return a, err
	}
	if right && known && !a.Disabled {
		return a, s.store.TryWasRight(ctx, byName, byAddress)
	}
	s.log.Warn("a sign-in failed", "account", a.Name, "known", known, "disabled", a.Disabled, "from", at)
	if err := s.store.TryWasWrong(ctx, byName, a.Name); err != nil {
		return a, err
	}
	return a, problem.WrongCredentials.Errorf("the name or password is wrong, or the account is disabled")
}

type signedIn struct {
	Cookie http.Cookie `header:"Set-Cookie"`
	Body   client.SignedIn
}

func (s *Server) signIn(ctx context.Context, in *struct{ Body client.SignIn }) (*signedIn, error) {
	a, err := s.proven(ctx, in.Body.Name, in.Body.Password)
	if err != nil {
		return nil, err
	}
	out := &signedIn{Body: client.SignedIn{Account: accountOut(a)}}
	if in.Body.Token != "" {
		lasts := signInToken
		if in.Body.Days > 0 {
			lasts = time.Duration(in.Body.Days) * 24 * time.Hour
		}
		made, err := s.makeToken(ctx, right{account: a},
			client.NewToken{Name: in.Body.Token, Role: in.Body.Role, Pools: in.Body.Pools, Images: in.Body.Images},
			lasts)
		out.Body.Token = made.Secret
		return out, err
	}
	secret := store.NewSecret()
	out.Body.CSRF = store.NewSecret()
	now := time.Now()
	err = s.store.Change(ctx, a.Name, s.engine.Clock.Now(), func(tx *store.Tx) error {
		tx.Record(store.Entry{Verb: "account.sign-in", Subject: "account " + a.Name})
		return tx.AddSession(store.ConsoleSession{
			Secret: store.Digest(secret), AccountID: a.ID, CSRF: out.Body.CSRF,
			CreatedAt: now, ExpiresAt: now.Add(sessionLasts),
		})
	})
	out.Cookie = s.cookie(secret, int(sessionLasts.Seconds()))
	return out, err
}

// changePassword sets somebody's own password. Who knew the old one is signed
// out everywhere else.
func (s *Server) changePassword(ctx context.Context, in *struct{ Body client.NewPassword }) (*empty, error) {
	who := rightOf(ctx)
	if _, err := s.proven(ctx, who.account.Name, in.Body.Old); err != nil {
		if errors.Is(err, problem.WrongCredentials) {
			return nil, problem.InvalidRequest.Errorf("the old password is wrong")
		}
		return nil, err
	}
	hash, err := s.hashed(ctx, in.Body.New, who.account.Name, who.account.Title)
	if err != nil {
		return nil, err
	}
	return done(s.store.Change(ctx, who.account.Name, s.engine.Clock.Now(), func(tx *store.Tx) error {
		tx.Record(store.Entry{Verb: "account.password", Subject: "account " + who.account.Name})
		if err := tx.EndCredentials(who.account.ID, who.secret()); err != nil {
			return err
		}
		return tx.SetPassword(who.account.ID, hash)
	}))
}

type addressKey struct{}

// addressOf returns the address of whoever makes the request: as a trusted
// proxy says, or that of the connection.
func addressOf(ctx context.Context) string {
	a, _ := ctx.Value(addressKey{}).(string)
	if host, _, err := net.SplitHostPort(a); err == nil {
		return host
	}
	return a
}
