package store

import (
	"context"
	"fmt"
	"time"
)

// Claim is something due that a process works on. While it holds the claim,
// which it renews, nobody else is given the same.
type Claim struct {
	Rollover int64  // the rollover that is to tick, or
	Work     string // the key of the work that is to be seen to
	Number   int64
}

func (c Claim) table() (table, column string, id any) {
	if c.Work != "" {
		return "works", "key", c.Work
	}
	return "rollovers", "id", c.Rollover
}

// ClaimDue claims rollovers and works that are due, for as long as hold says.
// At a site, no more works are claimed than its share, over all processes, and
// only one if the site did not answer last time; none before its next turn.
func (s *Store) ClaimDue(ctx context.Context, hold time.Duration, share int) (claims []Claim, err error) {
	db := s.DB.WithContext(ctx)
	args := map[string]any{"hold": hold.Seconds(), "share": share}
	if err := db.Raw(`
		update rollovers set held_until = now() + @hold * interval '1 second', claim = nextval('claims') where id in (
		  select id from rollovers where not settled and next_tick_at <= now() and held_until <= now() for update skip locked)
		returning id as rollover, claim as number`, args).Scan(&claims).Error; err != nil {
		return nil, fmt.Errorf("claim rollovers: %w", err)
	}
	var works []Claim
	if err := db.Raw(`
		update works set held_until = now() + @hold * interval '1 second', claim = nextval('claims') where key in (
		  select w.key from sites s
		  cross join lateral (select count(*) as n from works h where h.site_id = s.id and h.state in ('asked', 'under way') and h.held_until > now()) held
		  cross join lateral (select d.key from works d
		    where d.site_id = s.id and d.state in ('asked', 'under way') and d.next_poll_at <= now() and d.held_until <= now()
		    order by d.next_poll_at limit greatest(0, case when s.failures > 0 then 1 else @share end - held.n) for update skip locked) w
		  where s.retry_at <= now())
		returning key as work, claim as number`, args).Scan(&works).Error; err != nil {
		return nil, fmt.Errorf("claim works: %w", err)
	}
	return append(claims, works...), nil
}

// KeepClaim goes on holding a claim. It is false if it is another's by now.
func (s *Store) KeepClaim(ctx context.Context, c Claim, hold time.Duration) (bool, error) {
	table, column, id := c.table()
	r := s.DB.WithContext(ctx).Exec("update "+table+" set held_until = now() + ? * interval '1 second' where "+column+" = ? and claim = ?", hold.Seconds(), id, c.Number)
	return r.RowsAffected > 0, r.Error
}

// ReleaseClaim lets go of a claim; it is due again after the wait, or when it
// was said to be meanwhile.
func (s *Store) ReleaseClaim(ctx context.Context, c Claim, wait time.Duration) error {
	table, column, id := c.table()
	due := map[string]string{"works": "next_poll_at", "rollovers": "next_tick_at"}[table]
	return s.DB.WithContext(ctx).Exec("update "+table+" set held_until = '-infinity', "+due+" = greatest("+due+", now() + ? * interval '1 second') where "+column+" = ? and claim = ?",
		wait.Seconds(), id, c.Number).Error
}

// AskSiteNow lets a site be asked at once, that perhaps answers again.
func AskSiteNow(tx *Tx, site int64) error {
	return tx.Exec("update sites set retry_at = '-infinity' where id = ?", site).Error
}

// SiteFailed notes that a site did not answer, and when it is asked again:
// twice as late each time, up to a minute. It returns whether that is news.
func SiteFailed(tx *Tx, site int64, why string) (news bool, err error) {
	var failures int
	err = tx.Raw(`update sites set failures = failures + 1, trouble = ?, trouble_since = coalesce(trouble_since, ?),
		retry_at = now() + least(60, 2 ^ least(10, failures)) * interval '1 second' where id = ? and retry_at <= now() returning failures`, why, tx.Now, site).Scan(&failures).Error
	return failures == 1, err
}

// SiteAnswered notes that a site answers again. It returns whether that is news.
func SiteAnswered(tx *Tx, site int64) (news bool, err error) {
	r := tx.Exec("update sites set failures = 0, trouble = '', trouble_since = null, retry_at = '-infinity' where id = ? and failures > 0", site)
	return r.RowsAffected > 0, r.Error
}
