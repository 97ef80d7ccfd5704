package store

import (
	"context"
	"fmt"
	"time"
)

// Ticking is a table whose rows are looked at again and again until they are
// settled. It has the columns id, settled, next_tick_at, held_until and claim.
type Ticking string

// The tables that there are.
const (
	RolloverTicks Ticking = "rollovers"
	BuildTicks    Ticking = "builds"
	ProofTicks    Ticking = "proofs"
)

var ticking = map[Ticking]bool{RolloverTicks: true, BuildTicks: true, ProofTicks: true}

// Claim is something due that a process works on. While it keeps the claim,
// which it renews, nobody else is given the same.
type Claim struct {
	Table  Ticking // the table of the row that is to tick, or
	ID     int64   // the row
	Work   string  // the key of the work that is to be seen to
	Number int64
}

// row says where the claim is kept, with the name of the column that says when it is due again.
func (c Claim) row() (table, where, due string, id any, err error) {
	switch {
	case c.Work != "":
		return "works", "key", "next_poll_at", c.Work, nil
	case ticking[c.Table]:
		return string(c.Table), "id", "next_tick_at", c.ID, nil
	}
	return "", "", "", nil, fmt.Errorf("claim %d is of table %q, which does not tick", c.Number, c.Table)
}

// ClaimTicks claims the rows of a table that are due, for so long.
func (s *Store) ClaimTicks(ctx context.Context, table Ticking, lease time.Duration) (claims []Claim, err error) {
	if !ticking[table] {
		return nil, fmt.Errorf("table %q does not tick", table)
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

// ClaimWorks claims works that are due, for so long. At a site, no more are
// claimed than its share, over all processes, and only one if the site did not
// answer last time; none before its next turn.
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

// KeepClaim goes on keeping a claim. It is false if it is another's by now.
func (s *Store) KeepClaim(ctx context.Context, c Claim, lease time.Duration) (bool, error) {
	table, where, _, id, err := c.row()
	if err != nil {
		return false, err
	}
	r := s.DB.WithContext(ctx).Exec("update "+table+" set held_until = now() + ? * interval '1 second' "+
		"where "+where+" = ? and claim = ?", lease.Seconds(), id, c.Number)
	if r.Error != nil {
		return false, fmt.Errorf("keep a claim of %s: %w", table, r.Error)
	}
	return r.RowsAffected > 0, nil
}

// ReleaseClaim lets go of a claim; it is due again after the wait, or when it
// was said to be meanwhile.
func (s *Store) ReleaseClaim(ctx context.Context, c Claim, wait time.Duration) error {
	table, where, due, id, err := c.row()
	if err != nil {
		return err
	}
	if err := s.DB.WithContext(ctx).Exec("update "+table+" set held_until = '-infinity', "+
		due+" = greatest("+due+", now() + ? * interval '1 second') where "+where+" = ? and claim = ?",
		wait.Seconds(), id, c.Number).Error; err != nil {
		return fmt.Errorf("let go of a claim of %s: %w", table, err)
	}
	return nil
}
