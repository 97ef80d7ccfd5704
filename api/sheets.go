package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/builds"
	"nimblepane/store"
)

type SheetPath struct {
	Sheet string `path:"sheet"`
}

// sheetLimit is how large a request with a sheet may be, in bytes: its text grows when it is written as JSON.
const sheetLimit = 4 * sheet.MostBytes

func (s *Server) sheets() {
	register(s, operation{
		method: "GET", path: "/sheets", id: "list-sheets", role: role.Viewer, tag: "builds",
		summary: "Build sheets that are kept here, with the last build of each",
	},
		func(ctx context.Context, _ *struct{}) (*body[client.Page[client.Sheet]], error) {
			db := s.store.DB.WithContext(ctx)
			rows, err := store.SheetRows(db, "")
			if err != nil {
				return nil, err
			}
			from, err := store.Repositories(db)
			if err != nil {
				return nil, err
			}
			list := make([]client.Sheet, len(rows))
			for i, r := range rows {
				c, err := s.Builds.CheckSheet(db, builds.KeptOrder(r.Sheet))
				if err != nil {
					return nil, err
				}
				list[i] = sheetOut(r, c)
				if of, is := from[r.ID]; is {
					list[i].Repository = repositoryOut(of)
				}
			}
			return ok(client.Page[client.Sheet]{Items: list}, nil)
		})
	register(s, operation{
		method: "POST", path: "/sheets/check", on: onNothing, id: "check-sheet", role: role.Viewer, tag: "builds",
		summary: "What is wrong with a build sheet, and what a build of it does; nothing is kept", limit: sheetLimit,
	},
		func(ctx context.Context, in *struct{ Body client.SheetText }) (*body[client.SheetChecked], error) {
			o := builds.Order{Text: in.Body.Text, Values: in.Body.Values, Files: in.Body.Files}
			c, err := s.Builds.CheckSheet(s.store.DB.WithContext(ctx), o)
			return ok(checkedOut(c), err)
		})
	register(s, operation{
		method: "GET", path: "/sheets/{sheet}", id: "show-sheet", role: role.Viewer, tag: "builds",
		summary: "A build sheet that is kept here, with what is to be said of it",
	},
		func(ctx context.Context, in *SheetPath) (*etagged[client.WholeSheet], error) {
			return s.wholeSheet(ctx, in.Sheet)
		})
	register(s, operation{
		method: "PUT", path: "/sheets/{sheet}", on: onSheet, id: "save-sheet", role: role.Operator, tag: "builds",
		summary: "Keep a build sheet, right or not, unless somebody else has changed it", limit: sheetLimit,
	},
		func(ctx context.Context, in *struct {
			SheetPath
			IfMatch
			IfNoneMatch string `header:"If-None-Match" doc:"* in place of If-Match for a new sheet"`
			Body        client.SheetText
		},
		) (*savedSheet, error) {
			revisions, err := in.revisions()
			if strings.TrimSpace(in.IfNoneMatch) == "*" && in.Header == "" {
				revisions, err = engine.At(0), nil
			}
			if err != nil {
				return nil, err
			}
			o := builds.Order{Name: in.Sheet, Text: in.Body.Text, Files: in.Body.Files}
			saved, err := s.Builds.SaveSheet(ctx, actor(ctx), revisions, o, reaching(ctx))
			if err != nil {
				return nil, err
			}
			whole, err := s.wholeSheet(ctx, in.Sheet)
			if err != nil {
				return nil, err
			}
			out := &savedSheet{Status: http.StatusOK, ETag: whole.ETag, Body: whole.Body}
			if saved.Revision == 1 {
				out.Status = http.StatusCreated
			}
			return out, nil
		})
	register(s, operation{
		method: "DELETE", path: "/sheets/{sheet}", on: onSheet, id: "delete-sheet", dry: true, role: role.Operator,
		summary: "Forget a build sheet; builds of it stay", tag: "builds", status: 204,
	},
		func(ctx context.Context, in *struct {
			SheetPath
			IfMatch
		},
		) (*empty, error) {
			revisions, err := in.revisions()
			if err != nil {
				return nil, err
			}
			return done(s.Builds.DeleteSheet(ctx, actor(ctx), in.Sheet, revisions, reaching(ctx)))
		})
	register(s, operation{
		method: "POST", path: "/sheets/{sheet}/builds", on: onSheet, id: "build-sheet", made: "/builds/{id}",
		role:    role.Operator,
		summary: "Begin a build of a sheet that is kept here", tag: "builds", status: 202,
	},
		func(ctx context.Context, in *struct {
			SheetPath
			Body client.BuildSheet
		},
		) (*body[client.WholeBuild], error) {
			b, err := s.Builds.StartKept(ctx, actor(ctx), in.Sheet, in.Body.Values,
				time.Duration(in.Body.HoldSeconds)*time.Second, reaching(ctx))
			if err != nil {
				return nil, err
			}
			return ok(s.wholeBuild(ctx, b.ID))
		})
}

