package api

import (
	"context"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/engine/deliveries"
	"nimblepane/store"
)

// DeliveryQuery says which deliveries are meant.
type DeliveryQuery struct {
	Site  string `query:"site"`
	Image string `query:"image"`
	Ended bool   `query:"ended" doc:"Those that have ended, too"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}

func (s *Server) deliveries() {
	register(s, operation{
		method: "GET", path: "/deliveries", id: "list-deliveries", tag: "deliveries", role: role.Viewer,
		summary: "Deliveries of copies and of bases to sites: under way, waiting by their turns, ended",
	},
		func(ctx context.Context, in *DeliveryQuery) (*body[client.Page[client.Delivery]], error) {
			db := s.store.DB.WithContext(ctx)
			if in.Site != "" {
				if _, err := store.SiteNamed(db, in.Site); err != nil {
					return nil, err
				}
			}
			if in.Image != "" {
				if _, err := store.ImageNamed(db, in.Image); err != nil {
					return nil, err
				}
			}
			rows, err := s.Deliveries.List(ctx, store.DeliveryQuery{
				Site: in.Site, Image: in.Image, Ended: in.Ended, Limit: in.Limit,
			})
			return ok(client.Page[client.Delivery]{Items: each(rows, deliveryOut)}, err)
		})
	register(s, operation{
		method: "GET", path: "/lines", id: "list-lines", tag: "deliveries", role: role.Viewer,
		summary: "The lines that lead to sites, with what goes over them",
	},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.Line]], error) {
			rows, err := s.Deliveries.Lines(ctx)
			return ok(client.Page[client.Line]{Items: each(rows, func(l deliveries.Line) client.Line {
				return client.Line{
					Line: l.Settings.V, Now: l.Rate, Sites: append([]string{}, l.Sites...), UnderWay: l.UnderWay,
					Waiting: l.Waiting,
				}
			})}, err)
		})
}

// lastDelivery is how a copy came, or comes; nil if it was not delivered by its blocks.
func lastDelivery(byCopy map[int64]store.DeliveryRow, copyID int64) *client.Transfer {
	d, ok := byCopy[copyID]
	if !ok || d.Transfer == nil {
		return nil
	}
	out := deliveryOut(deliveries.Seen(d)).Transfer
	return &out
}

func deliveryOut(d deliveries.Delivery) client.Delivery {
	out := client.Delivery{
		Key: d.Key, Image: d.Image, Number: d.Number, Base: d.Base, Site: d.Site, Line: d.Line, Why: d.Why,
		Percent: d.Progress, Before: d.Before,
		Transfer: client.Transfer{AskedAt: d.AskedAt, EndedAt: d.EndedAt, Left: int64(d.Left.Seconds())},
	}
	if d.Base == "" {
		out.Ordinal = d.Ordinal
	}
	switch d.State {
	case store.WorkAsked:
		out.State = client.DeliveryWaiting
	case store.WorkUnderWay:
		out.State = client.DeliveryUnderWay
	case store.WorkSucceeded:
		out.State = client.DeliveryArrived
	case store.WorkFailed:
		out.State = client.DeliveryFailed
	}
	if d.Transfer == nil {
		return out
	}
	t := d.Transfer.V
	out.Stage, out.Whole, out.There, out.Shared = t.Stage, t.Whole, t.There, t.Shared
	out.Lacking, out.Sent, out.OverLine = t.Lacking, t.Sent, t.Line
	if d.Open() && d.Pace != nil {
		out.Rate = int64(d.Pace.V.Rate)
	}
	return out
}
