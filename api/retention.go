package api

import (
	"context"
	"time"

	"nimblepane/client"
	"nimblepane/core/delivery"
	"nimblepane/core/image"
	"nimblepane/core/readiness"
	"nimblepane/core/role"
	engineReadiness "nimblepane/engine/readiness"
	"nimblepane/engine/versions"
	"nimblepane/store"
)

// retention is what is kept of an image, and whether it could go back.
func (s *Server) retention() {
	register(s, operation{
		method: "GET", path: "/images/{image}/retention", id: "show-retention", tag: "images", role: role.Viewer,
		summary: "Which versions of an image are kept, and which are retired by its rule, or would be by another one",
	},
		func(ctx context.Context, in *struct {
			ImagePath
			Keep   int      `query:"keep" minimum:"0" doc:"Try this rule out instead of the image's"`
			Days   int      `query:"days" minimum:"0"`
			Tagged []string `query:"tagged"`
		},
		) (*body[client.RetentionPlan], error) {
			rule := image.Retention{Keep: in.Keep, Days: in.Days, Tagged: in.Tagged}
			if !rule.On() {
				return ok(s.retentionOut(ctx, in.Image, nil))
			}
			if err := versions.CheckRetention(rule); err != nil {
				return nil, err
			}
			return ok(s.retentionOut(ctx, in.Image, &rule))
		})
	register(s, operation{
		method: "PUT", path: "/images/{image}/retention", id: "set-retention", dry: true, tag: "images",
		role:    role.Operator,
		summary: "Have versions of an image retired by a rule from now on, or none any more",
	},
		func(ctx context.Context, in *struct {
			ImagePath
			Body client.RetentionChange
		},
		) (*body[client.RetentionPlan], error) {
			rule := image.Retention{Keep: in.Body.Keep, Days: in.Body.Days, Tagged: in.Body.Tagged}
			if err := s.Versions.SetRetention(ctx, actor(ctx), in.Image, rule, in.Body.Retires); err != nil {
				return nil, err
			}
			return ok(s.retentionOut(ctx, in.Image, nil))
		})
	register(s, operation{
		method: "GET", path: "/images/{image}/readiness", id: "show-readiness", tag: "images", role: role.Viewer,
		summary: "Whether an image could be rolled back now, pool by pool, and how long that would take",
	},
		func(ctx context.Context, in *ImagePath) (*body[client.Readiness], error) {
			db := s.store.DB.WithContext(ctx)
			img, err := store.ImageNamed(db, in.Image)
			if err != nil {
				return nil, err
			}
			a, err := engineReadiness.Of(db, img, s.engine.Clock.Now())
			return ok(readinessOut(a), err)
		})
}

// retentionOut shows an image's rule, or another one that is tried out.
func (s *Server) retentionOut(ctx context.Context, imageName string,
	tried *image.Retention,
) (client.RetentionPlan, error) {
	db := s.store.DB.WithContext(ctx)
	img, err := store.ImageNamed(db, imageName)
	if err != nil {
		return client.RetentionPlan{}, err
	}
	rule := img.Retention.V
	if tried != nil {
		rule = *tried
	}
	all, err := versions.Retention(db, img, rule, s.engine.Clock.Now())
	out := client.RetentionPlan{
		Rule: rule, Says: rule.String(), Set: tried == nil, Retires: append([]string{}, versions.Going(all)...),
		Versions: each(all, func(k versions.Kept) client.KeptVersion {
			return client.KeptVersion{
				Number: k.Number, Goes: k.Goes, Why: append([]string{}, k.Why...),
				Sites: append([]string{}, k.Sites...),
				Bytes: k.Bytes, Frees: k.Frees, Spare: len(k.Spare),
			}
		}),
	}
	for _, k := range all {
		out.Frees += k.Frees
	}
	return out, err
}

func readinessOut(a readiness.Answer) client.Readiness {
	about := func(d time.Duration) string {
		if d == 0 {
			return ""
		}
		return delivery.About(d)
	}
	return client.Readiness{
		To: a.To, Ready: a.Ready, Why: a.Why, Says: a.Sentence(), Seconds: int64(a.Takes.Seconds()),
		Unseen: append([]string{}, a.Unseen...),
		Pools: each(a.Pools, func(p readiness.PoolAnswer) client.PoolReadiness {
			return client.PoolReadiness{
				Pool: p.Pool, Site: p.Site, Hosts: p.Hosts, Ready: p.Ready, Why: append([]string{}, p.Why...),
				But: append([]string{}, p.But...), Seconds: int64(p.Takes.Seconds()), Takes: about(p.Takes),
				People: p.People, ReadAt: p.ReadAt,
			}
		}),
	}
}
