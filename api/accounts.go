package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nimblepane/client"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/engine"
	"nimblepane/store"
)

const (
	sessionCookie = "nimblepane_session"
	csrfHeader    = "X-CSRF-Token"
	sessionLasts  = 12 * time.Hour
	signInToken   = 30 * 24 * time.Hour // how long a token made at sign-in lasts
	usualToken    = 90 * 24 * time.Hour
)

// longestKey is the most characters of an Idempotency-Key.
var longestKey = 100

// idempotent answers a repeated POST with what the first one was answered, if
// both carry the same Idempotency-Key. An answer with a secret is not kept.
func (s *Server) idempotent(c *gin.Context) {
	key := c.GetHeader("Idempotency-Key")
	account := whoever(c.Request.Context())
	if key == "" || c.GetHeader(dryRunHeader) != "" || c.Request.Method != http.MethodPost || account.ID == 0 {
		c.Next()
		return
	}
	if len(key) > longestKey {
		abort(c, problem.InvalidRequest, "Idempotency-Key: the most is %d characters", longestKey)
		return
	}
	in, err := io.ReadAll(c.Request.Body)
	if err != nil {
		abort(c, problem.TooLarge, "the request is too large: the most is %d bytes", bodyLimit)
		return
	}
	c.Request.Body = io.NopCloser(bytes.NewReader(in))
	row := store.SavedReply{AccountID: account.ID, Key: key, Request: meaning(c.Request.URL, in), CreatedAt: time.Now()}
	ctx := context.WithoutCancel(c.Request.Context())
	first, err := s.store.BeginReply(ctx, row)
	if err != nil {
		s.noDatabase(c, err)
		return
	}
	if first != nil {
		switch {
		case first.Request != row.Request:
			abort(c, problem.KeyReused, "the Idempotency-Key was used for another request: use a new key")
		case first.Status == 0:
			abort(c, problem.KeyInUse, "the first request with this Idempotency-Key is still running, or its process "+
				"stopped: check whether its change was made")
		case givesSecret(c):
			abort(c, problem.WrongState, "the token was created, and its secret is shown only once: if you did not "+
				"receive it, revoke the token and create another")
		default:
			c.Header("Idempotent-Replay", "true")
			if first.Location != "" {
				c.Header("Location", first.Location)
			}
			c.Data(first.Status, "application/json", first.Body)
			c.Abort()
		}
		return
	}
	out := &copied{ResponseWriter: c.Writer}
	c.Writer = out
	c.Next()
	if out.Status() >= 300 {
		// What failed may be tried again under the same key.
		if err := s.store.FreeReply(ctx, row); err != nil {
			s.log.Error("cannot let a key be used again", "err", err)
		}
		return
	}
	row.Status, row.Location = out.Status(), out.Header().Get("Location")
	if !givesSecret(c) {
		row.Body = out.body.Bytes()
	}
	if err := s.store.KeepReply(ctx, row); err != nil {
		s.log.Error("cannot keep an answer", "err", err)
	}
}

// meaning is a hash of the path, the query and the body of a request. The order of keys in the body and the space
// between them do not matter.
func meaning(at *url.URL, body []byte) string {
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber() // every digit counts
	var value any
	if err := decoder.Decode(&value); err == nil && !decoder.More() {
		if canonical, err := json.Marshal(value); err == nil {
			body = canonical
		}
	}
	sum := sha256.Sum256([]byte(at.EscapedPath() + "?" + at.Query().Encode() + "\n" + string(body)))
	return hex.EncodeToString(sum[:])
}

// givesSecret says that the answer holds a secret, which is not to be kept.
func givesSecret(c *gin.Context) bool {
	return c.FullPath() == "/api/v1/tokens" || c.FullPath() == "/api/v1/session"
}

type copied struct {
	gin.ResponseWriter
	body bytes.Buffer
}

func (c *copied) Write(b []byte) (int, error) {
	c.body.Write(b)
	return c.ResponseWriter.Write(b)
}

