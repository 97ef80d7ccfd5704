package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"

	"nimblepane/core/rollover"
)

// Host is one machine of a pool.
type Host struct {
	ID        int64
	Name      string
	PoolID    int64
	State     rollover.HostState
	Since     time.Time
	VersionID *int64 // what its disk was made from
	Why       string // why it is faulty
	// MachineWhy is what was seen of the machine of a faulty host.
	MachineWhy string
	// Silent marks a host that is faulty only because its agent is silent: it
	// comes back by itself when the agent speaks.
	Silent    bool
	DrainedBy string
	// DrainOrder numbers the drain order in force, 0 if the host takes
	// sessions. The agent's heartbeat confirms it by its number, so that a
	// confirmation of an earlier drain is not taken for one of this.
	DrainOrder int64
	CheckOrder int64 // numbers the checks asked for, likewise
	Machine    bool  // it has a machine whose disk was made whole
	Unserved   bool  // the machine was told to refuse everybody ever since its disk was made
	// VouchedAt is when a person gave their word that nobody is on it, nil if nobody did.
	VouchedAt *time.Time
}

// HostRow is a host with all that is shown of it.
type HostRow struct {
	ID        int64
	Name      string
	PoolID    int64
	Pool      string
	Site      string
	Image     string
	State     rollover.HostState
	Since     time.Time
	Why       string
	DrainedBy string
	VersionID *int64
	Version   string
	TargetID  *int64
	Target    string
	Drifts    bool
	Seats     int
	SeenAt    *time.Time
	Load      float64
	Stamp     string
	Checks    string
	ChecksWhy string
	Sessions  int
}

// HostFilter selects hosts; empty fields select all.
type HostFilter struct {
	Pool, Site, Image, State, Version string
	Drifts                            bool
	After                             string // only hosts with a greater name
	Limit                             int
}

// HostRows returns a page of hosts by name.
func HostRows(db *gorm.DB, f HostFilter) (rows []HostRow, err error) {
	for column, value := range map[string]string{"pool": f.Pool, "site": f.Site, "image": f.Image, "state": f.State, "version": f.Version} {
		if value != "" {
			db = db.Where(column+" = ?", value)
		}
	}
	if f.Drifts {
		db = db.Where("drifts")
	}
	if f.After != "" {
		db = db.Where("name > ?", f.After)
	}
	if f.Limit > 0 {
		db = db.Limit(f.Limit)
	}
	err = db.Table("host_rows").Order("name").Find(&rows).Error
	return rows, err
}

// HostRowNamed returns the host, or ErrNotFound.
func HostRowNamed(db *gorm.DB, name string) (HostRow, error) {
	return first[HostRow](db.Table("host_rows"), fmt.Sprintf("host %q", name), "name = ?", name)
}

// HostNamed returns the host, or ErrNotFound.
func HostNamed(db *gorm.DB, name string) (Host, error) {
	return first[Host](db, fmt.Sprintf("host %q", name), "name = ?", name)
}

// HostByID returns the host, or ErrNotFound.
func HostByID(db *gorm.DB, id int64) (Host, error) {
	return first[Host](db, fmt.Sprintf("host %d", id), "id = ?", id)
}

// ClaimFaulty returns faulty hosts whose machines are to be looked at, and
// keeps them from others for so long.
func (s *Store) ClaimFaulty(ctx context.Context, limit int, hold time.Duration) (rows []Host, err error) {
	err = s.DB.WithContext(ctx).Raw(`
		update hosts set look_at = now() + ? * interval '1 second' where id in (
		  select id from hosts where state = 'faulty' and look_at <= now() order by look_at limit ? for update skip locked)
		returning *`, hold.Seconds(), limit).Scan(&rows).Error
	return rows, err
}

// MachineSeen notes what is wrong with the machine of a host, if the host is as faulty as it was.
func (tx *Tx) MachineSeen(h Host, why string) error {
	return tx.Exec("update hosts set machine_why = ? where id = ? and state = 'faulty' and since = ?", why, h.ID, h.Since).Error
}

// InHand returns the host's place in a rollover that has it in flight; false if none has.
func InHand(db *gorm.DB, hostID int64) (m RolloverHost, in bool, err error) {
	var rows []RolloverHost
	err = db.Raw(`select m.* from rollover_hosts m join rollovers r on r.id = m.rollover_id
		where m.host_id = ? and not r.settled and m.phase in ('draining', 'warned', 'emptied', 'rebuilding', 'checking')`, hostID).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return m, false, err
	}
	return rows[0], true, nil
}

// NextOrder returns a number for an order to drain or to check.
func (tx *Tx) NextOrder() (n int64, err error) {
	err = tx.Raw("select nextval('order_numbers')").Scan(&n).Error
	return n, err
}

