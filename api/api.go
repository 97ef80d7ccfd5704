// Package api serves the service over HTTP: the API under /api/v1, described
// by OpenAPI at /api/openapi.json; the event stream; the agents' protocol; and
// the console.
//
// Everything needs a sign-in but health, readiness, the API's description, the
// console's files, the sign-in itself and the agents, which have Credentials of
// their own. Errors are problem details (RFC 9457).
package api

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"nimblepane/client"
	"nimblepane/engine"
	"nimblepane/store"
)

// Server answers requests. It is an http.Handler.
type Server struct {
	engine  *engine.Engine
	store   *store.Store
	log     *slog.Logger
	version string
	secure  bool
	gin     *gin.Engine
	api     huma.API
	hub     *hub
	tries   *tries
}

// Options of a server.
type Options struct {
	Version string
	// Secure marks the session cookie for HTTPS only.
	Secure  bool
	Console fs.FS // the built console; nil for none
	Log     *slog.Logger
}

// bodyLimit is how large a request may be, in bytes.
const bodyLimit = 1 << 20

// New returns a server for the engine. Its event stream lives until the context ends.
func New(ctx context.Context, e *engine.Engine, o Options) *Server {
	gin.SetMode(gin.ReleaseMode)
	s := &Server{engine: e, log: o.Log, version: o.Version, secure: o.Secure, gin: gin.New(), hub: newHub(), tries: newTries()}
	if e != nil {
		s.store = e.Store
		go s.hub.run(ctx, e.Store, o.Log)
	}
	s.gin.Use(gin.CustomRecovery(s.recovered), limitBody, headers)
	s.gin.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	s.gin.GET("/readyz", s.ready)
	s.agents()
	s.describe()
	s.events()
	s.console(o.Console)
	return s
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.gin.ServeHTTP(w, r) }

func (s *Server) recovered(c *gin.Context, cause any) {
	s.log.Error("a request failed badly", "path", c.Request.URL.Path, "cause", cause)
	problem(c, http.StatusInternalServerError, "the service failed; its log says more")
}

func limitBody(c *gin.Context) {
	limit := int64(bodyLimit)
	if c.Request.Method == http.MethodPut && strings.HasSuffix(c.Request.URL.Path, "/file") {
		limit = fileLimit
	}
	if c.Request.ContentLength > limit {
		problem(c, http.StatusRequestEntityTooLarge, "the request has "+itoa(c.Request.ContentLength)+" bytes; at most "+itoa(limit)+" are taken")
		return
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, limit)
	c.Next()
}

func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
	c.Next()
}

func (s *Server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 2*time.Second)
	defer cancel()
	if err := s.store.Ready(ctx); err != nil {
		problem(c, http.StatusServiceUnavailable, "the database does not answer")
		return
	}
	c.String(http.StatusOK, "ready\n")
}

// problem answers with problem details and ends the request.
func problem(c *gin.Context, status int, detail string) {
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, huma.ErrorModel{Title: http.StatusText(status), Status: status, Detail: detail})
}

// describe registers every operation.
func (s *Server) describe() {
	config := huma.DefaultConfig("Nimble Pane", s.version)
	config.OpenAPIPath = "/api/openapi"
	config.DocsPath = ""
	config.SchemasPath = ""
	config.CreateHooks = nil
	config.Info.Description = "Golden images, versions, tracks, pools and rollovers of virtual desktops. Times are RFC 3339 in UTC; errors are problem details (RFC 9457)."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"console": {Type: "apiKey", In: "cookie", Name: sessionCookie},
	}
	config.Security = []map[string][]string{{"token": {}}, {"console": {}}}
	group := s.gin.Group("/", s.authenticate, s.idempotent)
	s.api = humagin.NewWithGroup(s.gin, group, config)
	s.api.UseMiddleware(s.authorize)
	s.people()
	s.estate()
	s.images()
	s.pools()
	s.machines()
	s.rollovers()
	s.trail()
}

// OpenAPI returns the description of the API as JSON.
func (s *Server) OpenAPI() ([]byte, error) { return s.api.OpenAPI().MarshalJSON() }

