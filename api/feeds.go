package api

import (
	"context"
	"time"

	"gorm.io/gorm"

	"nimblepane/client"
	"nimblepane/core/base"
	"nimblepane/core/feed"
	"nimblepane/core/role"
	"nimblepane/engine/feeds"
	"nimblepane/store"
)

type FeedPath struct {
	Feed string `path:"feed"`
}

func (s *Server) feeds() {
	register(s, operation{
		method: "GET", path: "/feeds", id: "list-feeds", role: role.Viewer, tag: "bases",
		summary: "Vendors' lists of releases that bases are taken from",
	},
		func(ctx context.Context, _ *struct{}) (*body[client.Page[client.Feed]], error) {
			db := s.store.DB.WithContext(ctx)
			rows, err := store.Feeds(db)
			if err != nil {
				return nil, err
			}
			counts, err := store.OffersOf(db)
			list := each(rows, func(f store.Feed) client.Feed { return feedOut(counts, f) })
			return ok(client.Page[client.Feed]{Items: list}, err)
		})
	register(s, operation{
		method: "GET", path: "/feeds/{feed}", id: "show-feed", role: role.Viewer, tag: "bases",
		summary: "A feed: when it was read, and what of it could not be taken",
	},
		func(ctx context.Context, in *FeedPath) (*body[client.Feed], error) {
			db := s.store.DB.WithContext(ctx)
			f, err := store.FeedNamed(db, in.Feed)
			if err != nil {
				return nil, err
			}
			return ok(oneFeed(db, f))
		})
	register(s, operation{
		method: "POST", path: "/feeds", id: "add-feed", made: "/feeds/{name}", role: role.Operator, tag: "bases",
		status:  201,
		summary: "Have a feed read from now on",
	},
		func(ctx context.Context, in *struct{ Body client.NewFeed }) (*body[client.Feed], error) {
			f, err := s.Feeds.Add(ctx, actor(ctx), feeds.Request{
				Name: in.Body.Name, Address: in.Body.Address, Publisher: in.Body.Publisher, Key: in.Body.Key,
				Every: time.Duration(in.Body.Every) * time.Second,
			})
			if err != nil {
				return nil, err
			}
			return ok(oneFeed(s.store.DB.WithContext(ctx), f))
		})
	register(s, operation{
		method: "POST", path: "/feeds/{feed}/read", id: "read-feed", role: role.Operator, tag: "bases", status: 202,
		summary: "Read a feed now, and not only in its time",
	},
		func(ctx context.Context, in *FeedPath) (*body[client.Feed], error) {
			f, err := s.Feeds.ReadNow(ctx, in.Feed)
			if err != nil {
				return nil, err
			}
			return ok(oneFeed(s.store.DB.WithContext(ctx), f))
		})
	register(s, operation{
		method: "DELETE", path: "/feeds/{feed}", id: "delete-feed", dry: true, role: role.Operator, tag: "bases",
		status:  204,
		summary: "Forget a feed; bases that were taken from it stay",
	},
		func(ctx context.Context, in *FeedPath) (*empty, error) {
			return done(s.Feeds.Delete(ctx, actor(ctx), in.Feed))
		})
	register(s, operation{
		method: "GET", path: "/releases", id: "list-releases", role: role.Viewer, tag: "bases",
		summary: "Releases that stand in feeds, by what they are of, the newest of each first; at most 500",
	},
		func(ctx context.Context, in *struct {
			Feed      string `query:"feed" doc:"Only those of this one"`
			Publisher string `query:"publisher"`
			Product   string `query:"product"`
			Edition   string `query:"edition"`
			Release   string `query:"release"`
			Serial    string `query:"serial"`
			Text      string `query:"text" doc:"That is somewhere in what is said of it"`
		},
		) (*body[client.Page[client.Offer]], error) {
			list, err := s.releases(s.store.DB.WithContext(ctx), in.Feed, feed.Want{Labels: base.Labels{
				Publisher: in.Publisher, Product: in.Product, Edition: in.Edition, Release: in.Release,
			}, Serial: in.Serial, Text: in.Text})
			return ok(client.Page[client.Offer]{Items: list}, err)
		})
}

func (s *Server) releases(db *gorm.DB, name string, want feed.Want) ([]client.Offer, error) {
	rows, err := store.Feeds(db)
	if name != "" {
		rows = make([]store.Feed, 1)
		rows[0], err = store.FeedNamed(db, name)
	}
	if err != nil {
		return nil, err
	}
	bases, err := store.BasesOfReleases(db)
	if err != nil {
		return nil, err
	}
	list := []client.Offer{}
	for _, f := range rows {
		offers, err := store.Offers(db, f.ID, "")
		if err != nil {
			return nil, err
		}
		feed.Sort(offers)
		for _, o := range offers {
			if !want.Meets(o) {
				continue
			}
			if len(list) == client.MostReleases {
				return list, nil
			}
			list = append(list, offerOut(bases, f, o))
		}
	}
	return list, nil
}

func oneFeed(db *gorm.DB, f store.Feed) (client.Feed, error) {
	counts, err := store.OffersOf(db)
	return feedOut(counts, f), err
}

func feedOut(counts map[int64]int, f store.Feed) client.Feed {
	var oldest *time.Time
	for _, at := range f.SignedAt.V {
		if oldest == nil || at.Before(*oldest) {
			oldest = &at
		}
	}
	return client.Feed{
		SignedAt: oldest,
		Name:     f.Name, Address: f.Address, Publisher: f.Publisher, Signed: f.Key != "", Every: f.EverySeconds,
		Releases: counts[f.ID], LookedAt: f.LookedAt, SeenAt: f.SeenAt, Why: f.Why, LeftOut: f.LeftOut,
		AddedBy: f.AddedBy,
	}
}

func offerOut(bases map[store.Release]string, f store.Feed, o feed.Offer) client.Offer {
	return client.Offer{
		Feed: f.Name, Product: o.Product, Serial: o.Serial, Labels: o.Labels, Codename: o.Codename,
		Architecture: o.Architecture, Supported: o.Supported, Address: feeds.AddressOf(f, o), Kind: o.Kind,
		Size: o.Size, SHA256: o.SHA256, With: append([]feed.Extra{}, o.With...),
		Base: bases[store.Release{Feed: f.Name, Product: o.Product, Serial: o.Serial, SHA256: o.SHA256}],
	}
}