// FallSilent marks the hosts faulty that people can work on and whose agents
// were last heard before the limit. It returns their names.
func (tx *Tx) FallSilent(limit time.Time) (names []string, err error) {
	err = tx.Raw(`update hosts h set state = 'faulty', silent = true, since = @now, machine_why = '', why = 'its agent is silent, last heard ' ||
			coalesce(to_char(u.seen_at at time zone 'UTC', 'YYYY-MM-DD HH24:MI:SS') || ' UTC', 'never')
		from pulses u where u.host_id = h.id and h.state in ('serving', 'draining', 'emptied') and h.machine and not h.unserved
			and h.vouched_at is null and (u.seen_at is null or u.seen_at < @limit) returning h.name`, tx.since(limit)).Scan(&names).Error
	return names, err
}

// SpeakAgain puts the hosts back that were faulty only because their agents
// were silent, and were heard after the limit. It returns their names.
func (tx *Tx) SpeakAgain(limit time.Time) (names []string, err error) {
	err = tx.Raw(`update hosts h set silent = false, why = '', machine_why = '', vouched_at = null, since = @now,
			state = case when drain_order = 0 then 'serving' else 'draining' end
		from pulses u where u.host_id = h.id and h.state = 'faulty' and h.silent and u.seen_at > @limit returning h.name`, tx.since(limit)).Scan(&names).Error
	return names, err
}

// EmptyByHand marks the hosts emptied that people drained by hand, and that
// nobody is on any more by what their agents said after the limit. It returns their names.
func (tx *Tx) EmptyByHand(limit time.Time) (names []string, err error) {
	err = tx.Raw(`update hosts h set state = 'emptied', machine_why = '', since = @now
		from pulses u where u.host_id = h.id and h.state = 'draining' and h.drained_by <> '' and u.drain_confirmed = h.drain_order
			and u.sessions = '[]' and u.seen_at > @limit returning h.name`, tx.since(limit)).Scan(&names).Error
	return names, err
}

// RefillByHand marks the hosts draining again that people drained by hand, and
// that somebody is on after all. It returns their names.
func (tx *Tx) RefillByHand() (names []string, err error) {
	err = tx.Raw(`update hosts h set state = 'draining', since = @now
		from pulses u where u.host_id = h.id and h.state = 'emptied' and h.drained_by <> '' and u.sessions <> '[]' returning h.name`, tx.since(tx.Now)).Scan(&names).Error
	return names, err
}

func (tx *Tx) since(limit time.Time) map[string]any {
	return map[string]any{"now": tx.Now, "limit": limit}
}

// TakeOver lets a rollover have a host that somebody drained by hand.
func (tx *Tx) TakeOver(hostID int64) error {
	return tx.Exec("update hosts set drained_by = '', state = 'draining' where id = ?", hostID).Error
}

// AddHosts adds hosts to a pool, and the pulse of each.
func (tx *Tx) AddHosts(poolID int64, hosts []Host) error {
	if err := tx.CreateInBatches(hosts, 1000).Error; err != nil {
		return err
	}
	return tx.Exec(`insert into pulses (host_id)
		select id from hosts h where pool_id = ? and not exists (select from pulses u where u.host_id = h.id)`, poolID).Error
}

// HostsOn returns the names of the hosts that run the version, or are made from it.
func HostsOn(db *gorm.DB, versionID int64) (names []string, err error) {
	err = db.Model(&Host{}).Where("version_id = ?", versionID).Order("name").Pluck("name", &names).Error
	return names, err
}

// OutOfService is the hosts of a pool that are out of service for the same cause.
type OutOfService struct {
	Pool, State string
	N           int
	Name, Why   string // of the first by name
}

// HostsOutOfService returns the hosts that are faulty or drained by hand, by pool and state.
func HostsOutOfService(db *gorm.DB) (rows []OutOfService, err error) {
	err = db.Raw(`select distinct on (r.pool, r.state) r.pool, r.state, r.name, r.why, count(*) over (partition by r.pool, r.state) as n
		from host_rows r where r.state = 'faulty' or r.state in ('draining', 'emptied') and r.drained_by <> ''
		order by r.pool, r.state, r.name`).Scan(&rows).Error
	return rows, err
}

// Drift is how many hosts of a pool run another version than they should.
type Drift struct {
	Pool, Target string
	N, Total     int
}

// Drifts returns the drift of the pools that no rollover has in hand: one that is being rolled drifts by intent.
func Drifts(db *gorm.DB) (rows []Drift, err error) {
	err = db.Raw(`select r.pool, max(r.target) as target, count(*) filter (where r.drifts) as n, count(*) as total
		from host_rows r where not exists (select from rollovers o where o.pool_id = r.pool_id and not o.settled)
		group by 1 having count(*) filter (where r.drifts) > 0 order by 1`).Scan(&rows).Error
	return rows, err
}

