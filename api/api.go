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
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"nimblepane/client"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/strict"
	"nimblepane/engine"
	"nimblepane/engine/subjects"
	"nimblepane/engine/trouble"
	"nimblepane/store"
)

// Server answers requests. It is an http.Handler.
type Server struct {
	*subjects.Subjects
	engine  *engine.Engine
	store   *store.Store
	log     *slog.Logger
	version string
	secure  bool

	bodyWithin time.Duration
	bodyLimits map[string]int64 // of operations with one of their own, by method and path
	gin        *gin.Engine
	handler    http.Handler // gin, whose answers are compressed
	api        huma.API
	hub        *hub
	guard      *guard
	streams    *streams
	away       *trouble.Log // what is said of the database
}

// Options of a server.
type Options struct {
	Version string
	// Secure says that browsers reach the service by HTTPS: the session cookie is for that only.
	Secure bool
	// TrustedProxies are the addresses or networks (CIDR) of proxies that say truly whom they speak for.
	TrustedProxies []string
	// BodyWithin is how long the body of a request may take to come, 30 s if 0.
	BodyWithin time.Duration
	Console    fs.FS // the built console; nil for none
	Log        *slog.Logger
}

// New returns a server for the engine and its subjects. Its event stream lives until the context ends.
func New(ctx context.Context, e *engine.Engine, acts *subjects.Subjects, o Options) (*Server, error) {
	gin.SetMode(gin.ReleaseMode)
	s := &Server{
		Subjects: acts, engine: e, log: o.Log, version: o.Version, secure: o.Secure,
		bodyWithin: cmp.Or(o.BodyWithin, bodyWithin), bodyLimits: map[string]int64{},
		gin: gin.New(), hub: newHub(), guard: newGuard(), streams: &streams{byName: map[string]int{}},
		away: trouble.New(o.Log),
	}
	if e != nil {
		s.store = e.Store
		go s.hub.run(ctx, e.Store, o.Log)
	}
	s.gin.HandleMethodNotAllowed = true
	s.gin.NoMethod(wrongMethod)
	if err := s.gin.SetTrustedProxies(o.TrustedProxies); err != nil {
		return nil, fmt.Errorf("trusted proxies: %w", err)
	}
	s.gin.Use(counted, gin.CustomRecovery(s.recovered), s.headers, requireValidText, s.limitBody)
	s.gin.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	s.gin.GET("/readyz", s.ready)
	s.problems()
	s.agents()
	s.describe()
	s.events()
	s.console(o.Console)
	var err error
	s.handler, err = compressed(s.gin)
	return s, err
}

func (s *Server) recovered(c *gin.Context, cause any) {
	s.log.Error("a request failed badly", "path", c.Request.URL.Path, "cause", cause)
	abort(c, problem.Internal, failed)
}

func (s *Server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 2*time.Second)
	defer cancel()
	if err := s.store.Ready(ctx); err != nil {
		abort(c, problem.Unavailable, "the database does not answer")
		return
	}
	c.String(http.StatusOK, "ready\n")
}

// openAPIPath is where the document is, with .json.
const openAPIPath = "/api/openapi"

// schemaPrefix is where the document has the schemas of types.
const schemaPrefix = "#/components/schemas/"

// describe registers every operation.
func (s *Server) describe() {
	config := huma.DefaultConfig("Nimble Pane", s.version)
	config.OpenAPIPath = openAPIPath
	config.DocsPath = ""
	config.SchemasPath = ""
	config.CreateHooks = nil
	config.RejectUnknownQueryParameters = true
	format := huma.Format{Marshal: huma.DefaultJSONFormat.Marshal, Unmarshal: strict.Unmarshal}
	config.Formats = map[string]huma.Format{"application/json": format, "json": format}
	config.Info.Description = "Golden images, versions, tracks, pools and rollovers of virtual desktops. Times are " +
		"RFC 3339 in UTC; errors are problem details (RFC 9457)."
	config.Components.Schemas = huma.NewMapRegistry(schemaPrefix, schemaName)
	enumerate(config.Components.Schemas)
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"console": {Type: "apiKey", In: "cookie", Name: sessionCookie},
	}
	config.Servers = []*huma.Server{{URL: "/", Description: "The service that serves this document"}}
	config.Tags = tags
	config.Security = []map[string][]string{{"token": {}}, {"console": {}}}
	group := s.gin.Group("/", reachable, s.authenticate, s.idempotent, dryRun, unchanged)
	s.api = humagin.NewWithGroup(s.gin, group, config)
	s.api.UseMiddleware(s.authorize)
	s.accounts()
	s.estate()
	s.versions()
	s.software()
	s.deliveries()
	s.flaws()
	s.retention()
	s.provenance()
	s.fleet()
	s.builds()
	s.proofs()
	s.rollovers()
	s.trail()
	s.previews()
	s.others()
}

