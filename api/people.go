package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"gorm.io/gorm/clause"

	"nimblepane/client"
	"nimblepane/engine"
	"nimblepane/store"
)

const (
	sessionCookie = "nimblepane_session"
	csrfHeader    = "X-CSRF-Token"
	sessionLasts  = 12 * time.Hour
	signInToken   = 30 * 24 * time.Hour // how long a token made at sign-in lasts
)

var roles = []string{client.Viewer, client.Operator, client.Approver, client.Administrator}

// mayAct says whether a role has the rights of another.
func mayAct(role, needed string) bool {
	return slices.Index(roles, role) >= slices.Index(roles, needed)
}

type accountKey struct{}

// whoever returns the account that makes the request.
func whoever(ctx context.Context) store.Account {
	a, _ := ctx.Value(accountKey{}).(store.Account)
	return a
}

func actor(ctx context.Context) string { return whoever(ctx).Name }

func hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// authenticate finds out who makes the request, by bearer token or session
// cookie. A cookie changes something only together with its CSRF token. Who
// may do what is authorize's business.
func (s *Server) authenticate(c *gin.Context) {
	var account store.Account
	var err error
	now := time.Now() // Credentials expire by the real clock, whatever the product's shows
	db := s.store.DB.WithContext(c.Request.Context())
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		if account, _, err = store.AccountOfToken(db, hash(token), now); err != nil {
			s.refuse(c, err, "the token is not known, or was revoked, or has expired: sign in again")
			return
		}
	} else if cookie, cookieErr := c.Cookie(sessionCookie); cookieErr == nil && cookie != "" {
		var session store.ConsoleSession
		if account, session, err = store.AccountOfSession(db, hash(cookie), now); err != nil && !errors.Is(err, store.ErrNotFound) {
			s.refuse(c, err, "")
			return
		}
		safe := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
		if err == nil && !safe && c.GetHeader(csrfHeader) != session.CSRF && c.FullPath() != "/api/v1/session" {
			problem(c, http.StatusForbidden, "the request lacks the "+csrfHeader+" of the session")
			return
		}
	}
	if account.ID != 0 {
		c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), accountKey{}, account))
	}
	c.Next()
}

func (s *Server) refuse(c *gin.Context, err error, detail string) {
	if !errors.Is(err, store.ErrNotFound) {
		s.log.Error("cannot look up who asks", "err", err)
		problem(c, http.StatusServiceUnavailable, "the database does not answer")
		return
	}
	c.Header("WWW-Authenticate", "Bearer")
	problem(c, http.StatusUnauthorized, detail)
}

// authorize lets an operation through if the account has its role.
func (s *Server) authorize(ctx huma.Context, next func(huma.Context)) {
	role, _ := ctx.Operation().Metadata["role"].(string)
	account := whoever(ctx.Context())
	switch {
	case role == "":
	case account.ID == 0:
		ctx.SetHeader("WWW-Authenticate", "Bearer")
		_ = huma.WriteErr(s.api, ctx, http.StatusUnauthorized, "sign in first: pane sign-in, or POST /api/v1/session")
		return
	case !mayAct(account.Role, role):
		_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, account.Name+" has the role "+account.Role+"; this needs "+role)
		return
	}
	next(ctx)
}