// Describe returns the description of the API without a service behind it.
func Describe(version string) ([]byte, error) {
	s := New(context.Background(), nil, Options{Version: version, Log: slog.New(slog.DiscardHandler)})
	return s.OpenAPI()
}

type operation struct {
	method, path, id, summary string
	role                      string // least role that may, "" for nobody in particular: no sign-in needed
	tag                       string
	status                    int   // 200 if 0
	limit                     int64 // of the body in bytes, bodyLimit if 0
}

// register adds an operation with its role.
func register[I, O any](s *Server, o operation, handle func(context.Context, *I) (*O, error)) {
	op := huma.Operation{
		Method: o.method, Path: "/api/v1" + o.path, OperationID: o.id, Summary: o.summary, Tags: []string{o.tag},
		DefaultStatus: o.status, MaxBodyBytes: cmp.Or(o.limit, bodyLimit), Metadata: map[string]any{"role": o.role},
		Errors: []int{http.StatusUnprocessableEntity},
	}
	if o.role == "" {
		op.Security = []map[string][]string{}
	} else {
		op.Description = "Needs the role " + o.role + " or one above it."
		op.Errors = append(op.Errors, http.StatusUnauthorized, http.StatusForbidden)
	}
	if strings.Contains(o.path, "{") {
		op.Errors = append(op.Errors, http.StatusNotFound)
	}
	if o.method != http.MethodGet {
		op.Errors = append(op.Errors, http.StatusConflict)
	}
	huma.Register(s.api, op, func(ctx context.Context, in *I) (*O, error) {
		out, err := handle(ctx, in)
		if err != nil {
			return nil, s.explain(o.id, err)
		}
		return out, nil
	})
}

// explain turns an error into problem details.
func (s *Server) explain(operation string, err error) error {
	var p *engine.Problem
	var already huma.StatusError
	switch {
	case errors.As(err, &already):
		return already
	case errors.As(err, &p):
		status := map[engine.Kind]int{
			engine.Invalid: http.StatusUnprocessableEntity, engine.Conflict: http.StatusConflict,
			engine.Uncleared: http.StatusConflict, engine.Stale: http.StatusPreconditionFailed,
			engine.Forbidden: http.StatusForbidden,
		}[p.Kind]
		details := make([]error, len(p.Reasons))
		for i, r := range p.Reasons {
			details[i] = &huma.ErrorDetail{Message: r}
		}
		return huma.NewError(status, p.Text, details...)
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "the caller went away")
	}
	s.log.Error("a request failed", "operation", operation, "err", err)
	return huma.Error500InternalServerError("the service failed; its log says more")
}

type empty struct{}

// body wraps an answer.
type body[T any] struct{ Body T }

func ok[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, err
	}
	return &body[T]{v}, nil
}

func done(err error) (*empty, error) {
	if err != nil {
		return nil, err
	}
	return &empty{}, nil
}

// Paging is how lists are asked for.
type Paging struct {
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200" doc:"Items of a page"`
	Cursor string `query:"cursor" doc:"Next of the page before"`
}

// page cuts a list that was asked for with one item more than the limit.
func page[T any](items []T, limit int, cursor func(T) string) client.Page[T] {
	p := client.Page[T]{Items: items}
	if len(items) > limit {
		p.Items = items[:limit]
		p.Next = cursor(p.Items[limit-1])
	}
	if p.Items == nil {
		p.Items = []T{}
	}
	return p
}

// console serves the built console, if there is one: its files, and its page
// for every path that is a page of it.
func (s *Server) console(files fs.FS) {
	s.gin.NoRoute(func(c *gin.Context) {
		path := strings.TrimPrefix(c.Request.URL.Path, "/")
		if files == nil || strings.HasPrefix(path, "api/") || strings.HasPrefix(path, "agent/") || c.Request.Method != http.MethodGet {
			problem(c, http.StatusNotFound, "there is nothing at "+c.Request.Method+" "+c.Request.URL.Path+"; the API is described at /api/openapi.json")
			return
		}
		if _, err := fs.Stat(files, path); err != nil || path == "" {
			c.Request.URL.Path = "/"
			c.Header("Cache-Control", "no-cache")
		} else if strings.HasPrefix(path, "assets/") {
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		http.FileServerFS(files).ServeHTTP(c.Writer, c.Request)
	})
}