func (s *Server) accounts() {
	register(s, operation{
		method: "GET", path: "/status", id: "status",
		summary: "What service this is and what time it is there", role: role.Viewer, tag: "service",
	},
		func(ctx context.Context, _ *empty) (*body[client.Status], error) {
			rate := s.engine.Clock.Rate()
			_, practice := s.engine.Clock.(*engine.PracticeClock)
			return ok(client.Status{Version: s.version, Practice: practice, Now: s.engine.Clock.Now(), Rate: rate}, nil)
		})
	register(s, operation{
		method: "POST", path: "/session", id: "sign-in",
		summary: "Sign in: get a session cookie, or a bearer token", tag: "people",
	}, s.signIn)
	register(s, operation{
		method: "GET", path: "/session", id: "who-am-i", summary: "Who is signed in",
		role: role.Viewer, tag: "people",
	}, s.whoAmI)
	register(s, operation{
		method: "DELETE", path: "/session", id: "sign-out",
		summary: "Sign out: end the session, or revoke the token and those that it made", role: role.Viewer,
		on: onOneself, tag: "people", status: 204,
	}, s.signOut)
	register(s, operation{
		method: "POST", path: "/password", id: "change-password",
		summary: "Change your own password; other sessions and tokens of yours end", role: role.Viewer, tag: "people",
		status: 204,
	}, s.changePassword)

	register(s, operation{
		method: "GET", path: "/tokens", id: "list-tokens", summary: "Your bearer tokens",
		role: role.Viewer, tag: "people",
	},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.Token]], error) {
			rows, err := store.Tokens(s.store.DB.WithContext(ctx), whoever(ctx).ID)
			return ok(client.Page[client.Token]{Items: each(rows,
				func(t store.Token) client.Token { return token(whoever(ctx), t) })}, err)
		})
	register(s, operation{
		method: "POST", path: "/tokens", id: "make-token", made: "/tokens/{id}",
		status:  201,
		summary: "Make a bearer token; its secret is shown this once", role: role.Viewer, on: onOneself, tag: "people",
	},
		func(ctx context.Context, in *struct{ Body client.NewToken }) (*body[client.MadeToken], error) {
			made, err := s.makeToken(ctx, rightOf(ctx), in.Body, time.Duration(in.Body.Days)*24*time.Hour)
			return ok(made, err)
		})
	register(s, operation{
		method: "DELETE", path: "/tokens/{id}", id: "revoke-token",
		summary: "Revoke a bearer token and those that it made", role: role.Viewer, on: onOneself, tag: "people",
		status: 204,
	}, s.revokeToken)

	register(s, operation{
		method: "GET", path: "/accounts", id: "list-accounts", summary: "All accounts",
		role: role.Administrator, tag: "people",
	},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.Account]], error) {
			rows, err := store.Accounts(s.store.DB.WithContext(ctx))
			return ok(client.Page[client.Account]{Items: each(rows, accountOut)}, err)
		})
	register(s, operation{
		method: "POST", path: "/accounts", id: "add-account", made: "/accounts/{name}", summary: "Add an account",
		status: 201,
		role:   role.Administrator, tag: "people",
	},
		func(ctx context.Context, in *struct{ Body client.NewAccount }) (*body[client.Account], error) {
			var a store.Account
			var err error
			if gerr := s.guard.compute(ctx, func() {
				a, err = AddAccount(ctx, s.engine, actor(ctx),
					in.Body)
			}); gerr != nil {
				return nil, gerr
			}
			return ok(accountOut(a), err)
		})
	register(s, operation{
		method: "PATCH", path: "/accounts/{name}", id: "edit-account", summary: "Change an account",
		role: role.Administrator, tag: "people",
	}, s.editAccount)
}

// AddAccount adds an account. It is also how the command line makes the first one.
func AddAccount(ctx context.Context, e *engine.Engine, by string, in client.NewAccount) (a store.Account, err error) {
	if !slices.Contains(role.Roles(), in.Role) {
		return a, &problem.Problem{Type: problem.InvalidRequest, Detail: "role " + strconv.Quote(string(in.Role)) +
			" is not known: use " + strings.Join(each(role.Roles(), func(r role.Role) string { return string(r) }),
			", ")}
	}
	if err := fits(in); err != nil {
		return a, err
	}
	hashed, err := hashPassword(in.Password, in.Name, in.Title)
	if err != nil {
		return a, err
	}
	err = e.Store.Change(ctx, by, e.Clock.Now(), func(tx *store.Tx) error {
		a = store.Account{Name: in.Name, Title: in.Title, Role: in.Role, Password: hashed, CreatedAt: tx.Now}
		added, err := tx.AddAccount(&a)
		if err != nil {
			return err
		}
		if !added {
			return &problem.Problem{Type: problem.NameTaken, Detail: "there is an account " + in.Name + " already"}
		}
		tx.Record(store.Entry{
			Verb: "account.add", Subject: "account " + a.Name,
			Detail: map[string]any{"role": a.Role},
		})
		return nil
	})
	return a, err
}

