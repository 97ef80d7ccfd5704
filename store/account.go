package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Account is somebody who may sign in.
type Account struct {
	ID        int64
	Name      string
	Title     string
	Role      string
	Password  string // argon2id, in PHC format
	Disabled  bool
	CreatedAt time.Time
}

// ConsoleSession is a browser signed in.
type ConsoleSession struct {
	Secret    []byte `gorm:"primaryKey"` // SHA-256 of the cookie
	AccountID int64
	CSRF      string `gorm:"column:csrf"`
	CreatedAt time.Time
	ExpiresAt time.Time
}

// Token is a bearer token.
type Token struct {
	ID        int64
	AccountID int64
	Name      string
	Secret    []byte // SHA-256 of it
	CreatedAt time.Time
	ExpiresAt time.Time
	RevokedAt *time.Time
}

// SavedReply is the answer that was given to a request with an idempotency key.
type SavedReply struct {
	AccountID int64  `gorm:"primaryKey"`
	Key       string `gorm:"primaryKey"`
	Request   string
	Status    int
	Body      []byte
	CreatedAt time.Time
}

func (SavedReply) TableName() string { return "replies" }

// AccountNamed returns the account, or ErrNotFound.
func AccountNamed(db *gorm.DB, name string) (Account, error) {
	return first[Account](db, fmt.Sprintf("account %q", name), "name = ?", name)
}

// AccountOfSession returns whose console session it is, or ErrNotFound.
func AccountOfSession(db *gorm.DB, secret []byte, now time.Time) (Account, ConsoleSession, error) {
	s, err := first[ConsoleSession](db, "session", "secret = ? and expires_at > ?", secret, now)
	if err != nil {
		return Account{}, s, err
	}
	a, err := first[Account](db, "account", "id = ? and not disabled", s.AccountID)
	return a, s, err
}

// AccountOfToken returns whose token it is, or ErrNotFound.
func AccountOfToken(db *gorm.DB, secret []byte, now time.Time) (Account, Token, error) {
	t, err := first[Token](db, "token", "secret = ? and revoked_at is null and expires_at > ?", secret, now)
	if err != nil {
		return Account{}, t, err
	}
	a, err := first[Account](db, "account", "id = ? and not disabled", t.AccountID)
	return a, t, err
}
