package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"
)

// Trier is what tries to sign in are counted by: a name, or an address. After
// some free tries each further wrong one makes the next wait twice as long.
type Trier struct {
	Key  string
	Free int           // tries before the first wait
	Most time.Duration // the longest wait
}

// forgotten is how long after the last try a trier begins anew.
const forgotten = time.Hour

// errWait ends the transaction of a try that has to wait.
var errWait = errors.New("the next try has to wait")

// CountTry counts a try for all of the triers before anybody looks whether it
// is right, so that many at once are counted as many. If one of them has to
// wait, nothing is counted, and it returns for how long.
func (s *Store) CountTry(ctx context.Context, triers ...Trier) (wait time.Duration, err error) {
	// Rows are locked in one order.
	slices.SortFunc(triers, func(a, b Trier) int { return map[bool]int{true: -1, false: 1}[a.Key < b.Key] })
	err = again(ctx, func() error {
		wait = 0
		return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			for _, t := range triers {
				// By the clock, not by the beginning of the transaction, which may lie
				// before a try that it waited for.
				counted := tx.Exec(`
					insert into sign_in_tries as t (key, failed, last_at, next_at) values (@key, 1, clock_timestamp(), clock_timestamp())
					on conflict (key) do update set last_at = clock_timestamp(),
					  failed = case when t.last_at < clock_timestamp() - @forgotten * interval '1 second' then 1 else t.failed + 1 end,
					  next_at = clock_timestamp() + case when t.last_at < clock_timestamp() - @forgotten * interval '1 second' or t.failed + 1 < @free then interval '0'
					    else least(@most, 2 ^ least(30, t.failed + 1 - @free)) * interval '1 second' end
					where t.next_at <= clock_timestamp()`,
					map[string]any{
						"key": t.Key, "free": t.Free, "most": t.Most.Seconds(),
						"forgotten": forgotten.Seconds(),
					})
				if counted.Error != nil {
					return fmt.Errorf("count a try: %w", counted.Error)
				}
				if counted.RowsAffected > 0 {
					continue
				}
				var left float64
				if err := tx.Raw("select extract(epoch from next_at - clock_timestamp()) from sign_in_tries where "+
					"key = ?", t.Key).Scan(&left).Error; err != nil {
					return fmt.Errorf("count a try: %w", err)
				}
				wait = max(time.Second, time.Duration(left*float64(time.Second)))
				return errWait
			}
			return nil
		})
	})
	if errors.Is(err, errWait) {
		err = nil
	}
	return wait, err
}

// TryWasRight takes a counted try back. The name begins anew; an address
// does not, or who knows one password could guess others from it for ever.
func (s *Store) TryWasRight(ctx context.Context, name, address string) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		return errors.Join(
			tx.Exec("update sign_in_tries set failed = greatest(failed - 1, 0), next_at = clock_timestamp() where "+
				"key = ?", address).Error,
			tx.Exec("update sign_in_tries set failed = 0, next_at = clock_timestamp() where key = ?", name).Error,
		)
	})
}

// TryWasWrong notes a counted try for the trail: under the account's name, or
// under none if there is no such account, whatever was typed.
func (s *Store) TryWasWrong(ctx context.Context, name, account string) error {
	if account == "" {
		return s.DB.WithContext(ctx).Exec(`insert into sign_in_tries as t (key, unreported, last_at, next_at) values ('nobody', 1, now(), now())
			on conflict (key) do update set unreported = t.unreported + 1, last_at = now()`).Error
	}
	return s.DB.WithContext(ctx).Exec("update sign_in_tries set unreported = unreported + 1, account = ? where key = ?",
		account, name).Error
}

// ReportTries writes what went wrong since the last report into the trail, a
// line for each account and minute at most, and forgets old counts.
func ReportTries(tx *Tx) error {
	var rows []struct {
		Account string
		N       int
	}
	err := tx.Raw(`update sign_in_tries t set unreported = 0, reported_at = now() from sign_in_tries b
		where b.key = t.key and t.unreported > 0 and t.reported_at < now() - interval '1 minute' returning t.account, b.unreported as n`).Scan(&rows).Error
	if err != nil {
		return fmt.Errorf("report tries: %w", err)
	}
	for _, r := range rows {
		subject := "account " + r.Account
		if r.Account == "" {
			subject = "accounts that do not exist"
		}
		tx.Record(Entry{Verb: "account.wrong-password", Subject: subject, Detail: map[string]any{"tries": r.N}})
	}
	return tx.Exec("delete from sign_in_tries where unreported = 0 and last_at < now() - interval '1 day'").Error
}
