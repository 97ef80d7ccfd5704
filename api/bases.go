package api

import (
	"context"
	"time"

	"gorm.io/gorm"

	"nimblepane/client"
	"nimblepane/core/base"
	"nimblepane/core/feed"
	"nimblepane/core/role"
	"nimblepane/engine/bases"
	"nimblepane/engine/feeds"
	"nimblepane/store"
)

type BasePath struct {
	Base string `path:"base"`
}

func (s *Server) bases() {
	register(s, operation{
		method: "GET", path: "/bases", id: "list-bases", role: role.Viewer, tag: "bases",
		summary: "Disk images that versions are made from, those that were added last first",
	},
		func(ctx context.Context, in *struct {
			Gone bool `query:"gone" doc:"Also those that are retired"`
		},
		) (*body[client.Page[client.Base]], error) {
			db := s.store.DB.WithContext(ctx)
			rows, err := store.Bases(db, in.Gone)
			if err != nil {
				return nil, err
			}
			list := make([]client.Base, len(rows))
			for i, b := range rows {
				if list[i], err = baseOut(db, b); err != nil {
					return nil, err
				}
			}
			return ok(client.Page[client.Base]{Items: list}, nil)
		})
	register(s, operation{
		method: "GET", path: "/bases/{base}", id: "show-base", role: role.Viewer, tag: "bases",
		summary: "A base: how far it is, and what is in it",
	},
		func(ctx context.Context, in *BasePath) (*body[client.Base], error) {
			db := s.store.DB.WithContext(ctx)
			b, err := store.BaseNamed(db, in.Base)
			if err != nil {
				return nil, err
			}
			return ok(baseOut(db, b))
		})
	register(s, operation{
		method: "POST", path: "/bases", id: "bring-base", made: "/bases/{name}", role: role.Operator, tag: "bases",
		status:  201,
		summary: "Begin to bring in a disk image, from an address or in pieces that are sent next",
	},
		func(ctx context.Context, in *struct{ Body client.NewBase }) (*body[client.Base], error) {
			b, err := s.Bases.Begin(ctx, actor(ctx), bases.Request{
				Name: in.Body.Name, Labels: in.Body.Labels, File: in.Body.File, Address: in.Body.Address,
				Size: in.Body.Size, Expected: in.Body.SHA256, Feed: in.Body.Feed,
				Want: feed.Want{Labels: in.Body.Labels, Serial: in.Body.Serial},
			})
			if err != nil {
				return nil, err
			}
			return ok(baseOut(s.store.DB.WithContext(ctx), b))
		})
	register(s, operation{
		method: "PUT", path: "/bases/{base}/piece", id: "send-piece-of-base", role: role.Operator, tag: "bases",
		summary: "Send what comes next of a base's file", limit: pieceLimit,
	},
		func(ctx context.Context, in *struct {
			BasePath
			From    int64  `query:"from" required:"true" minimum:"0" doc:"Byte of the file that the piece begins with"`
			RawBody []byte `contentType:"application/octet-stream"`
		},
		) (*body[client.Base], error) {
			b, err := s.Bases.Piece(ctx, actor(ctx), in.Base, in.From, in.RawBody)
			if err != nil {
				return nil, err
			}
			return ok(baseOut(s.store.DB.WithContext(ctx), b))
		})
	register(s, operation{
		method: "POST", path: "/bases/{base}/retire", id: "retire-base", dry: true, role: role.Operator, tag: "bases",
		summary: "Give a base up: its disk is deleted here and at all sites, and its record stays",
	},
		func(ctx context.Context, in *struct {
			BasePath
			Body client.Reason
		},
		) (*body[client.Base], error) {
			b, err := s.Bases.Retire(ctx, actor(ctx), in.Base, in.Body.Reason)
			if err != nil {
				return nil, err
			}
			return ok(baseOut(s.store.DB.WithContext(ctx), b))
		})
}

// baseOut is a base with how fast it comes, which is measured by the real clock.
func baseOut(db *gorm.DB, b store.Base) (client.Base, error) {
	out := client.Base{
		ID: b.ID, Name: b.Name, Labels: b.Labels.V, State: b.State, Why: b.Why, File: b.File, Address: b.Address,
		Expected: b.Expected, Size: b.Size, Have: b.Have, SHA256: b.SHA256, Format: b.Format, Progress: b.Progress,
		Digest: b.Digest, Bytes: b.Bytes, Facts: b.Facts.V, AddedBy: b.AddedBy, AddedAt: b.AddedAt, EndedAt: b.EndedAt,
		Feed: b.Feed, Product: b.Product, Serial: b.Serial,
		Copies: []client.BaseCopy{},
	}
	took := b.CameAt.Sub(b.BeganAt).Seconds()
	if came := float64(b.Have - b.BeganHave); (b.State == base.Receiving || b.State == base.Fetching) && came > 0 &&
		took > 0 && time.Since(b.CameAt) < time.Minute {
		out.Rate = came / took
		if b.Size > 0 {
			out.Left = float64(b.Size-b.Have) / out.Rate
		}
	}
	of, newest, is, err := feeds.Newer(db, b)
	if err != nil {
		return out, err
	}
	if is {
		bases, err := store.BasesOfReleases(db)
		if err != nil {
			return out, err
		}
		o := offerOut(bases, of, newest)
		out.Newer = &o
	}
	copies, err := store.BaseCopies(db, b.ID)
	if err != nil {
		return out, err
	}
	for _, c := range copies {
		site, err := store.SiteByID(db, c.SiteID)
		if err != nil {
			return out, err
		}
		out.Copies = append(out.Copies, client.BaseCopy{
			Site: site.Name, State: c.State, Why: c.Why,
			Progress: c.Progress,
		})
	}
	return out, nil
}
