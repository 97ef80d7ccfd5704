package store

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
)

// Strings is a list kept as a JSON array.
type Strings []string

func (s Strings) Value() (driver.Value, error) {
	if s == nil {
		return "[]", nil
	}
	b, err := json.Marshal([]string(s))
	return string(b), err
}

func (s *Strings) Scan(v any) error { return scanJSON(v, s) }

// JSON keeps a value of our own in one column.
type JSON[T any] struct{ V T }

func (JSON[T]) GormDataType() string { return "jsonb" }

func (j JSON[T]) Value() (driver.Value, error) {
	b, err := json.Marshal(j.V)
	return string(b), err
}

func (j *JSON[T]) Scan(v any) error { return scanJSON(v, &j.V) }

func scanJSON(v, into any) error {
	switch v := v.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(v, into)
	case string:
		return json.Unmarshal([]byte(v), into)
	}
	return fmt.Errorf("a JSON column came as %T", v)
}
