// Package store keeps the records of an estate in PostgreSQL.
//
// Every change of state is made in Store.Change, which writes the change, the
// entries of the audit trail that tell of it and the events that make it seen,
// in one transaction. There is no other way to write a trail entry, so a
// change without its entry, or an entry without its change, cannot be left
// behind by a crash.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgerrcode"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"nimblepane/core/host"
	"nimblepane/core/rollover"
	"nimblepane/core/trail"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned, wrapped with what was looked for, when a record is not there.
var ErrNotFound = errors.New("not found")

// Store is a connection to the records. It is safe for concurrent use.
type Store struct {
	DB   *gorm.DB
	Pool *pgxpool.Pool

	queues sync.Map // of those who wait for Journal.WithLock in this process, by site
}

// Open connects to the database at the URL and brings its schema up to date.
// It fails if the database has a newer schema than this program knows.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database URL: %w", err)
	}
	config.MaxConns = max(config.MaxConns, 24)
	// No statement here is long enough for it to pay: compiling one takes two hundred milliseconds, and is done on a
	// guess of how much there is to read.
	config.ConnConfig.RuntimeParams["jit"] = "off"
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	if err := migrate(ctx, pool); err != nil {
		pool.Close()
		return nil, err
	}
	db, err := gorm.Open(postgres.New(postgres.Config{Conn: stdlib.OpenDBFromPool(pool)}), &gorm.Config{
		Logger:                 logger.Discard,
		SkipDefaultTransaction: true,
		NowFunc:                func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("open the database: %w", err)
	}
	if err := errors.Join(nameStatements(db), rememberRows(db)); err != nil {
		pool.Close()
		return nil, err
	}
	return &Store{DB: db, Pool: pool}, nil
}

// nameStatements has every error of a statement say which function of this package made it.
func nameStatements(db *gorm.DB) error {
	on := db.Callback()
	return errors.Join(
		on.Create().After("*").Register("nimblepane:name", nameStatement),
		on.Query().After("*").Register("nimblepane:name", nameStatement),
		on.Update().After("*").Register("nimblepane:name", nameStatement),
		on.Delete().After("*").Register("nimblepane:name", nameStatement),
		on.Row().After("*").Register("nimblepane:name", nameStatement),
		on.Raw().After("*").Register("nimblepane:name", nameStatement),
	)
}

// function is the name of a function of this package, without its receiver and what is within it.
var function = regexp.MustCompile(`^nimblepane/store\.(?:\(\*\w+\)\.)?(\w+)`)

func nameStatement(db *gorm.DB) {
	if db.Error == nil || errors.Is(db.Error, gorm.ErrRecordNotFound) {
		return
	}
	callers := make([]uintptr, 64)
	frames := runtime.CallersFrames(callers[:runtime.Callers(2, callers)])
	name := ""
	for {
		frame, more := frames.Next()
		m := function.FindStringSubmatch(frame.Function)
		if m != nil {
			name = m[1] // its caller may have the better name, if it is of this package
		}
		if !more || m == nil && name != "" {
			break
		}
	}
	if name != "" {
		db.Error = fmt.Errorf("store.%s: %w", name, db.Error)
	}
}

// Close closes all connections.
func (s *Store) Close() { s.Pool.Close() }

// Ready returns nil if the database answers.
func (s *Store) Ready(ctx context.Context) error { return s.Pool.Ping(ctx) }

// Locks that are held for a transaction. Their numbers only have to differ
// from each other and from goose's.
const (
	lockTrail      = 7_001
	lockMigrate    = 7_002
	lockSite       = 7_003 // with the site's id
	lockSweep      = 7_004 // with a digest of its name
	lockCapture    = 7_005 // with a digest of the build machine
	lockPlacing    = 7_006 // with a digest of the site
	lockOfRollover = 7_007 // with its id
	lockOfBuild    = 7_008 // with its id
	lockSheetFile  = 7_009 // with a digest of the file's digest
)

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	// Several services may start at once on a new database.
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "select pg_advisory_lock($1)", lockMigrate); err != nil {
		return fmt.Errorf("lock the schema: %w", err)
	}
	defer conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock($1)", lockMigrate)

	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	has, wants, err := provider.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("read the schema's version: %w", err)
	}
	if has > wants {
		return fmt.Errorf("the database has schema %d and this program knows %d: run the newer program", has, wants)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrate the database: %w", err)
	}
	jobs, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return fmt.Errorf("read the job migrations: %w", err)
	}
	if _, err := jobs.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("migrate the job tables: %w", err)
	}
	return nil
}

