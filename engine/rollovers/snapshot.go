package rollovers

import (
	"fmt"
	"time"

	"nimblepane/agent"
	"nimblepane/core/rollover"
	"nimblepane/engine/versions"
	"nimblepane/store"
)

// snapshot gathers what is known for a decision about the rollover.
func (rs *Rollovers) snapshot(tx *store.Tx, r store.Rollover, pool store.Pool, site store.Site) (s rollover.Snapshot,
	err error,
) {
	records, err := tx.DecisionRows(r, pool)
	if err != nil {
		return s, fmt.Errorf("read the hosts: %w", err)
	}
	told, err := notices(tx, r.ID)
	if err != nil {
		return s, err
	}
	target, err := store.VersionByID(tx.DB, r.TargetID)
	if err != nil {
		return s, err
	}
	img, err := store.ImageByID(tx.DB, target.ImageID)
	if err != nil {
		return s, err
	}
	s.Listening = rs.fleet.Listening
	s.Hosts = make([]rollover.Host, len(records))
	var nameless []rollover.Session
	for i, rec := range records {
		h := rollover.Host{
			ID: rec.ID, Name: rec.Name, State: rec.State, Version: rec.VersionID, Seats: pool.SeatsPerHost,
			Phase: rec.Phase, Batch: rec.Batch, Machine: rec.Machine, Unserved: rec.Unserved, DrainedBy: rec.DrainedBy,
			Confirmed: rec.Confirmed,
			Rebuild:   rollover.Task{State: outcomeOf(rec.WorkState), Why: rec.WorkWhy},
			Checks:    checksState(rec.Checks, rec.ChecksWhy),
			Since:     rec.Since, Seen: rec.SeenAt, Vouched: rec.VouchedAt,
		}
		switch rec.Stamp {
		case "":
		case versions.Label(img, target):
			h.Stamp = r.TargetID
		default:
			h.Stamp = -1
		}
		if rec.Sessions == nil {
			// Only their number matters: nobody is told anything.
			for len(nameless) < rec.People {
				nameless = append(nameless, rollover.Session{})
			}
			h.Sessions = nameless[:rec.People:rec.People]
		}
		for _, x := range rec.Sessions {
			t := told[noticeKey{rec.ID, x.Key}]
			t.Key, t.Person = x.Key, x.Person
			h.Sessions = append(h.Sessions, t)
		}
		s.Hosts[i] = h
	}
	if s.Site, err = rs.capacity(tx, r, site); err != nil {
		return s, err
	}
	open, err := store.OpenRollovers(tx.DB, pool.ID)
	if err != nil {
		return s, err
	}
	if before := open[0]; before.ID < r.ID {
		s.HeldBy = before.Name()
	}
	return s, nil
}

func checksState(state agent.ChecksState, why string) rollover.Task {
	switch state {
	case agent.ChecksPassed:
		return rollover.Task{State: rollover.Succeeded}
	case agent.ChecksFailed:
		return rollover.Task{State: rollover.Broken, Why: why}
	case agent.ChecksUnderWay:
		return rollover.Task{State: rollover.UnderWay}
	}
	return rollover.Task{}
}

type noticeKey struct {
	host    int64
	session string
}

// notices gathers what the rollover has told people, from its orders.
func notices(tx *store.Tx, rolloverID int64) (map[noticeKey]rollover.Session, error) {
	orders, err := store.OrdersOf(tx.DB, rolloverID)
	if err != nil {
		return nil, fmt.Errorf("read the orders: %w", err)
	}
	out := map[noticeKey]rollover.Session{}
	for _, o := range orders {
		key := noticeKey{o.HostID, o.SessionKey}
		s := out[key]
		switch {
		case o.Kind == agent.EndSession:
			if s.SignOffFirst.Before(s.Asked) {
				s.SignOffFirst = o.CreatedAt
			}
			s.SignOffLast = o.CreatedAt
		case o.Notice == store.NoticeFirst:
			s.Asked = o.CreatedAt
			if o.DoneAt != nil {
				s.Warned = *o.DoneAt
			}
		case o.Notice == store.NoticeLast:
			s.Reminded = o.CreatedAt
		}
		out[key] = s
	}
	return out, nil
}

// capacity works out what the site has left for the rollover. It holds only
// under the lock of the site.
func (rs *Rollovers) capacity(tx *store.Tx, r store.Rollover, site store.Site) (c rollover.Site, err error) {
	c.Name = site.Name
	copies, err := store.CopiesPresent(tx.DB, r.TargetID, site.ID)
	if err != nil {
		return c, err
	}
	n, err := store.RebuildsAt(tx.DB, site.ID, r, tx.Now.Add(-time.Minute))
	if err != nil {
		return c, fmt.Errorf("read the capacity: %w", err)
	}
	c.ClonesLeft = int(copies)*site.ClonesPerCopy - n.Cloning
	c.StartsLeft = site.StartsPerMinute - n.Recent
	if own := r.Options.V.Stagger; own > 0 {
		c.StartsLeft = min(c.StartsLeft, own-n.Mine)
	}
	switch {
	case copies == 0:
		c.NoCopy = "no copy of the version is at " + site.Name + " yet"
	case n.Stuck > 0:
		// What was asked for a minute ago was not taken on. More would all start in one go when it is.
		c.ClonesLeft, c.NoCopy = 0, site.Name+" does not answer"
	}
	return c, nil
}

// outcomeOf translates the state of a host's work for the decisions.
func outcomeOf(state store.WorkState) rollover.TaskState {
	switch state {
	case store.WorkAsked, store.WorkUnderWay:
		return rollover.UnderWay
	case store.WorkSucceeded:
		return rollover.Succeeded
	case store.WorkFailed:
		return rollover.Broken
	}
	return rollover.Unknown
}
