package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/store"
)

// right is by what right a request is made: whose it is, and what let it in.
type right struct {
	account store.Account // with the role that the token leaves it
	token   *store.Token
	session *store.ConsoleSession
}

// secret is that of the token or session (SHA-256).
func (r right) secret() []byte {
	switch {
	case r.token != nil:
		return r.token.Secret
	case r.session != nil:
		return r.session.Secret
	}
	return nil
}

// until is when the right ends by itself.
func (r right) until() time.Time {
	if r.token != nil {
		return r.token.ExpiresAt
	}
	return r.session.ExpiresAt
}

// free says that the right is all that its account has, and not part of it.
func (r right) free() bool { return r.token == nil || r.token.Role == "" && !r.token.Narrowed() }

// mayChange says whether the right reaches a pool of an image, or, without a pool, the image as a whole.
func (r right) mayChange(pool, image string) bool {
	return r.token == nil || !r.token.Narrowed() || slices.Contains(r.token.Images, image) || pool != "" &&
		slices.Contains(r.token.Pools, pool)
}

type rightKey struct{}

func rightOf(ctx context.Context) right {
	r, _ := ctx.Value(rightKey{}).(right)
	return r
}

// whoever returns the account that makes the request.
func whoever(ctx context.Context) store.Account { return rightOf(ctx).account }

func actor(ctx context.Context) string { return whoever(ctx).Name }

// find looks up what lets a request in: a bearer token or a session cookie. A
// zero right is nobody's. Credentials expire by the real clock, whatever the
// product's shows.
func (s *Server) find(ctx context.Context, bearer, cookie string) (r right, err error) {
	db := s.store.DB.WithContext(ctx)
	now := time.Now()
	switch {
	case bearer != "":
		var t store.Token
		if r.account, t, err = store.AccountOfToken(db, store.Digest(bearer), now); err != nil {
			return right{}, err
		}
		if r.token = &t; t.Role != "" && r.account.Role.Has(t.Role) {
			r.account.Role = t.Role
		}
	case cookie != "":
		var c store.ConsoleSession
		if r.account, c, err = store.AccountOfSession(db, store.Digest(cookie), now); err != nil {
			return right{}, err
		}
		r.session = &c
	}
	return r, nil
}

// authenticate finds out who makes the request. A cookie changes something
// only together with its CSRF token. Who may do what is authorize's business.
func (s *Server) authenticate(c *gin.Context) {
	ctx := context.WithValue(c.Request.Context(), addressKey{}, c.ClientIP())
	bearer, byToken := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	cookie, _ := c.Cookie(sessionCookie)
	r, err := s.find(ctx, bearer, cookie)
	switch {
	case errors.Is(err, store.ErrNotFound) && !byToken:
		// An old cookie is as good as none.
	case errors.Is(err, store.ErrNotFound):
		c.Header("WWW-Authenticate", "Bearer")
		abort(c, problem.NotSignedIn, "the token does not exist, was revoked, or has expired: sign in again")
		return
	case err != nil:
		s.noDatabase(c, err)
		return
	}
	safe := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	if r.session != nil && !safe && c.GetHeader(csrfHeader) != r.session.CSRF && c.FullPath() != "/api/v1/session" {
		abort(c, problem.Forbidden, "the request lacks the header %s of the session", csrfHeader)
		return
	}
	c.Request = c.Request.WithContext(context.WithValue(ctx, rightKey{}, r))
	c.Next()
}

// noDatabase answers that the records cannot be looked at, if anybody waits for an answer.
func (s *Server) noDatabase(c *gin.Context, err error) {
	if c.Request.Context().Err() != nil {
		c.Abort()
		return
	}
	s.away.Failed(away, err)
	c.Header("Retry-After", "1")
	abort(c, problem.Unavailable, "the database does not answer; try again")
}

// scope is what an operation changes, which a narrowed token has to reach.
type scope string

const (
	onOthers   scope = ""         // out of reach of every narrowed token
	onOneself  scope = "oneself"  // the credentials of whoever asks
	onNothing  scope = "nothing"  // it changes nothing, whatever its method
	onImage    scope = "image"    // the image of the path
	onPool     scope = "pool"     // the pool of the path
	onHost     scope = "host"     // the pool of the path's host
	onRollover scope = "rollover" // the pool of the path's rollover
	onBuild    scope = "build"    // the image of the path's build
	onPools    scope = "pools"    // pools of the body: the operation asks reachPools itself
	onSheet    scope = "sheet"    // the image of the body's sheet: the operation asks reachImage itself
)