// Hosts returns the hosts of a pool by name.
func Hosts(db *gorm.DB, poolID int64) (rows []Host, err error) {
	err = db.Where("pool_id = ?", poolID).Order("name").Find(&rows).Error
	return rows, err
}

// SessionRow is one session with where it is.
type SessionRow struct {
	HostID    int64
	Host      string
	HostState string
	Pool      string
	Site      string
	Key       string
	Person    string
	State     string
	Since     time.Time
}

// SessionFilter selects sessions; empty fields select all.
type SessionFilter struct {
	Pool, Host, Person, State string
	After                     string // cursor: host and key with a slash between
	Limit                     int
}

// SessionRows returns a page of sessions by host and key.
func SessionRows(db *gorm.DB, f SessionFilter) (rows []SessionRow, err error) {
	for column, value := range map[string]string{"pool": f.Pool, "host": f.Host, "person": f.Person, "state": f.State} {
		if value != "" {
			db = db.Where(column+" = ?", value)
		}
	}
	if host, key, ok := strings.Cut(f.After, "/"); ok {
		db = db.Where("(host, key) > (?, ?)", host, key)
	}
	if f.Limit > 0 {
		db = db.Limit(f.Limit)
	}
	err = db.Table("session_rows").Order("host, key").Find(&rows).Error
	return rows, err
}

// Order is something that the agent of a host is to do to a session.
type Order struct {
	ID         int64
	HostID     int64
	Kind       string // OrderTell or OrderSignOff
	Notice     string // NoticeFirst, NoticeLast, or "" for a person's own words
	SessionKey string
	Text       string
	RolloverID *int64
	CreatedAt  time.Time
	DoneAt     *time.Time
}

// Kinds of orders and of notices.
const (
	OrderTell    = "tell"
	OrderSignOff = "sign-off"
	NoticeFirst  = "first"
	NoticeLast   = "last"
)

// PruneOrders forgets the orders of rollovers that are over, and those of
// people once they were carried out, or not within the time to keep them.
func PruneOrders(tx *Tx, keep time.Duration) error {
	return tx.Exec(`delete from orders o where
		o.rollover_id is null and (o.done_at is not null or o.created_at < ?)
		or exists (select from rollovers r where r.id = o.rollover_id and r.settled)`, tx.Now.Add(-keep)).Error
}

// Give gives orders to hosts.
func (tx *Tx) Give(orders ...Order) error {
	if len(orders) == 0 {
		return nil
	}
	return tx.CreateInBatches(orders, 1000).Error
}

// Beat is one heartbeat as it is written down.
type Beat struct {
	Credential     []byte // SHA-256 of what the agent presented
	Stamp          string
	DrainConfirmed int64
	ChecksOrder    int64
	Checks         string
	ChecksWhy      string
	Load           float64
	Sessions       json.RawMessage
	Done           []int64 // orders that were carried out
}

// Reply is what the agent of a host is to know.
type Reply struct {
	Known      bool // the credential belongs to a host
	HostID     int64
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
		checkOrder[i], checks[i], checksWhy[i], load[i], sessions[i] = b.ChecksOrder, b.Checks, b.ChecksWhy, b.Load, string(b.Sessions)
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
		select saved.i, h.id, h.pool_id, h.drain_order, h.check_order,
		  (select json_agg(json_build_object('ID', o.id, 'HostID', o.host_id, 'Kind', o.kind, 'SessionKey', o.session_key, 'Text', o.text) order by o.id)
		   from orders o where o.host_id = h.id and o.done_at is null)
		from saved join hosts h on h.id = saved.host_id`,
		index, credential, stamp, drain, checkOrder, checks, checksWhy, load, sessions, now).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var i int32
			r := Reply{Known: true}
			if err := rows.Scan(&i, &r.HostID, &r.PoolID, &r.DrainOrder, &r.CheckOrder, &r.Orders); err != nil {
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
	UsedAt    *time.Time
}

// Enrol uses up the token (its SHA-256) and gives its host the credential (its
// SHA-256), in one transaction. An unknown or used token is ErrNotFound.
func (s *Store) Enrol(ctx context.Context, token, credential []byte, now time.Time) (host Host, err error) {
	err = s.Change(ctx, "agent", now, func(tx *Tx) error {
		var e Enrolment
		if err := tx.Raw("update enrolments set used_at = ? where token = ? and used_at is null returning *", now, token).Scan(&e).Error; err != nil {
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
		return tx.Exec("update pulses set credential = ?, seen_at = null, stamp = '', drain_confirmed = 0, checks_order = 0, checks = '', checks_why = '', sessions = '[]' where host_id = ?", credential, e.HostID).Error
	})
	return host, err
}
