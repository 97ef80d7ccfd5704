package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"

	"nimblepane/agent"
)

// Beat is one heartbeat as it is written down.
type Beat struct {
	Credential     []byte // SHA-256 of what the agent presented
	Stamp          string
	DrainConfirmed int64
	ChecksOrder    int64
	Checks         agent.ChecksState
	ChecksWhy      string
	Load           float64
	Sessions       json.RawMessage
	Done           []int64 // orders that were carried out
}

// Reply is what the agent of a host is to know.
type Reply struct {
	Known      bool // the credential belongs to a host
	HostID     int64
	Host       string
	PoolID     int64
	DrainOrder int64
	CheckOrder int64
	Why        string // of the drain
	Orders     []Order
}

// Speaker is the host that a credential belongs to.
type Speaker struct {
	HostID, PoolID int64
	Seats          int
}

// Speakers returns whose the credentials are (SHA-256 of what was presented);
// those that belong to nobody are left out.
func (s *Store) Speakers(ctx context.Context, credentials [][]byte) (map[string]Speaker, error) {
	rows, err := s.Pool.Query(ctx, `select u.credential, h.id, h.pool_id, p.seats_per_host
		from pulses u join hosts h on h.id = u.host_id join pools p on p.id = h.pool_id where u.credential = any($1)`, credentials)
	if err != nil {
		return nil, fmt.Errorf("look up credentials: %w", err)
	}
	defer rows.Close()
	out := make(map[string]Speaker, len(credentials))
	for rows.Next() {
		var credential []byte
		var w Speaker
		if err := rows.Scan(&credential, &w.HostID, &w.PoolID, &w.Seats); err != nil {
			return nil, fmt.Errorf("look up credentials: %w", err)
		}
		out[string(credential)] = w
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("look up credentials: %w", err)
	}
	return out, nil
}

// SaveBeats writes a batch of heartbeats that came in at now, one of a host at
// most, and returns a reply to each, in the same order. It asks the database
// once, however many there are; all are written or none.
func (s *Store) SaveBeats(ctx context.Context, now time.Time, beats []Beat) (replies []Reply, err error) {
	err = again(ctx, func() error {
		replies, err = s.saveBeats(ctx, now, beats)
		return err
	})
	return replies, err
}

func (s *Store) saveBeats(ctx context.Context, now time.Time, beats []Beat) ([]Reply, error) {
	n := len(beats)
	var (
		index      = make([]int32, n)
		credential = make([][]byte, n)
		stamp      = make([]string, n)
		drain      = make([]int64, n)
		checkOrder = make([]int64, n)
		checks     = make([]string, n)
		checksWhy  = make([]string, n)
		load       = make([]float64, n)
		sessions   = make([]string, n)
	)
	for i, b := range beats {
		index[i], credential[i], stamp[i], drain[i] = int32(i), b.Credential, b.Stamp, b.DrainConfirmed
		checkOrder[i], checks[i], checksWhy[i], load[i], sessions[i] = b.ChecksOrder, string(b.Checks), b.ChecksWhy,
			b.Load, string(b.Sessions)
	}
	var done []int64
	var doneBy [][]byte
	for _, b := range beats {
		for _, order := range b.Done {
			done, doneBy = append(done, order), append(doneBy, b.Credential)
		}
	}
	// Both go to the database at once, and are one transaction there.
	var both pgx.Batch
	if len(done) > 0 {
		// What a host says counts for its own orders only.
		both.Queue(`update orders o set done_at = $1 from unnest($2::bigint[], $3::bytea[]) as d(id, credential)
			join pulses u on u.credential = d.credential
			where o.id = d.id and o.host_id = u.host_id and o.done_at is null`, now, done, doneBy).Exec(func(pgconn.CommandTag) error { return nil })
	}
	replies := make([]Reply, n)
	// Rows are locked in the order of their host, so that two services that
	// write at once wait for each other and do not block each other for good.
	both.Queue(`
		with beat as materialized (
		  select u.host_id, b.* from unnest($1::int[], $2::bytea[], $3::text[], $4::bigint[], $5::bigint[], $6::text[], $7::text[], $8::float8[], $9::text[])
		    as b(i, credential, stamp, drain, check_order, checks, checks_why, load, sessions)
		  join pulses u on u.credential = b.credential
		  order by u.host_id for no key update of u
		), saved as (
		  update pulses u set seen_at = $10, stamp = b.stamp, drain_confirmed = b.drain, checks_order = b.check_order,
		    checks = b.checks, checks_why = b.checks_why, load = b.load, sessions = b.sessions::jsonb
		  from beat b where u.host_id = b.host_id
		  returning b.i, u.host_id
		)
		select saved.i, h.id, h.name, h.pool_id, h.drain_order, h.check_order,
		  (select json_agg(json_build_object('ID', o.id, 'HostID', o.host_id, 'Kind', o.kind, 'SessionKey', o.session_key, 'Text', o.text) order by o.id)
		   from orders o where o.host_id = h.id and o.done_at is null)
		from saved join hosts h on h.id = saved.host_id`,
		index, credential, stamp, drain, checkOrder, checks, checksWhy, load, sessions,
		now).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var i int32
			r := Reply{Known: true}
			if err := rows.Scan(&i, &r.HostID, &r.Host, &r.PoolID, &r.DrainOrder, &r.CheckOrder,
				&r.Orders); err != nil {
				return err
			}
			replies[i] = r
		}
		return rows.Err()
	})
	if err := s.Pool.SendBatch(ctx, &both).Close(); err != nil {
		return nil, fmt.Errorf("save heartbeats: %w", err)
	}
	return replies, nil
}

// Enrolment is a one-time token for the agent of a host.
type Enrolment struct {
	Token     []byte `gorm:"primaryKey"` // SHA-256 of it
	HostID    int64
	CreatedAt time.Time
}

// AddEnrolment adds a token for the agent of a host, of which only the digest is kept.
func AddEnrolment(db *gorm.DB, hostID int64, token string, now time.Time) error {
	return db.Create(&Enrolment{Token: Digest(token), HostID: hostID, CreatedAt: now}).Error
}

// Enrol trades the token (its SHA-256) for the credential (its SHA-256) of its host, in one transaction. Until the host
// has used its credential, the token can be traded again, in case the answer was lost. An unknown or used token is
// ErrNotFound.
func (s *Store) Enrol(ctx context.Context, token, credential []byte, now time.Time) (host Host, err error) {
	err = s.Change(ctx, "agent", now, func(tx *Tx) error {
		var e Enrolment
		if err := tx.Raw(`update enrolments e set used_at = ? where token = ? and (used_at is null or exists (
				select from pulses u where u.host_id = e.host_id and u.credential is not null and u.seen_at is null))
			returning *`, now, token).Scan(&e).Error; err != nil {
			return err
		}
		if e.HostID == 0 {
			return fmt.Errorf("enrolment token: %w", ErrNotFound)
		}
		host, err = first[Host](tx.DB, "host", "id = ?", e.HostID)
		if err != nil {
			return err
		}
		tx.Record(Entry{Verb: "host.enrol", Subject: "host " + host.Name})
		return tx.Exec("update pulses set credential = ?, seen_at = null, stamp = '', drain_confirmed = 0, "+
			"checks_order = 0, checks = '', checks_why = '', sessions = '[]' where host_id = ?", credential,
			e.HostID).Error
	})
	return host, err
}