// idempotent answers a repeated POST with what the first one was answered, if
// both carry the same Idempotency-Key.
func (s *Server) idempotent(c *gin.Context) {
	key := c.GetHeader("Idempotency-Key")
	account := whoever(c.Request.Context())
	if key == "" || c.Request.Method != http.MethodPost || account.ID == 0 {
		c.Next()
		return
	}
	if len(key) > 100 {
		problem(c, http.StatusUnprocessableEntity, "the Idempotency-Key has more than 100 characters")
		return
	}
	in, err := io.ReadAll(c.Request.Body)
	if err != nil {
		problem(c, http.StatusRequestEntityTooLarge, "at most "+itoa(bodyLimit)+" bytes are taken")
		return
	}
	c.Request.Body = io.NopCloser(bytes.NewReader(in))
	sum := sha256.Sum256(append([]byte(c.Request.URL.Path+"\n"), in...))
	row := store.SavedReply{AccountID: account.ID, Key: key, Request: hex.EncodeToString(sum[:]), CreatedAt: time.Now()}
	db := s.store.DB.WithContext(context.WithoutCancel(c.Request.Context()))
	made := db.Clauses(clause.OnConflict{DoNothing: true}).Create(&row)
	if made.Error != nil {
		s.refuse(c, made.Error, "")
		return
	}
	if made.RowsAffected == 0 {
		var first store.SavedReply
		if err := db.Where("account_id = ? and key = ?", account.ID, key).Take(&first).Error; err != nil {
			s.refuse(c, err, "")
			return
		}
		switch {
		case first.Request != row.Request:
			problem(c, http.StatusUnprocessableEntity, "the Idempotency-Key was used for another request")
		case first.Status == 0:
			problem(c, http.StatusConflict, "the first request with this Idempotency-Key is still being worked on, or was lost with its process: look whether it did its work")
		default:
			c.Header("Idempotent-Replay", "true")
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
		db.Delete(&row)
		return
	}
	row.Status, row.Body = out.Status(), out.body.Bytes()
	if err := db.Save(&row).Error; err != nil {
		s.log.Error("cannot keep an answer", "err", err)
	}
}

type copied struct {
	gin.ResponseWriter
	body bytes.Buffer
}

func (c *copied) Write(b []byte) (int, error) {
	c.body.Write(b)
	return c.ResponseWriter.Write(b)
}

// tries slows down guessing: after five wrong passwords for a name the next
// try has to wait.
type tries struct {
	mu    sync.Mutex
	wrong map[string]struct {
		n    int
		last time.Time
	}
}

const (
	triesFree = 5
	triesWait = 30 * time.Second
)

func newTries() *tries {
	return &tries{wrong: map[string]struct {
		n    int
		last time.Time
	}{}}
}

func (t *tries) mayTry(name string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	w := t.wrong[name]
	return w.n < triesFree || time.Since(w.last) > triesWait
}

func (t *tries) result(name string, right bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if right {
		delete(t.wrong, name)
		return
	}
	if len(t.wrong) > 10_000 {
		clear(t.wrong) // somebody tries names at random; forgetting is better than growing
	}
	w := t.wrong[name]
	w.n++
	w.last = time.Now()
	t.wrong[name] = w
}

// noAccount is compared with when a name is unknown, so that the time taken does not tell.
const noAccount = "$argon2id$v=19$m=65536,t=1,p=2$c29tZXNhbHRzb21lc2FsdA$Zm9yIG5vYm9keSBhdCBhbGwsIGZvciBubyBvbmUgMTI"

// HashPassword returns the password as it is kept: argon2id in PHC format.
func HashPassword(password string) (string, error) {
	return argon2id.CreateHash(password, &argon2id.Params{Memory: 64 * 1024, Iterations: 1, Parallelism: 2, SaltLength: 16, KeyLength: 32})
}

type signedIn struct {
	Cookie http.Cookie `header:"Set-Cookie"`
	Body   client.SignedIn
}

func (s *Server) people() {
	register(s, operation{method: "GET", path: "/status", id: "status", summary: "What service this is and what time it is there", role: client.Viewer, tag: "service"},
		func(ctx context.Context, _ *empty) (*body[client.Status], error) {
			rate := s.engine.Clock.Rate()
			_, practice := s.engine.Clock.(*engine.PracticeClock)
			return ok(client.Status{Version: s.version, Practice: practice, Now: s.engine.Clock.Now(), Rate: rate}, nil)
		})
	register(s, operation{method: "POST", path: "/session", id: "sign-in", summary: "Sign in: get a session cookie, or a bearer token", tag: "people"}, s.signIn)
	register(s, operation{method: "GET", path: "/session", id: "who-am-i", summary: "Who is signed in", role: client.Viewer, tag: "people"}, s.whoAmI)
	register(s, operation{method: "DELETE", path: "/session", id: "sign-out", summary: "Sign out: end the session, or revoke the token", role: client.Viewer, tag: "people", status: 204}, s.signOut)

	register(s, operation{method: "GET", path: "/tokens", id: "list-tokens", summary: "Your bearer tokens", role: client.Viewer, tag: "people"},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.Token]], error) {
			var rows []store.Token
			err := s.store.DB.WithContext(ctx).Where("account_id = ?", whoever(ctx).ID).Order("id desc").Find(&rows).Error
			return ok(client.Page[client.Token]{Items: each(rows, func(t store.Token) client.Token { return token(whoever(ctx), t) })}, err)
		})
	register(s, operation{method: "POST", path: "/tokens", id: "make-token", summary: "Make a bearer token; its secret is shown this once", role: client.Viewer, tag: "people"},
		func(ctx context.Context, in *struct{ Body client.NewToken }) (*body[client.MadeToken], error) {
			made, err := s.makeToken(ctx, whoever(ctx), in.Body.Name, time.Duration(in.Body.Days)*24*time.Hour)
			return ok(made, err)
		})
	register(s, operation{method: "DELETE", path: "/tokens/{id}", id: "revoke-token", summary: "Revoke a bearer token", role: client.Viewer, tag: "people", status: 204},
		func(ctx context.Context, in *struct {
			ID int64 `path:"id"`
		},
		) (*empty, error) {
			return done(s.store.Change(ctx, actor(ctx), s.engine.Clock.Now(), func(tx *store.Tx) error {
				q := tx.Model(&store.Token{}).Where("id = ? and revoked_at is null", in.ID)
				if whoever(ctx).Role != client.Administrator {
					q = q.Where("account_id = ?", whoever(ctx).ID)
				}
				if r := q.Update("revoked_at", time.Now()); r.Error != nil || r.RowsAffected == 0 {
					return errors.Join(r.Error, huma.Error404NotFound("you have no token "+itoa(in.ID)+" that is still good"))
				}
				tx.Record(store.Entry{Verb: "token.revoke", Subject: "token " + itoa(in.ID)})
				return nil
			}))
		})

	register(s, operation{method: "GET", path: "/accounts", id: "list-accounts", summary: "All accounts", role: client.Administrator, tag: "people"},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.Account]], error) {
			var rows []store.Account
			err := s.store.DB.WithContext(ctx).Order("name").Find(&rows).Error
			return ok(client.Page[client.Account]{Items: each(rows, accountOut)}, err)
		})
	register(s, operation{method: "POST", path: "/accounts", id: "add-account", summary: "Add an account", role: client.Administrator, tag: "people"},
		func(ctx context.Context, in *struct{ Body client.NewAccount }) (*body[client.Account], error) {
			a, err := AddAccount(ctx, s.engine, actor(ctx), in.Body)
			return ok(accountOut(a), err)
		})
	register(s, operation{method: "PATCH", path: "/accounts/{name}", id: "edit-account", summary: "Change an account", role: client.Administrator, tag: "people"}, s.editAccount)
}