// reaching says whether the token reaches an image.
func reaching(ctx context.Context) func(image string) error {
	return func(image string) error { return reachImage(ctx, image) }
}

// savedSheet is the answer to a change of a sheet: 201 for a new one.
type savedSheet struct {
	Status int
	ETag   string `header:"ETag"`
	Body   client.WholeSheet
}

func (s *Server) wholeSheet(ctx context.Context, name string) (*etagged[client.WholeSheet], error) {
	db := s.store.DB.WithContext(ctx)
	kept, err := sheetRow(db, name)
	if err != nil {
		return nil, err
	}
	c, err := s.Builds.CheckSheet(db, builds.KeptOrder(kept.Sheet))
	if err != nil {
		return nil, err
	}
	w := client.WholeSheet{
		Sheet: sheetOut(kept, c), Text: kept.Text, Files: kept.Files.V, SheetChecked: checkedOut(c),
	}
	switch of, err := store.RepositoryOf(db, kept.ID); {
	case err == nil:
		w.Repository = repositoryOut(of)
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	}
	return &etagged[client.WholeSheet]{etag(w.Revision), w}, nil
}

// sheetRow returns one sheet with its last build.
func sheetRow(db *gorm.DB, name string) (store.SheetRow, error) {
	rows, err := store.SheetRows(db, name)
	if err != nil {
		return store.SheetRow{}, err
	}
	if len(rows) == 0 {
		_, err = store.SheetNamed(db, name) // which says what there is
		return store.SheetRow{}, err
	}
	return rows[0], nil
}

func sheetOut(r store.SheetRow, c builds.SheetCheck) client.Sheet {
	return client.Sheet{
		Name: r.Name, Image: r.Image, Steps: len(c.Read.Steps), Problems: len(c.Wrong) + len(c.Missing),
		Revision: r.Revision, ChangedBy: r.ChangedBy, ChangedAt: r.ChangedAt, Build: r.Build,
		BuildState: r.BuildState, BuildVersion: r.BuildVersion, Commit: r.Commit,
	}
}

func checkedOut(c builds.SheetCheck) client.SheetChecked {
	out := client.SheetChecked{
		Wrong: []client.SheetProblem{}, Unset: append([]string{}, c.Unset...),
		Missing: append([]string{}, c.Missing...), Explain: []string{}, Names: []client.SheetSource{},
		Wants: []client.SheetParameter{},
	}
	for _, w := range c.Wrong {
		out.Wrong = append(out.Wrong, client.SheetProblem(w))
	}
	for _, n := range c.Read.Sources() {
		out.Names = append(out.Names, client.SheetSource(n))
	}
	for _, name := range slices.Sorted(maps.Keys(c.Read.Parameters)) {
		out.Wants = append(out.Wants, parameterOut(name, c.Read))
	}
	switch {
	case len(c.Wrong) > 0:
	case len(c.Unset) > 0:
		out.Explain = c.Read.Explain()
	default:
		out.Explain = c.Sheet.Explain()
	}
	return out
}

func parameterOut(name string, s sheet.Sheet) client.SheetParameter {
	p := s.Parameters[name]
	out := client.SheetParameter{Name: name, Type: p.Type, About: p.About}
	value := p.Default
	if at, is := p.Sites[s.Machine.Site]; is {
		value = at
	}
	if out.Given = value != nil; out.Given {
		out.Value = fmt.Sprint(value)
	}
	for _, a := range p.Allowed {
		out.Allowed = append(out.Allowed, fmt.Sprint(a))
	}
	return out
}
