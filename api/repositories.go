package api

import (
	"cmp"
	"context"
	"time"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/core/secret"
	"nimblepane/engine/repositories"
	"nimblepane/store"
)

// announcementLimit is how large the body of an announcement may be, in bytes: those of a push name its commits.
const announcementLimit = 5 << 20

func (s *Server) repositories() {
	register(s, operation{
		method: "PUT", path: "/sheets/{sheet}/repository", on: onSheet, id: "follow-repository", role: role.Operator,
		summary: "Have a kept sheet follow one in a git repository", tag: "builds",
	},
		func(ctx context.Context, in *struct {
			SheetPath
			Body client.NewRepository
		},
		) (*etagged[client.WholeSheet], error) {
			b := in.Body
			if _, err := s.Repositories.Follow(ctx, actor(ctx), in.Sheet, repositories.Request{
				Address: b.Address, Branch: b.Branch, Tag: b.Tag, Commit: b.Commit, Folder: b.Folder, File: b.File,
				Credential: store.Credential{
					User: b.User, Password: given(b.Password), Key: given(b.Key), KnownHosts: given(b.KnownHosts),
				},
				Announced: given(b.Announced), Every: time.Duration(b.Every) * time.Second,
			}, reaching(ctx)); err != nil {
				return nil, err
			}
			return s.wholeSheet(ctx, in.Sheet)
		})
	register(s, operation{
		method: "DELETE", path: "/sheets/{sheet}/repository", on: onSheet, id: "unfollow-repository", dry: true,
		role: role.Operator, summary: "Have a kept sheet be one of its own, as it was seen last", tag: "builds",
		status: 204,
	},
		func(ctx context.Context, in *SheetPath) (*empty, error) {
			return done(s.Repositories.Unfollow(ctx, actor(ctx), in.Sheet, reaching(ctx)))
		})
	register(s, operation{
		method: "POST", path: "/sheets/{sheet}/look", on: onSheet, id: "look-at-repository", role: role.Operator,
		summary: "Look at the repository of a kept sheet now, and not only in its time", tag: "builds", status: 204,
	},
		func(ctx context.Context, in *SheetPath) (*empty, error) {
			return done(s.Repositories.LookNow(ctx, in.Sheet, reaching(ctx)))
		})
	register(s, operation{
		method: "POST", path: "/announcements/{sheet}", id: "announce-push", tag: "builds", status: 202,
		summary: "Say that there is something new in the repository of a kept sheet, in a body that is signed with " +
			"its secret", limit: announcementLimit,
	},
		func(ctx context.Context, in *struct {
			SheetPath
			Signature string `header:"X-Hub-Signature-256" doc:"sha256= and the HMAC-SHA256 of the body, in hexadecimal digits"`
			Of        string `header:"X-Hub-Signature" doc:"The same, as the W3C recommendation WebSub calls it"`
			RawBody   []byte
		},
		) (*empty, error) {
			return done(s.Repositories.Announce(ctx, in.Sheet, cmp.Or(in.Signature, in.Of), in.RawBody))
		})
}

// given is a source that is none if nothing of it is.
func given(from *secret.Source) *secret.Source {
	if from == nil || *from == (secret.Source{}) {
		return nil
	}
	return from
}

// repositoryOut is what is shown of a repository: what kind of credential it is shown, and not where that is found.
func repositoryOut(r store.Repository) *client.Repository {
	shows := ""
	switch {
	case r.Credential.V.Password != nil:
		shows = "password"
	case r.Credential.V.Key != nil:
		shows = "key"
	}
	return &client.Repository{
		Address: r.Address, Branch: r.Branch, Tag: r.Tag, Commit: r.Commit, Folder: r.Folder, File: r.File,
		Shows: shows, Announced: r.Announced.V != nil, Every: r.EverySeconds, Tip: r.Tip, LookedAt: r.LookedAt,
		SeenAt: r.SeenAt, Why: r.Why, Gone: r.Gone, AddedBy: r.AddedBy,
	}
}