// AddAccount adds an account. It is also how the command line makes the first one.
func AddAccount(ctx context.Context, e *engine.Engine, by string, in client.NewAccount) (a store.Account, err error) {
	if !slices.Contains(roles, in.Role) {
		return a, &engine.Problem{Kind: engine.Invalid, Text: "role " + strconv.Quote(in.Role) + " is not known: use " + strings.Join(roles, ", ")}
	}
	if len(in.Password) < 10 {
		return a, &engine.Problem{Kind: engine.Invalid, Text: "the password has fewer than 10 characters"}
	}
	hashed, err := HashPassword(in.Password)
	if err != nil {
		return a, err
	}
	err = e.Store.Change(ctx, by, e.Clock.Now(), func(tx *store.Tx) error {
		a = store.Account{Name: in.Name, Title: in.Title, Role: in.Role, Password: hashed, CreatedAt: tx.Now}
		made := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&a)
		if made.Error != nil {
			return made.Error
		}
		if made.RowsAffected == 0 {
			return &engine.Problem{Kind: engine.Conflict, Text: "there is an account " + in.Name + " already"}
		}
		tx.Record(store.Entry{Verb: "account.add", Subject: "account " + a.Name, Detail: map[string]any{"role": a.Role}})
		return nil
	})
	return a, err
}

func (s *Server) editAccount(ctx context.Context, in *struct {
	Name string `path:"name"`
	Body client.AccountEdit
},
) (*body[client.Account], error) {
	var a store.Account
	hashed := ""
	if in.Body.Password != nil {
		var err error
		if hashed, err = HashPassword(*in.Body.Password); err != nil {
			return nil, err
		}
	}
	err := s.store.Change(ctx, actor(ctx), s.engine.Clock.Now(), func(tx *store.Tx) (err error) {
		if a, err = store.AccountNamed(tx.DB.Clauses(clause.Locking{Strength: "UPDATE"}), in.Name); err != nil {
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
			// Who knew the old password is signed out everywhere.
			if err := errors.Join(tx.Exec("delete from console_sessions where account_id = ?", a.ID).Error,
				tx.Exec("update tokens set revoked_at = now() where account_id = ? and revoked_at is null", a.ID).Error); err != nil {
				return err
			}
		}
		if a.Name == actor(ctx) && (a.Disabled || a.Role != client.Administrator) {
			return &engine.Problem{Kind: engine.Conflict, Text: "you cannot take your own rights away: let another administrator do it"}
		}
		tx.Record(store.Entry{Verb: "account.edit", Subject: "account " + a.Name, Detail: detail})
		return tx.Save(&a).Error
	})
	return ok(accountOut(a), err)
}

