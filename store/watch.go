package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// PollTable is a table whose rows describe external sources, which the service
// polls. One process at a time polls a row. The table has the columns id,
// due_at, asked, held_until and claim. They hold real time, not the clock's,
// and are not part of a model.
type PollTable string

// Tables with external sources.
const (
	PollBases        PollTable = "bases"
	PollFeeds        PollTable = "feeds"
	PollRepositories PollTable = "repositories"
)

// pollConditions select the rows of a table that are polled.
var pollConditions = map[PollTable]string{
	PollBases:        "state in ('receiving', 'fetching', 'converting')",
	PollFeeds:        "true",
	PollRepositories: "true",
}

// PollClaim is the claim of a process to poll a row. No other process can claim the row before the lease ends.
type PollClaim struct {
	Table PollTable `gorm:"-"`
	ID    int64
	Claim int64
	Asked int64 // number of requests to poll the row at once, at the time of the claim
}

// ClaimPoll claims the row of a table that has been due longest, for the time of the lease; false if no row is due.
func (s *Store) ClaimPoll(ctx context.Context, table PollTable, lease time.Duration) (w PollClaim, is bool, err error) {
	which, known := pollConditions[table]
	if !known {
		return w, false, fmt.Errorf("table %q has no external sources", table)
	}
	r := s.DB.WithContext(ctx).Raw(`
		update `+string(table)+` set held_until = now() + ? * interval '1 second', claim = nextval('claims') where id = (
		  select id from `+string(table)+` where `+which+` and due_at <= now() and held_until <= now() and `+notSetAside(string(table), "id::text")+`
		  order by due_at limit 1 for update skip locked)
		returning id, claim, asked`, lease.Seconds()).Scan(&w)
	w.Table = table
	return w, r.RowsAffected > 0, r.Error
}

// RenewPoll renews the lease of a claim; false if another process has claimed the row since.
func (s *Store) RenewPoll(ctx context.Context, w PollClaim, lease time.Duration) (bool, error) {
	r := s.DB.WithContext(ctx).Exec("update "+string(w.Table)+" set held_until = now() + ? * interval '1 second' "+
		"where id = ? and claim = ?", lease.Seconds(), w.ID, w.Claim)
	return r.RowsAffected > 0, r.Error
}

// ReleaseWatched lets go of a claim. The row is due again after the wait, or now if somebody asked for it meanwhile.
func (s *Store) ReleaseWatched(ctx context.Context, w PollClaim, wait time.Duration) error {
	return s.DB.WithContext(ctx).Exec("update "+string(w.Table)+` set held_until = '-infinity',
		due_at = now() + case when asked = ? then ? else 0 end * interval '1 second' where id = ? and claim = ?`,
		w.Asked, wait.Seconds(), w.ID, w.Claim).Error
}

// WatchNow has a row looked at now, also if that is done at this moment: what changed since it began is not missed.
func WatchNow(db *gorm.DB, table PollTable, id int64) error {
	return fresh(db).Exec("update "+string(table)+" set due_at = now(), asked = asked + 1 where id = ?", id).Error
}
