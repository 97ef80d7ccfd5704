package api

import (
	"context"
	"encoding/json"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/core/trail"
	"nimblepane/store"
)

type TrailQuery struct {
	Actor   string    `query:"actor"`
	Verb    string    `query:"verb" doc:"Such as version.activate, or version for all of a kind"`
	Subject string    `query:"subject" doc:"Such as host tc-007, or any word of it"`
	Scope   string    `query:"scope" doc:"Such as rollover 3"`
	From    time.Time `query:"from"`
	To      time.Time `query:"to"`
}

func (q TrailQuery) filter() store.TrailFilter {
	return store.TrailFilter{Actor: q.Actor, Verb: q.Verb, Subject: q.Subject, Scope: q.Scope, From: q.From, To: q.To}
}

func (s *Server) trail() {
	register(s, operation{
		method: "GET", path: "/trail", id: "list-trail", summary: "The audit trail, newest first",
		role: role.Viewer, tag: "trail",
	},
		func(ctx context.Context, in *struct {
			TrailQuery
			Paging
		},
		) (*body[client.Page[client.TrailEntry]], error) {
			f := in.filter()
			f.Limit = in.Limit + 1
			var err error
			if f.Before, err = before(in.Cursor); err != nil {
				return nil, err
			}
			rows, err := s.store.Trail(ctx, f)
			items := each(rows, func(r store.TrailRow) client.TrailEntry { return client.TrailEntry(r.Entry()) })
			return ok(page(items, in.Limit, func(e client.TrailEntry) string { return cursor(itoa(e.Seq)) }), err)
		})
	register(s, operation{
		method: "GET", path: "/trail/verify", id: "verify-trail",
		summary: "Walk the whole chain and say where it does not fit", role: role.Viewer, tag: "trail",
	},
		func(ctx context.Context, in *struct {
			Expect string `query:"expect" pattern:"^[0-9a-f]{64}$" doc:"Hash that an entry should have: that of the last one, when it was noted"`
		},
		) (*body[client.TrailVerdict], error) {
			v, err := s.store.VerifyTrail(ctx, in.Expect)
			return ok(client.TrailVerdict{
				Entries: v.Entries, Last: v.Last, Expected: v.Expected,
				Breaks: each(v.Breaks, func(b trail.Break) client.TrailBreak { return client.TrailBreak(b) }),
			}, err)
		})
	register(s, operation{
		method: "GET", path: "/trail/export", id: "export-trail", media: "application/jsonl",
		summary: "The audit trail as JSON Lines, oldest first", role: role.Viewer, tag: "trail",
	},
		func(_ context.Context, in *TrailQuery) (*huma.StreamResponse, error) {
			return &huma.StreamResponse{Body: func(c huma.Context) {
				c.SetHeader("Content-Type", "application/jsonl")
				enc := json.NewEncoder(c.BodyWriter())
				if err := s.store.EachTrail(c.Context(), in.filter(),
					func(e trail.Entry) error { return enc.Encode(e) }); err != nil {
					s.log.Error("the export of the trail broke off", "err", err)
				}
			}}, nil
		})
}