// Tx is a change under way.
type Tx struct {
	*gorm.DB
	Now   time.Time // the product's time, the same for the whole change
	Actor string    // who makes the change

	conn    *sql.Conn // that the change has for itself
	entries []trail.Entry
	events  []Event
}

// Change runs fn in a transaction and writes the trail entries and events
// that fn recorded with it. If fn returns an error nothing has changed. What
// the database refuses because of others who change the same at the same time
// is tried again, so fn may run several times.
func (s *Store) Change(ctx context.Context, actor string, now time.Time, fn func(*Tx) error) error {
	return again(ctx, func() error {
		return s.DB.WithContext(remembering(ctx)).Connection(func(db *gorm.DB) error {
			conn := db.Statement.ConnPool.(*sql.Conn)
			return db.Transaction(func(db *gorm.DB) error {
				tx := &Tx{DB: db, Now: now.UTC(), Actor: actor, conn: conn}
				if err := fn(tx); err != nil {
					return err
				}
				return tx.flush()
			})
		})
	})
}

// read has a query's rows read in the change without what database/sql and
// GORM do to each value: it is for thousands of rows, several times a second.
func (tx *Tx) read(each func(pgx.Rows) error, query string, args pgx.NamedArgs) error {
	return tx.conn.Raw(func(driver any) error {
		rows, err := driver.(*stdlib.Conn).Conn().Query(tx.Statement.Context, query, args)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			if err := each(rows); err != nil {
				return err
			}
		}
		return rows.Err()
	})
}

// again runs fn until it is not refused as a deadlock, a serialisation failure
// or a concurrent change, a number of times at most.
func again(ctx context.Context, fn func() error) error {
	const most = 12
	for n := 1; ; n++ {
		err := fn()
		var refused *pgconn.PgError
		collided := errors.Is(err, ErrConcurrent) || errors.As(err, &refused) &&
			(refused.Code == pgerrcode.DeadlockDetected || refused.Code == pgerrcode.SerializationFailure)
		if n == most || !collided {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(time.Duration(1+rand.IntN(10*n)) * time.Millisecond):
		}
	}
}

// Entry is what Record takes: the parts of a trail entry that are not known from the change.
type Entry struct {
	Verb, Subject, Scope, Reason string
	Detail                       any // marshalled to JSON; nil for nothing
	// Change is told to watchers only: what has changed of what they show, so
	// that they need not ask for it. Nil if they are to look again.
	Change any
}

// HostChange is what has changed of a host. What is left out is as it was.
type HostChange struct {
	Host     string         `json:"host"`
	Pool     string         `json:"pool,omitempty"`
	Rollover int64          `json:"rollover,omitempty"` // that has it in hand, with what follows
	Phase    rollover.Phase `json:"phase,omitempty"`
	Batch    int            `json:"batch,omitempty"`
	Progress int            `json:"progress,omitempty"` // of its new disk, in per cent
	State    host.State     `json:"state,omitempty"`
	Version  string         `json:"version,omitempty"` // that its disk is made from
	Why      string         `json:"why,omitempty"`
}

// Record adds an entry to the trail, and the event that tells the watchers of it.
func (tx *Tx) Record(e Entry) {
	var detail json.RawMessage
	if e.Detail != nil {
		detail, _ = json.Marshal(e.Detail) // plain values of our own: cannot fail
	}
	tx.entries = append(tx.entries, trail.Entry{
		At: tx.Now, Actor: tx.Actor, Verb: e.Verb, Subject: e.Subject, Scope: e.Scope, Reason: e.Reason, Detail: detail,
	})
	told := map[string]any{"scope": e.Scope, "reason": e.Reason, "actor": tx.Actor}
	if e.Change != nil {
		told["change"] = e.Change
	}
	tx.Emit(e.Verb, e.Subject, told)
}

