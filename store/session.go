package store

import (
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/agent"
	"nimblepane/core/host"
)

// SessionRow is one session with where it is.
type SessionRow struct {
	HostID    int64
	Host      string
	HostState host.State
	Pool      string
	Site      string
	Key       string
	Person    string
	State     agent.SessionState
	Since     time.Time
}

// SessionFilter selects sessions; empty fields select all.
type SessionFilter struct {
	Pool, Host, Person string
	State              agent.SessionState
	HostState          host.State // of the host that it is on
	Find               string     // in the names of person and host
	After              string     // cursor: host and key with a slash between
	Limit              int
}

// SessionRows returns a page of sessions by host and key.
func SessionRows(db *gorm.DB, f SessionFilter) (rows []SessionRow, err error) {
	for column, value := range map[string]string{
		"pool": f.Pool, "host": f.Host, "person": f.Person,
		"state": string(f.State), "host_state": string(f.HostState),
	} {
		if value != "" {
			db = db.Where(column+" = ?", value)
		}
	}
	if f.Find != "" {
		db = db.Where("person ilike ? or host ilike ?", containing(f.Find), containing(f.Find))
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