func (s *Server) editAccount(ctx context.Context, in *struct {
	Name string `path:"name"`
	Body client.AccountEdit
},
) (*body[client.Account], error) {
	hashed := ""
	if in.Body.Password != nil {
		var err error
		if hashed, err = s.hashed(ctx, *in.Body.Password, in.Name); err != nil {
			return nil, err
		}
	}
	var a store.Account
	err := s.store.Change(ctx, actor(ctx), s.engine.Clock.Now(), func(tx *store.Tx) error {
		var administrators []store.Account
		var err error
		if a, administrators, err = store.LockAccount(tx.DB, in.Name); err != nil {
			return err
		}
		detail := map[string]any{}
		if in.Body.Title != nil {
			a.Title, detail["title"] = *in.Body.Title, *in.Body.Title
		}
		if in.Body.Role != nil {
			a.Role, detail["role"] = *in.Body.Role, *in.Body.Role
		}
		if in.Body.Disabled != nil {
			a.Disabled, detail["disabled"] = *in.Body.Disabled, *in.Body.Disabled
		}
		if hashed != "" {
			a.Password, detail["password"] = hashed, "changed"
		}
		if hashed != "" || a.Disabled {
			// Who knew the old password, or was signed in, is signed out everywhere, for good.
			if err := tx.EndCredentials(a.ID, nil); err != nil {
				return err
			}
		}
		if a.Disabled || a.Role != role.Administrator {
			if a.Name == actor(ctx) {
				return &problem.Problem{
					Type:   problem.WrongState,
					Detail: "you cannot take your own rights away: let another administrator do it",
				}
			}
			if !slices.ContainsFunc(administrators, func(o store.Account) bool { return o.ID != a.ID }) {
				return &problem.Problem{Type: problem.WrongState, Detail: a.Name +
					" is the last administrator: make another one first"}
			}
		}
		tx.Record(store.Entry{Verb: "account.edit", Subject: "account " + a.Name, Detail: detail})
		return tx.Save(&a).Error
	})
	return ok(accountOut(a), err)
}

func (s *Server) cookie(value string, age int) http.Cookie {
	return http.Cookie{
		Name: sessionCookie, Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.secure,
		SameSite: http.SameSiteStrictMode,
	}
}

func (s *Server) whoAmI(ctx context.Context, _ *empty) (*body[client.SignedIn], error) {
	r := rightOf(ctx)
	out := client.SignedIn{Account: accountOut(r.account)}
	if r.session != nil {
		out.CSRF = r.session.CSRF
	}
	return ok(out, nil)
}

func (s *Server) signOut(ctx context.Context, _ *empty) (*struct {
	Cookie http.Cookie `header:"Set-Cookie"`
}, error,
) {
	r := rightOf(ctx)
	err := s.store.Change(ctx, r.account.Name, s.engine.Clock.Now(), func(tx *store.Tx) error {
		tx.Record(store.Entry{Verb: "account.sign-out", Subject: "account " + r.account.Name})
		if r.token != nil {
			_, err := tx.RevokeToken(r.token.ID)
			return err
		}
		return tx.EndSession(r.secret())
	})
	return &struct {
		Cookie http.Cookie `header:"Set-Cookie"`
	}{s.cookie("", -1)}, err
}