// Emit adds an event without a trail entry, for what is seen but not accounted for.
func (tx *Tx) Emit(kind, subject string, data any) {
	raw, _ := json.Marshal(data)
	tx.events = append(tx.events, Event{At: tx.Now, Kind: kind, Subject: subject, Data: raw})
}

// TrySweep says whether this change may do the sweep: one at a time does, of all processes.
func (tx *Tx) TrySweep(name string) (mine bool, err error) {
	err = tx.Raw("select pg_try_advisory_xact_lock(?, hashtext(?))", lockSweep, name).Scan(&mine).Error
	return mine, err
}

// LockSite makes the change the only one that decides about clones at the site until it ends.
func (tx *Tx) LockSite(site int64) error {
	return tx.Exec("select pg_advisory_xact_lock(?, ?)", lockSite, site).Error
}

func (tx *Tx) flush() error {
	if len(tx.events) == 0 {
		return nil
	}
	// The lock is held until the commit: entries are chained, and events are
	// numbered, in the order in which they become visible.
	if err := tx.Exec("select pg_advisory_xact_lock(?)", lockTrail).Error; err != nil {
		return fmt.Errorf("lock the trail: %w", err)
	}
	if len(tx.entries) > 0 {
		var last trail.Entry
		if err := tx.Raw("select seq, hash from trail order by seq desc limit 1").Scan(&last).Error; err != nil {
			return fmt.Errorf("read the end of the trail: %w", err)
		}
		rows := make([]TrailRow, len(tx.entries))
		for i, e := range tx.entries {
			last = trail.Seal(e, last)
			rows[i] = trailRow(last)
		}
		if err := tx.CreateInBatches(rows, 500).Error; err != nil {
			return fmt.Errorf("write the trail: %w", err)
		}
	}
	if err := tx.CreateInBatches(tx.events, 500).Error; err != nil {
		return fmt.Errorf("write the events: %w", err)
	}
	return tx.Exec("select pg_notify('nimblepane_events', '')").Error
}

// IsRefusal says that the database would not keep a value: it holds a
// character that no text may, is out of range, or breaks a rule of the schema.
// The same again is refused again.
func IsRefusal(err error) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && (pgerrcode.IsDataException(refused.Code) ||
		pgerrcode.IsIntegrityConstraintViolation(refused.Code))
}

// IsAway says that the database could not be asked at all, or not now.
func IsAway(err error) bool {
	var connect *pgconn.ConnectError
	var network net.Error
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return pgerrcode.IsConnectionException(refused.Code) || pgerrcode.IsOperatorIntervention(refused.Code) ||
			pgerrcode.IsInsufficientResources(refused.Code) || pgerrcode.IsTransactionRollback(refused.Code)
	}
	return errors.As(err, &connect) || errors.As(err, &network) || errors.Is(err, io.ErrUnexpectedEOF) ||
		pgconn.SafeToRetry(err)
}

// named loads one record by what people call it, or returns ErrNotFound with
// what there is instead. siblings selects the records that it could have been.
func named[T any](db *gorm.DB, what, column string, siblings *gorm.DB, where string, args ...any) (T, error) {
	row, err := first[T](db, what, where, args...)
	if !errors.Is(err, ErrNotFound) {
		return row, err
	}
	const most = 12
	var names []string
	var model T
	if serr := siblings.Model(&model).Order(column).Limit(most+1).Pluck(column, &names).Error; serr != nil {
		return row, err
	}
	switch {
	case len(names) == 0:
		return row, fmt.Errorf("%w: there is none yet", err)
	case len(names) > most:
		return row, fmt.Errorf("%w: there are %s and more", err, strings.Join(names[:most], ", "))
	}
	return row, fmt.Errorf("%w: there are %s", err, strings.Join(names, ", "))
}

// fresh is the same connection or transaction without the conditions and locks of db.
func fresh(db *gorm.DB) *gorm.DB { return db.Session(&gorm.Session{NewDB: true}) }

// first loads one record, or returns ErrNotFound in words.
func first[T any](db *gorm.DB, what string, where string, args ...any) (T, error) {
	var row T
	err := db.Where(where, args...).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return row, fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	return row, err
}

// containing is the pattern of texts that contain another, whatever signs that has.
func containing(part string) string {
	return "%" + likeEscaped(part) + "%"
}
