package rollovers

import (
	"cmp"
	"context"
	"strings"

	"gorm.io/gorm"

	"nimblepane/core/host"
	"nimblepane/core/problem"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/engine/fleet"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// RebuildRequest asks for a new disk for one host.
type RebuildRequest struct {
	Host, Reason string
	// Vouched says that the person has made sure that nobody is on a host whose agent is silent.
	Vouched bool
}

// Rebuild gives a host a new disk of the version that its pool should run, by
// a rollover of this one host: it drains, its people leave, it is rebuilt,
// checked and put back.
func (rs *Rollovers) Rebuild(ctx context.Context, actor string, r RebuildRequest) (row store.Rollover, err error) {
	err = rs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		h, pool, _, err := store.LockHost(tx.DB, r.Host)
		if err != nil {
			return err
		}
		if err := fleet.NotInHand(tx, h); err != nil {
			return err
		}
		if h.State == host.Faulty && h.Machine && !h.Unserved {
			if !r.Vouched {
				return problem.NotConfirmedEmpty.Errorf("host %s is faulty (%s), and only its agent could confirm "+
					"that it is empty: check the host yourself, then confirm that it is empty (--vouch-empty)", h.Name,
					h.Why)
			}
			if strings.TrimSpace(r.Reason) == "" {
				return problem.ReasonRequired.Errorf("confirming that a host is empty needs a reason: say how you know")
			}
			h.VouchedAt = &tx.Now
			tx.Record(store.Entry{Verb: "host.vouch", Subject: "host " + h.Name, Reason: r.Reason})
			if err := tx.Save(&h).Error; err != nil {
				return err
			}
		}
		o := rollover.DefaultOptions
		o.Batch, o.Floor, o.Budget = rollover.Share{Value: 1}, rollover.Share{}, 0
		row, err = rs.startOne(tx, pool, StartRequest{Options: o, Reason: r.Reason, Hosts: []string{h.Name}})
		return err
	})
	return row, err
}

// ofHost is the input of the work that makes a host anew.
type ofHost struct {
	Version  int64 `json:"version"`
	Host     int64 `json:"host"`
	Rollover int64 `json:"rollover"`
}

// askRebuild says what the host is made from, and gives it a token.
func (rs *Rollovers) askRebuild(_ context.Context, db *gorm.DB, w store.Work, in ofHost) (out platform.Rebuild,
	err error,
) {
	img, v, err := versions.Of(db, in.Version)
	if err != nil {
		return out, err
	}
	h, err := store.HostByID(db, in.Host)
	if err != nil {
		return out, err
	}
	pool, err := store.PoolByID(db, h.PoolID)
	if err != nil {
		return out, err
	}
	copies, err := store.CopiesAt(db, v.ID, w.SiteID)
	if err != nil {
		return out, err
	}
	site, err := store.SiteByID(db, w.SiteID)
	if err != nil {
		return out, err
	}
	out = platform.Rebuild{
		Host: h.Name, Digest: v.Digest, MachineClass: pool.MachineClass, Seats: pool.SeatsPerHost,
		Seed: platform.Seed{
			Service: cmp.Or(site.MachineSettings.V.ServiceAddress, rs.engine.AgentURL),
			Token:   store.NewSecret(),
		},
	}
	for _, c := range copies {
		out.Copies = append(out.Copies, versions.CopyName(img, v, c.Ordinal))
	}
	// Only the digest is kept. Should this attempt be lost on the way, the next
	// one under the key makes a token of its own, and either will do.
	return out, store.AddEnrolment(db, h.ID, out.Seed.Token, rs.engine.Clock.Now())
}

// rebuildProgressed tells watchers how far a host's new disk is.
func rebuildProgressed(tx *store.Tx, in ofHost, percent int) error {
	h, err := store.HostByID(tx.DB, in.Host)
	if err != nil {
		return err
	}
	tx.Emit("host.progress", "host "+h.Name, map[string]any{"change": store.HostChange{
		Host:     h.Name,
		Rollover: in.Rollover, Progress: percent,
	}})
	return nil
}

// rebuildEnded leaves it to the tick of the rollover to decide what follows.
func rebuildEnded(tx *store.Tx, in ofHost, end *engine.Ending[platform.Made]) error {
	if end.Failure == "" {
		img, v, err := versions.Of(tx.DB, in.Version)
		if err != nil {
			return err
		}
		end.Failure = versions.WrongDigest(img, v, end.Output)
	}
	tx.Emit("work.end", "work "+end.Work.Key, nil)
	return tx.TickNow(in.Rollover)
}