// OpenAPI returns the description of the API as JSON.
func (s *Server) OpenAPI() ([]byte, error) { return s.api.OpenAPI().MarshalJSON() }

// Describe returns the description of the API without a service behind it.
func Describe(version string) ([]byte, error) {
	s, err := New(context.Background(), nil, &subjects.Subjects{},
		Options{Version: version, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, err
	}
	return s.OpenAPI()
}

type operation struct {
	method, path, id, summary string
	role                      role.Role // least role that may, "" for nobody in particular: no sign-in needed
	on                        scope     // what it changes, if it changes something
	tag                       string
	status                    int    // 200 if 0
	limit                     int64  // of the body in bytes, bodyLimit if 0
	made                      string // path of what it creates, with parameters of its path or keys of its answer
	media                     string // type of an answer that is no JSON
	dry                       bool   // all that it does is a change of the engine: it can be tried with Dry-Run
}

// register adds an operation with its role.
func register[I, O any](s *Server, o operation, handle func(context.Context, *I) (*O, error)) {
	op := huma.Operation{
		Method: o.method, Path: "/api/v1" + o.path, OperationID: o.id, Summary: o.summary, Tags: []string{o.tag},
		DefaultStatus: o.status, MaxBodyBytes: cmp.Or(o.limit, bodyLimit),
		Metadata: map[string]any{"role": o.role, "on": o.on},
		Errors:   []int{http.StatusUnprocessableEntity},
	}
	if o.limit > 0 {
		s.bodyLimits[o.method+" "+strings.NewReplacer("{", ":", "}", "").Replace(op.Path)] = o.limit
	}
	op.BodyReadTimeout = s.bodyWithin
	if o.limit > bodyLimit {
		op.BodyReadTimeout = fileWithin
	}
	if o.role == "" {
		op.Security = []map[string][]string{}
	} else {
		op.Description = "Needs the role " + string(o.role) + " or one above it."
		op.Errors = append(op.Errors, http.StatusUnauthorized, http.StatusForbidden)
	}
	if strings.Contains(o.path, "{") {
		op.Errors = append(op.Errors, http.StatusNotFound)
	}
	if o.method != http.MethodGet {
		op.Errors = append(op.Errors, http.StatusConflict)
	}
	filters := filtersOf(reflect.TypeFor[I]())
	if len(filters) > 0 && !slices.Contains(op.Errors, http.StatusNotFound) {
		op.Errors = append(op.Errors, http.StatusNotFound)
	}
	links := linksOf(o, &op, reflect.TypeFor[I](), reflect.TypeFor[O]())
	if o.method == http.MethodPost && o.role != "" {
		op.Parameters = append(op.Parameters, &huma.Param{
			Name: "Idempotency-Key", In: "header", Schema: &huma.Schema{Type: huma.TypeString, MaxLength: &longestKey},
			Description: "Chosen by the client, and new for each action. A repeated request with the same key gets " +
				"the response of the first request",
		})
	}
	if o.dry {
		op.Parameters = append(op.Parameters, &huma.Param{
			Name: dryRunHeader, In: "header", Schema: &huma.Schema{Type: huma.TypeString, Enum: []any{"true"}},
			Description: "Change nothing: respond with an empty object, or with the problem for which the request " +
				"would be refused",
		})
	}
	huma.Register(s.api, op, func(ctx context.Context, in *I) (out *O, err error) {
		dry, _ := engine.DryRun(ctx)
		if dry && !o.dry {
			return nil, details(&problem.Problem{
				Type: problem.NoDryRun, Detail: "this operation has no dry run: omit the header " + dryRunHeader,
			})
		}
		if len(filters) > 0 {
			err = exist(s.store.DB.WithContext(ctx), in, filters)
		}
		if err == nil {
			out, err = handle(ctx, in)
		}
		if dry {
			err = tried(ctx, err)
		}
		if err != nil {
			return nil, s.explain(o.id, err)
		}
		s.away.Worked(away)
		links.set(ctx, in, out)
		return out, nil
	})
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
