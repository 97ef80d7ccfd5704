package api

import (
	"context"
	"errors"

	"nimblepane/client"
	"nimblepane/core/flaw"
	"nimblepane/core/role"
	"nimblepane/engine/flaws"
	"nimblepane/engine/versions"
	"nimblepane/store"
)

// FlawListPath names a list of known flaws.
type FlawListPath struct {
	List string `path:"list"`
}

func (s *Server) flaws() {
	register(s, operation{
		method: "GET", path: "/flaw-lists", id: "list-flaw-lists", tag: "software", role: role.Viewer,
		summary: "The lists of known flaws that were loaded",
	},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.FlawList]], error) {
			rows, err := store.FlawLists(s.store.DB.WithContext(ctx))
			return ok(client.Page[client.FlawList]{Items: each(rows, flawListOut)}, err)
		})
	register(s, operation{
		method: "PUT", path: "/flaw-lists/{list}", id: "load-flaws", tag: "software", role: role.Operator,
		limit: flaw.MostOfList,
		summary: "Load a list of known flaws in the OSV format, a zip or one file, in place of the one that has the " +
			"name",
	},
		func(ctx context.Context, in *struct {
			FlawListPath
			RawBody []byte `contentType:"application/octet-stream"`
		},
		) (*body[client.FlawList], error) {
			l, err := s.Flaws.Load(ctx, actor(ctx), in.List, in.RawBody)
			return ok(flawListOut(l), err)
		})
	register(s, operation{
		method: "DELETE", path: "/flaw-lists/{list}", id: "delete-flaws", dry: true, tag: "software",
		role:    role.Operator,
		status:  204,
		summary: "Forget a list of known flaws, with what it said",
	},
		func(ctx context.Context, in *FlawListPath) (*empty, error) {
			return done(s.Flaws.Delete(ctx, actor(ctx), in.List))
		})
	register(s, operation{
		method: "POST", path: "/images/{image}/accept-unchecked", on: onImage, id: "accept-unchecked", tag: "images",
		role: role.Approver, status: 204,
		summary: "Accept, with a reason, that software of an ecosystem is not checked for known vulnerabilities",
	},
		func(ctx context.Context, in *struct {
			ImagePath
			Body client.AcceptUnchecked
		},
		) (*empty, error) {
			return done(s.Versions.AcceptUnchecked(ctx, actor(ctx), in.Image, versions.Acceptance(in.Body)))
		})
	register(s, operation{
		method: "GET", path: "/images/{image}/versions/{number}/flaws", id: "version-flaws", tag: "software",
		role: role.Viewer, summary: "The known flaws of what is in a version, the worst first",
	},
		func(ctx context.Context, in *VersionPath) (*body[client.VersionFlaws], error) {
			db := s.store.DB.WithContext(ctx)
			img, err := store.ImageNamed(db, in.Image)
			if err != nil {
				return nil, err
			}
			v, err := store.VersionNumbered(db, img, in.Number)
			if err != nil {
				return nil, err
			}
			out := client.VersionFlaws{
				Image: img.Name, Number: v.Number, Items: []flaw.Found{}, NotChecked: []flaw.Gap{},
			}
			known, err := flaws.Of(db, v)
			var not *flaws.NotLooked
			if errors.As(err, &not) {
				out.Unknown = not.Why
				return ok(out, nil)
			}
			out.Items, out.Serious = append(out.Items, known.Found...), len(flaw.Serious(known.Found))
			out.NotChecked = append(out.NotChecked, known.NotChecked...)
			return ok(out, err)
		})
}

func flawListOut(l store.FlawList) client.FlawList {
	return client.FlawList{
		Name: l.Name, Records: l.Records, Digest: l.Digest, LoadedAt: l.LoadedAt, LoadedBy: l.LoadedBy,
	}
}
