// Package deliveries has copies and bases go to sites in the order in which they
// are needed, and no faster than lines and sites allow. What is delivered belongs
// to others.
package deliveries

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/delivery"
	"nimblepane/engine"
	"nimblepane/platform"
	"nimblepane/store"
)

// Deliveries knows what is under way to sites.
type Deliveries struct {
	engine *engine.Engine
}

// New adds what deliveries may take to the engine.
func New(e *engine.Engine) *Deliveries {
	d := &Deliveries{e}
	e.Allow(d.rate)
	return d
}

// Turn returns a *platform.Busy that says why, if it is not a delivery's turn to begin.
func Turn(db *gorm.DB, w store.Work) error {
	rows, err := store.OpenDeliveries(db)
	if err != nil {
		return err
	}
	others := all(rows)
	if delivery.Follows(others, w.Key) != "" {
		return &platform.Busy{Why: "it waits for another copy that comes to the site, which it is made from"}
	}
	site, err := store.SiteByID(db, w.SiteID)
	n := delivery.Before(others, w.Key)
	if err != nil || n == 0 {
		return err
	}
	line, err := store.LineNamed(db, site.Deliveries.V.Line)
	if err != nil {
		return err
	}
	if n < line.Settings.V.AtOnce {
		return nil
	}
	return &platform.Busy{Why: fmt.Sprintf("it waits for its turn on line %s: %s before it, and %d may go at once",
		line.Name, english.PluralWord(n, fmt.Sprintf("%d goes", n), fmt.Sprintf("%d go", n)), line.Settings.V.AtOnce)}
}

// all are the deliveries as decisions know them.
func all(rows []store.DeliveryRow) []delivery.One {
	out := make([]delivery.One, len(rows))
	for i, r := range rows {
		out[i] = delivery.One{
			Key: r.Key, Line: over(r), Brings: fmt.Sprintf("%s %s %s to %s", r.Base, r.Image, r.Number, r.Site),
			Need: need(r), Asked: r.AskedAt, Begun: r.State == store.WorkUnderWay,
			// One under way that waits for something, such as a hypervisor, does not get on.
			Absent: r.Silent || r.State == store.WorkUnderWay && r.Why != "",
		}
	}
	return out
}

// over is the line that a delivery goes over, "" for none.
func over(r store.DeliveryRow) string {
	if r.Near {
		return ""
	}
	return r.Line
}

func need(r store.DeliveryRow) delivery.Need {
	switch {
	case r.Base != "":
		return delivery.ForBuild
	case r.Ordinal > 1:
		return delivery.ForBreath
	case r.Pilot:
		return delivery.ForPilot
	}
	return delivery.ForUse
}

// rate is what the delivery of the key may take now, in bytes a second; 0: as much as goes.
func (d *Deliveries) rate(ctx context.Context, key string) (int64, error) {
	db := d.engine.Store.DB.WithContext(ctx)
	me, err := store.DeliveryByKey(db, key)
	if errors.Is(err, store.ErrNotFound) {
		return 0, nil // it goes to no site of ours
	}
	if err != nil || me.Own {
		return 0, err
	}
	// One whose site has another copy is limited as well: the platform may find that copy unusable, and asks only for
	// what
	// comes from elsewhere.
	site, err := store.SiteByID(db, me.SiteID)
	if err != nil {
		return 0, err
	}
	now := d.engine.Clock.Now()
	here, onLine := site.Deliveries.V.Limit().At(now), int64(0)
	if me.Line != "" {
		line, err := store.LineNamed(db, me.Line)
		if err != nil {
			return 0, err
		}
		onLine = line.Settings.V.Limit().At(now)
	}
	if here == 0 && onLine == 0 {
		return 0, nil
	}
	rows, err := store.OpenDeliveries(db)
	if err != nil {
		return 0, err
	}
	toSite, overLine := 1, 1
	for _, r := range rows {
		if r.Key == key || r.State != store.WorkUnderWay || r.Silent || r.Near {
			continue
		}
		if r.SiteID == me.SiteID {
			toSite++
		}
		if r.Line == me.Line {
			overLine++
		}
	}
	return delivery.Share(here, onLine, toSite, overLine), nil
}

// Delivery is a delivery as people see it.
type Delivery struct {
	store.DeliveryRow
	Before int           // how many go before it, if it waits for its turn
	Left   time.Duration // until it is there, 0 if that cannot be said
}

// List returns deliveries: those under way, then those that wait, as their turns come, then those that have ended, the
// last first.
func (d *Deliveries) List(ctx context.Context, q store.DeliveryQuery) ([]Delivery, error) {
	db := d.engine.Store.DB.WithContext(ctx)
	rows, err := store.Deliveries(db, q)
	if err != nil {
		return nil, err
	}
	open, err := store.OpenDeliveries(db)
	if err != nil {
		return nil, err
	}
	others := all(open)
	out := make([]Delivery, len(rows))
	begun, waiting := 0, 0
	for i, r := range rows {
		out[i] = Seen(r)
		switch r.State {
		case store.WorkUnderWay:
			begun++
		case store.WorkAsked:
			waiting++
			out[i].Before = delivery.Before(others, r.Key)
		}
	}
	slices.SortStableFunc(out[begun:begun+waiting], func(a, b Delivery) int { return cmp.Compare(a.Before, b.Before) })
	return out, nil
}

// Seen is a delivery with how long it takes yet.
func Seen(r store.DeliveryRow) Delivery {
	d := Delivery{DeliveryRow: r}
	if r.Open() && r.Transfer != nil && r.Transfer.V.Stage == platform.Sending && r.Pace != nil {
		d.Left, _ = r.Pace.V.Left(r.Transfer.V.Lacking, r.Transfer.V.Sent)
	}
	return d
}

// Line is a line, and what goes over it now.
type Line struct {
	store.Line
	Sites    []string
	Rate     int64 // that holds now, in bytes a second; 0: as much as goes
	UnderWay int
	Waiting  int
}

// Lines returns all lines with what goes over them.
func (d *Deliveries) Lines(ctx context.Context) ([]Line, error) {
	db := d.engine.Store.DB.WithContext(ctx)
	rows, err := store.Lines(db)
	if err != nil {
		return nil, err
	}
	sites, err := store.Sites(db)
	if err != nil {
		return nil, err
	}
	open, err := store.OpenDeliveries(db)
	if err != nil {
		return nil, err
	}
	out := make([]Line, len(rows))
	for i, r := range rows {
		out[i] = Line{Line: r, Rate: r.Settings.V.Limit().At(d.engine.Clock.Now())}
		for _, s := range sites {
			if s.Deliveries.V.Line == r.Name {
				out[i].Sites = append(out[i].Sites, s.Name)
			}
		}
		for _, o := range open {
			switch {
			case over(o) != r.Name:
			case o.State == store.WorkUnderWay:
				out[i].UnderWay++
			default:
				out[i].Waiting++
			}
		}
	}
	return out, nil
}