// authorize lets an operation through if the account has its role, and the
// token reaches what it changes.
func (s *Server) authorize(ctx huma.Context, next func(huma.Context)) {
	needed, _ := ctx.Operation().Metadata["role"].(role.Role)
	on, _ := ctx.Operation().Metadata["on"].(scope)
	r := rightOf(ctx.Context())
	switch {
	case needed == "":
	case r.account.ID == 0:
		ctx.SetHeader("WWW-Authenticate", "Bearer")
		_ = huma.WriteErr(s.api, ctx, http.StatusUnauthorized, "sign in first: pane sign-in, or POST /api/v1/session")
		return
	case !r.account.Role.Has(needed):
		_ = huma.WriteErr(s.api, ctx, http.StatusForbidden,
			fmt.Sprintf("%s has the role %s; this needs %s", r.account.Name, r.account.Role, needed))
		return
	case ctx.Method() != http.MethodGet && r.token != nil && r.token.Narrowed():
		reached, err := s.reached(ctx, r, on)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			if ctx.Context().Err() == nil {
				s.away.Failed(away, err)
			}
			_ = huma.WriteErr(s.api, ctx, http.StatusServiceUnavailable, "the database does not answer; try again")
			return
		}
		if err == nil && !reached {
			_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, "",
				problem.TokenScope.Errorf("the token is for %s only", narrowing(*r.token)))
			return
		}
	}
	next(ctx)
}

// reached says whether a narrowed token reaches what an operation changes.
func (s *Server) reached(ctx huma.Context, r right, on scope) (bool, error) {
	db := s.store.DB.WithContext(ctx.Context())
	ofPool := func(p store.Pool, err error) (bool, error) {
		if err != nil {
			return false, err
		}
		img, err := store.ImageByID(db, p.ImageID)
		return r.mayChange(p.Name, img.Name), err
	}
	switch on {
	case onOneself, onNothing, onPools, onSheet:
		return true, nil
	case onImage:
		return r.mayChange("", ctx.Param("image")), nil
	case onPool:
		return ofPool(store.PoolNamed(db, ctx.Param("pool")))
	case onHost:
		h, err := store.HostNamed(db, ctx.Param("host"))
		if err != nil {
			return false, err
		}
		return ofPool(store.PoolByID(db, h.PoolID))
	case onRollover:
		return ofPool(store.PoolOfRollover(db, ctx.Param("id")))
	case onBuild:
		img, err := store.ImageOfBuild(db, ctx.Param("id"))
		return r.mayChange("", img.Name), err
	}
	return false, nil
}

// reachImage returns an error if the token does not reach the image.
func reachImage(ctx context.Context, image string) error {
	if r := rightOf(ctx); !r.mayChange("", image) {
		return problem.TokenScope.Errorf("the token is for %s only, not for image %s", narrowing(*r.token), image)
	}
	return nil
}

// reachPools returns an error if the token does not reach one of the pools.
func (s *Server) reachPools(ctx context.Context, names []string) error {
	r := rightOf(ctx)
	if r.token == nil || !r.token.Narrowed() {
		return nil
	}
	db := s.store.DB.WithContext(ctx)
	for _, name := range names {
		p, err := store.PoolNamed(db, name)
		if err != nil {
			return err
		}
		img, err := store.ImageByID(db, p.ImageID)
		if err != nil {
			return err
		}
		if !r.mayChange(p.Name, img.Name) {
			return problem.TokenScope.Errorf("the token is for %s only, not for pool %s", narrowing(*r.token), p.Name)
		}
	}
	return nil
}

// narrowing says what a token is narrowed to.
func narrowing(t store.Token) string {
	var parts []string
	if len(t.Pools) > 0 {
		parts = append(parts, "pools "+strings.Join(t.Pools, ", "))
	}
	if len(t.Images) > 0 {
		parts = append(parts, "images "+strings.Join(t.Images, ", "))
	}
	return strings.Join(parts, " and ")
}