func (s *Server) signIn(ctx context.Context, in *struct{ Body client.SignIn }) (*signedIn, error) {
	if !s.tries.mayTry(in.Body.Name) {
		return nil, huma.NewError(http.StatusTooManyRequests, "too many wrong passwords for this name: wait half a minute")
	}
	a, err := store.AccountNamed(s.store.DB.WithContext(ctx), in.Body.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	known := err == nil && !a.Disabled
	if !known {
		a.Password = noAccount
	}
	right, _ := argon2id.ComparePasswordAndHash(in.Body.Password, a.Password)
	s.tries.result(in.Body.Name, right && known)
	if !right || !known {
		return nil, huma.Error401Unauthorized("name or password is wrong, or the account is disabled")
	}
	out := &signedIn{Body: client.SignedIn{Account: accountOut(a)}}
	if in.Body.Token != "" {
		made, err := s.makeToken(context.WithValue(ctx, accountKey{}, a), a, in.Body.Token, signInToken)
		out.Body.Token = made.Secret
		return out, err
	}
	secret := engine.NewSecret()
	out.Body.CSRF = engine.NewSecret()
	now := time.Now()
	err = s.store.Change(ctx, a.Name, s.engine.Clock.Now(), func(tx *store.Tx) error {
		tx.Record(store.Entry{Verb: "account.sign-in", Subject: "account " + a.Name})
		if err := tx.Exec("delete from console_sessions where expires_at < ?", now).Error; err != nil {
			return err
		}
		return tx.Create(&store.ConsoleSession{Secret: hash(secret), AccountID: a.ID, CSRF: out.Body.CSRF, CreatedAt: now, ExpiresAt: now.Add(sessionLasts)}).Error
	})
	out.Cookie = s.cookie(secret, int(sessionLasts.Seconds()))
	return out, err
}

func (s *Server) cookie(value string, age int) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteStrictMode}
}

type Credentials struct {
	Authorization string `header:"Authorization" hidden:"true"`
	Session       string `cookie:"nimblepane_session" hidden:"true"`
}

func (s *Server) whoAmI(ctx context.Context, in *Credentials) (*body[client.SignedIn], error) {
	out := client.SignedIn{Account: accountOut(whoever(ctx))}
	if in.Authorization == "" {
		_, session, err := store.AccountOfSession(s.store.DB.WithContext(ctx), hash(in.Session), time.Now())
		if err != nil {
			return nil, err
		}
		out.CSRF = session.CSRF
	}
	return ok(out, nil)
}

func (s *Server) signOut(ctx context.Context, in *Credentials) (*struct {
	Cookie http.Cookie `header:"Set-Cookie"`
}, error,
) {
	err := s.store.Change(ctx, actor(ctx), s.engine.Clock.Now(), func(tx *store.Tx) error {
		tx.Record(store.Entry{Verb: "account.sign-out", Subject: "account " + actor(ctx)})
		if t, ok := strings.CutPrefix(in.Authorization, "Bearer "); ok {
			return tx.Model(&store.Token{}).Where("secret = ?", hash(t)).Update("revoked_at", time.Now()).Error
		}
		return tx.Where("secret = ?", hash(in.Session)).Delete(&store.ConsoleSession{}).Error
	})
	return &struct {
		Cookie http.Cookie `header:"Set-Cookie"`
	}{s.cookie("", -1)}, err
}

func (s *Server) makeToken(ctx context.Context, a store.Account, name string, lasts time.Duration) (made client.MadeToken, err error) {
	secret := "np_" + engine.NewSecret()
	row := store.Token{AccountID: a.ID, Name: name, Secret: hash(secret), CreatedAt: time.Now().UTC(), ExpiresAt: time.Now().UTC().Add(lasts)}
	err = s.store.Change(ctx, a.Name, s.engine.Clock.Now(), func(tx *store.Tx) error {
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		tx.Record(store.Entry{Verb: "token.make", Subject: "token " + itoa(row.ID), Detail: map[string]any{"name": name, "expires": row.ExpiresAt}})
		return nil
	})
	return client.MadeToken{Token: token(a, row), Secret: secret}, err
}

func token(a store.Account, t store.Token) client.Token {
	return client.Token{ID: t.ID, Account: a.Name, Name: t.Name, CreatedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt, RevokedAt: t.RevokedAt}
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
