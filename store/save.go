package store

import (
	"bytes"
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/schema"
)

// A change remembers the rows that it has read, so that Save writes only the
// columns that it changes, and only if no other change has written them since.
// Writing whole rows would undo what others committed in between.

// ErrConcurrent is returned, wrapped, when another change has written a row
// since this one read it. The change restarts.
var ErrConcurrent = errors.New("it was changed at the same time; try again")

// rowsRead are the rows that a change has read or written, as they are in the database.
type rowsRead struct {
	mu   sync.Mutex // GORM may load associations concurrently
	rows map[rowKey][]any
}

type rowKey struct{ table, key string }

type rowsReadKey struct{}

// remembering returns the context of a change.
func remembering(ctx context.Context) context.Context {
	return context.WithValue(ctx, rowsReadKey{}, &rowsRead{rows: map[rowKey][]any{}})
}

// rememberRows has GORM note the rows that a change reads and creates.
func rememberRows(db *gorm.DB) error {
	remember := func(db *gorm.DB) {
		read, is := db.Statement.Context.Value(rowsReadKey{}).(*rowsRead)
		if !is || db.Error != nil || db.Statement.Schema == nil {
			return
		}
		switch rows := db.Statement.ReflectValue; rows.Kind() {
		case reflect.Struct:
			read.note(db.Statement.Context, db.Statement.Schema, rows)
		case reflect.Slice, reflect.Array:
			for i := range rows.Len() {
				read.note(db.Statement.Context, db.Statement.Schema, reflect.Indirect(rows.Index(i)))
			}
		}
	}
	created := func(db *gorm.DB) {
		// Rows that are created many at once are only written.
		if db.Statement.ReflectValue.Kind() == reflect.Struct {
			remember(db)
		}
	}
	return errors.Join(
		db.Callback().Query().After("gorm:query").Register("nimblepane:remember", remember),
		db.Callback().Create().After("gorm:create").Register("nimblepane:remember", created),
	)
}

// note remembers a row.
func (r *rowsRead) note(ctx context.Context, s *schema.Schema, row reflect.Value) {
	if len(s.PrimaryFields) == 0 || row.Type() != s.ModelType {
		return
	}
	key, values := keyOf(ctx, s, row), valuesOf(ctx, s, row)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.rows[key] = values
}

func keyOf(ctx context.Context, s *schema.Schema, row reflect.Value) rowKey {
	var key strings.Builder
	for _, f := range s.PrimaryFields {
		value, _ := f.ValueOf(ctx, row)
		fmt.Fprintf(&key, "%v\x00", value)
	}
	return rowKey{s.Table, key.String()}
}

// valuesOf are the values of a row's columns, in the order of the schema's fields. They share nothing with the row.
func valuesOf(ctx context.Context, s *schema.Schema, row reflect.Value) []any {
	values := make([]any, len(s.Fields))
	for i, f := range s.Fields {
		values[i], _ = f.ValueOf(ctx, row)
		if v, is := values[i].(driver.Valuer); is && !isNil(values[i]) {
			values[i], _ = v.Value()
		}
		if v := reflect.ValueOf(values[i]); v.Kind() == reflect.Pointer {
			if values[i] = nil; !v.IsNil() {
				values[i] = v.Elem().Interface()
			}
		}
		switch v := values[i].(type) {
		case time.Time:
			values[i] = v.Truncate(time.Microsecond) // as the database keeps it
		case []byte:
			values[i] = bytes.Clone(v)
		}
	}
	return values
}

func isNil(value any) bool {
	v := reflect.ValueOf(value)
	return v.Kind() == reflect.Pointer && v.IsNil()
}

func same(a, b any) bool {
	if x, is := a.(time.Time); is {
		y, is := b.(time.Time)
		return is && x.Equal(y)
	}
	return reflect.DeepEqual(a, b)
}

// Save writes the columns of a row that differ from what the change has read.
// A row without a key is created. The error is ErrConcurrent if one of these
// columns has another value by now. A row that was not read in this change is
// an error, too: it may be older than what others have written since.
func (tx *Tx) Save(row any) *gorm.DB {
	db := fresh(tx.DB)
	if err := tx.save(row); err != nil {
		_ = db.AddError(err)
	}
	return db
}

func (tx *Tx) save(row any) error {
	ctx, as := tx.Statement.Context, gorm.Statement{DB: tx.DB}
	if err := as.Parse(row); err != nil {
		return err
	}
	s, value := as.Schema, reflect.Indirect(reflect.ValueOf(row))
	if f := s.PrioritizedPrimaryField; f != nil && f.AutoIncrement {
		if _, zero := f.ValueOf(ctx, value); zero {
			return fresh(tx.DB).Create(row).Error
		}
	}
	read, _ := ctx.Value(rowsReadKey{}).(*rowsRead)
	if read == nil {
		return fmt.Errorf("%s: a row is saved outside of a change", s.Table)
	}
	key, now := keyOf(ctx, s, value), valuesOf(ctx, s, value)
	read.mu.Lock()
	before := read.rows[key]
	read.mu.Unlock()
	if before == nil {
		return fmt.Errorf("%s: a row is saved that the change has not read", s.Table)
	}
	changes, update := map[string]any{}, fresh(tx.DB).Table(s.Table)
	for i, f := range s.Fields {
		if f.DBName == "" || f.PrimaryKey || same(before[i], now[i]) {
			continue
		}
		changes[f.DBName] = now[i]
		update = update.Where(clause.Expr{SQL: "? is not distinct from " +
			"?", Vars: []any{clause.Column{Name: f.DBName}, before[i]}})
	}
	if len(changes) == 0 {
		return nil
	}
	for _, f := range s.PrimaryFields {
		id, _ := f.ValueOf(ctx, value)
		update = update.Where(clause.Eq{Column: clause.Column{Name: f.DBName}, Value: id})
	}
	done := update.Updates(changes)
	if done.Error != nil {
		return done.Error
	}
	if done.RowsAffected == 0 {
		return fmt.Errorf("%s: %w", s.Table, ErrConcurrent)
	}
	read.note(ctx, s, value)
	return nil
}

// Put inserts or replaces a whole row with a natural key.
func (tx *Tx) Put(row any) error {
	return fresh(tx.DB).Clauses(clause.OnConflict{UpdateAll: true}).Create(row).Error
}
