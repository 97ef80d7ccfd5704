package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"nimblepane/platform"
)

// Journal is platform.Journal in the database.
func (s *Store) Journal() platform.Journal { return journal{s} }

type journal struct{ *Store }

func (j journal) Add(ctx context.Context, site, key string, op platform.Operation) error {
	_, err := j.Pool.Exec(ctx, `insert into operations (key, site, operation, progress) values ($1, $2, $3, $4) on conflict do nothing`,
		key, site, op, platform.Progress{State: platform.UnderWay})
	return err
}

func (j journal) Entry(ctx context.Context, key string) (e platform.Entry, err error) {
	var op, progress []byte
	err = j.Pool.QueryRow(ctx, `select operation, progress, coalesce(held_until > now(), false) from operations where key = $1`, key).Scan(&op, &progress, &e.Leased)
	if errors.Is(err, pgx.ErrNoRows) {
		return e, platform.ErrUnknown
	}
	if err != nil {
		return e, err
	}
	return e, errors.Join(json.Unmarshal(op, &e.Operation), json.Unmarshal(progress, &e.Progress))
}

func (j journal) Lease(ctx context.Context, key, holder string, lease time.Duration) (bool, error) {
	tag, err := j.Pool.Exec(ctx, `update operations set holder = $2, held_until = now() + $3
		where key = $1 and under_way and (holder = $2 or held_until is null or held_until <= now())`, key, holder, lease)
	return tag.RowsAffected() == 1, err
}

// WithLock holds a lock of the database for the site, on a connection of its own.
// Within a process they queue without one.
func (j journal) WithLock(ctx context.Context, site string, fn func() error) error {
	queue := j.queueOf(site)
	select {
	case queue <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-queue }()
	conn, err := j.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "select pg_advisory_lock($1, hashtext($2))", lockPlacing, site); err != nil {
		return err
	}
	// A connection that cannot be told is closed, and its lock with it.
	defer func() {
		if _, err := conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock($1, hashtext($2))", lockPlacing,
			site); err != nil {
			_ = conn.Conn().Close(context.WithoutCancel(ctx))
		}
	}()
	return fn()
}

func (s *Store) queueOf(site string) chan struct{} {
	queue, _ := s.queues.LoadOrStore(site, make(chan struct{}, 1))
	return queue.(chan struct{})
}

func (j journal) Note(ctx context.Context, key, holder string, p platform.Progress, release bool) error {
	_, err := j.Pool.Exec(ctx, `update operations set progress = $3, under_way = $4, held_until = case when $5 then null else held_until end
		where key = $1 and holder = $2 and under_way`, key, holder, p, p.State == platform.UnderWay, release)
	return err
}

// PruneOperations forgets operations that ended long ago: their works have ended, and are not asked about again.
func PruneOperations(tx *Tx, keep time.Duration) error {
	return tx.Exec(`delete from operations where not under_way and begun_at < now() - ? * interval '1 second'`,
		keep.Seconds()).Error
}
