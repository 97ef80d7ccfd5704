package store

import (
	"context"
	"fmt"
	"time"
)

// TickTable is a table whose rows the service decides about repeatedly until
// they are settled. It has the columns id, settled, next_tick_at, held_until and claim.
type TickTable string

// Tables with rows that tick.
const (
	RolloverTicks TickTable = "rollovers"
	BuildTicks    TickTable = "builds"
	ProofTicks    TickTable = "proofs"
)

var tickTables = map[TickTable]bool{RolloverTicks: true, BuildTicks: true, ProofTicks: true}

// Claim is the claim of a process to a row that is due: to a row of a tick
// table, or to a work. No other process can claim the row before the lease
// ends, which the process renews.
type Claim struct {
	Table  TickTable // of a row that ticks
	ID     int64     // of a row that ticks
	Work   string    // the key of a work
	Number int64
}

// row returns the table and condition of the claimed row, and the column with the time at which it is due again.
func (c Claim) row() (table, where, due string, id any, err error) {
	switch {
	case c.Work != "":
		return "works", "key", "next_poll_at", c.Work, nil
	case tickTables[c.Table]:
		return string(c.Table), "id", "next_tick_at", c.ID, nil
	}
	return "", "", "", nil, fmt.Errorf("claim %d: the rows of table %q do not tick", c.Number, c.Table)
}

// ClaimTicks claims the rows of a table that are due, for the time of the lease.
func (s *Store) ClaimTicks(ctx context.Context, table TickTable, lease time.Duration) (claims []Claim, err error) {
	if !tickTables[table] {
		return nil, fmt.Errorf("the rows of table %q do not tick", table)
	}
	if err := s.DB.WithContext(ctx).Raw(`
		update `+string(table)+` set held_until = now() + @lease * interval '1 second', claim = nextval('claims') where id in (
		  select id from `+string(table)+` where not settled and next_tick_at <= now() and held_until <= now()
		    and `+notSetAside(string(table), "id::text")+` for update skip locked)
		returning id, claim as number`, map[string]any{"lease": lease.Seconds()}).Scan(&claims).Error; err != nil {
		return nil, fmt.Errorf("claim %s: %w", table, err)
	}
	for i := range claims {
		claims[i].Table = table
	}
	return claims, nil
}

// ClaimWorks claims works that are due, for the time of the lease. All
// processes together hold at most share claims per site, and only one after the
// site did not answer. No work of the site is claimed before its retry time.
func (s *Store) ClaimWorks(ctx context.Context, lease time.Duration, share int) (claims []Claim, err error) {
	if err := s.DB.WithContext(ctx).Raw(`
		update works set held_until = now() + @lease * interval '1 second', claim = nextval('claims') where key in (
		  select w.key from sites s
		  cross join lateral (select count(*) as n from works h where h.site_id = s.id and h.state in ('asked', 'under way') and h.held_until > now()) held
		  cross join lateral (select d.key from works d
		    where d.site_id = s.id and d.state in ('asked', 'under way') and d.next_poll_at <= now() and d.held_until <= now()
		      and `+notSetAside("works", "d.key")+`
		    order by d.next_poll_at limit greatest(0, case when s.failures > 0 then 1 else @share end - held.n) for update skip locked) w
		  where s.retry_at <= now())
		returning key as work, claim as number`, map[string]any{"lease": lease.Seconds(), "share": share}).Scan(&claims).Error; err != nil {
		return nil, fmt.Errorf("claim works: %w", err)
	}
	return claims, nil
}

// RenewClaim renews the lease of a claim; false if another process has claimed the row since.
func (s *Store) RenewClaim(ctx context.Context, c Claim, lease time.Duration) (bool, error) {
	table, where, _, id, err := c.row()
	if err != nil {
		return false, err
	}
	r := s.DB.WithContext(ctx).Exec("update "+table+" set held_until = now() + ? * interval '1 second' "+
		"where "+where+" = ? and claim = ?", lease.Seconds(), id, c.Number)
	if r.Error != nil {
		return false, fmt.Errorf("renew a claim of %s: %w", table, r.Error)
	}
	return r.RowsAffected > 0, nil
}

// ReleaseClaim ends a claim. The row is due again after the wait, or at its due time if that is later.
func (s *Store) ReleaseClaim(ctx context.Context, c Claim, wait time.Duration) error {
	table, where, due, id, err := c.row()
	if err != nil {
		return err
	}
	if err := s.DB.WithContext(ctx).Exec("update "+table+" set held_until = '-infinity', "+
		due+" = greatest("+due+", now() + ? * interval '1 second') where "+where+" = ? and claim = ?",
		wait.Seconds(), id, c.Number).Error; err != nil {
		return fmt.Errorf("release a claim of %s: %w", table, err)
	}
	return nil
}