// makeToken makes a token by a right, which it cannot go beyond. It lasts as
// long as is asked for, or 0 for what is usual.
func (s *Server) makeToken(ctx context.Context, by right, in client.NewToken,
	lasts time.Duration,
) (made client.MadeToken, err error) {
	now := time.Now().UTC()
	row := store.Token{
		AccountID: by.account.ID, Name: in.Name, Role: in.Role, Pools: in.Pools, Images: in.Images,
		CreatedAt: now,
	}
	if in.Role != "" && !by.account.Role.Has(in.Role) {
		return made, problem.Forbidden.Errorf("a token cannot have more rights than its creator, whose role is %s",
			by.account.Role)
	}
	db := s.store.DB.WithContext(ctx)
	for _, name := range in.Images {
		if _, err := store.ImageNamed(db, name); err != nil {
			return made, err
		}
		if !by.mayChange("", name) {
			return made, problem.TokenScope.Errorf("this token is for %s only, and cannot create tokens for more",
				narrowing(*by.token))
		}
	}
	if by.token != nil {
		if err := s.reachPools(ctx, in.Pools); err != nil {
			return made, err
		}
		row.ParentID = &by.token.ID
		if row.Role == "" {
			row.Role = by.token.Role
		}
		if !row.Narrowed() {
			row.Pools, row.Images = by.token.Pools, by.token.Images
		}
		if lasts == 0 {
			lasts = by.token.ExpiresAt.Sub(now)
		}
	}
	for _, name := range in.Pools {
		if _, err := store.PoolNamed(db, name); err != nil {
			return made, err
		}
	}
	if lasts == 0 {
		lasts = usualToken
	}
	row.ExpiresAt = now.Add(lasts)
	if by.token != nil && row.ExpiresAt.After(by.token.ExpiresAt) {
		return made, &problem.Problem{
			Type: problem.TokenScope,
			Detail: "a token cannot create a token that expires later than itself: this token expires on " +
				by.token.ExpiresAt.UTC().Format(time.DateTime) +
				" UTC; sign in with your password to make one that lasts longer",
		}
	}
	secret := "np_" + store.NewSecret()
	row.Secret = store.Digest(secret)
	err = s.store.Change(ctx, by.account.Name, s.engine.Clock.Now(), func(tx *store.Tx) error {
		if by.token != nil {
			if _, err := store.LockToken(tx.DB, by.token.ID); err != nil {
				return problem.NotSignedIn.Errorf("the token was revoked")
			}
		}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		detail := map[string]any{"name": in.Name, "expires": row.ExpiresAt.Format(time.DateTime)}
		if row.Role != "" {
			detail["role"] = row.Role
		}
		if row.Narrowed() {
			detail["for"] = narrowing(row)
		}
		if row.ParentID != nil {
			detail["made_by_token"] = *row.ParentID
		}
		tx.Record(store.Entry{Verb: "token.make", Subject: "token " + itoa(row.ID), Detail: detail})
		return nil
	})
	return client.MadeToken{Token: token(by.account, row), Secret: secret}, err
}

// revokeToken ends a token: one of one's own, and of anybody's for
// administrators. A token that is part of what its account may ends itself and what it made only.
func (s *Server) revokeToken(ctx context.Context, in *struct {
	ID int64 `path:"id" minimum:"1"`
},
) (*empty, error) {
	r := rightOf(ctx)
	none := problem.NotFound.Errorf("you have no valid token %d", in.ID)
	return done(s.store.Change(ctx, r.account.Name, s.engine.Clock.Now(), func(tx *store.Tx) error {
		t, err := store.LockToken(tx.DB, in.ID)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return none
		case err != nil:
			return err
		case t.AccountID != r.account.ID && (r.account.Role != role.Administrator || !r.free()):
			return none
		case !r.free() && t.ID != r.token.ID && (t.ParentID == nil || *t.ParentID != r.token.ID):
			return problem.TokenScope.Errorf("a token can revoke only itself and the tokens it created")
		}
		n, err := tx.RevokeToken(in.ID)
		if err != nil {
			return err
		}
		tx.Record(store.Entry{
			Verb: "token.revoke", Subject: "token " + itoa(in.ID),
			Detail: map[string]any{"tokens": n},
		})
		return nil
	}))
}

func token(a store.Account, t store.Token) client.Token {
	out := client.Token{
		ID: t.ID, Account: a.Name, Name: t.Name, Role: t.Role, Pools: append([]string{}, t.Pools...),
		Images:    append([]string{}, t.Images...),
		CreatedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt, RevokedAt: t.RevokedAt,
	}
	if t.ParentID != nil {
		out.MadeBy = *t.ParentID
	}
	return out
}

func accountOut(a store.Account) client.Account {
	return client.Account{Name: a.Name, Title: a.Title, Role: a.Role, Disabled: a.Disabled, CreatedAt: a.CreatedAt}
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// each converts a list; an empty one is not nil, so that it is [] in JSON.
func each[A, B any](in []A, convert func(A) B) []B {
	out := make([]B, len(in))
	for i, a := range in {
		out[i] = convert(a)
	}
	return out
}
