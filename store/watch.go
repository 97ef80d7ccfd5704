package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Watched is a table whose rows are of something outside that is looked at in
// its time, by one process each. It has the columns id, due_at, asked,
// held_until and claim, which are in real time and in no model.
type Watched string

// The tables that there are.
const (
	WatchedBases Watched = "bases"
	WatchedFeeds Watched = "feeds"

	WatchedRepositories Watched = "repositories"
)

// watched are the rows of a table that are looked at.
var watched = map[Watched]string{
	WatchedBases: "state in ('receiving', 'fetching', 'converting')",
	WatchedFeeds: "true",

	WatchedRepositories: "true",
}

// Watch is a row that a process looks at. While it keeps it, nobody else is given the same.
type Watch struct {
	Table Watched `gorm:"-"`
	ID    int64
	Claim int64
	Asked int64 // how often somebody had asked for it before
}

// ClaimWatched claims the row of a table that has been due longest, for so long; false if none is.
func (s *Store) ClaimWatched(ctx context.Context, table Watched, lease time.Duration) (w Watch, is bool, err error) {
	which, known := watched[table]
	if !known {
		return w, false, fmt.Errorf("table %q is not watched", table)
	}
	r := s.DB.WithContext(ctx).Raw(`
		update `+string(table)+` set held_until = now() + ? * interval '1 second', claim = nextval('claims') where id = (
		  select id from `+string(table)+` where `+which+` and due_at <= now() and held_until <= now() and `+notSetAside(string(table), "id::text")+`
		  order by due_at limit 1 for update skip locked)
		returning id, claim, asked`, lease.Seconds()).Scan(&w)
	w.Table = table
	return w, r.RowsAffected > 0, r.Error
}

// KeepWatched goes on keeping a claim. It is false if it is another's by now.
func (s *Store) KeepWatched(ctx context.Context, w Watch, lease time.Duration) (bool, error) {
	r := s.DB.WithContext(ctx).Exec("update "+string(w.Table)+" set held_until = now() + ? * interval '1 second' "+
		"where id = ? and claim = ?", lease.Seconds(), w.ID, w.Claim)
	return r.RowsAffected > 0, r.Error
}

// ReleaseWatched lets go of a claim. The row is due again after the wait, or now if somebody asked for it meanwhile.
func (s *Store) ReleaseWatched(ctx context.Context, w Watch, wait time.Duration) error {
	return s.DB.WithContext(ctx).Exec("update "+string(w.Table)+` set held_until = '-infinity',
		due_at = now() + case when asked = ? then ? else 0 end * interval '1 second' where id = ? and claim = ?`,
		w.Asked, wait.Seconds(), w.ID, w.Claim).Error
}

// WatchNow has a row looked at now, also if that is done at this moment: what changed since it began is not missed.
func WatchNow(db *gorm.DB, table Watched, id int64) error {
	return fresh(db).Exec("update "+string(table)+" set due_at = now(), asked = asked + 1 where id = ?", id).Error
}
