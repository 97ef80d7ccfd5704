package store

import (
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nimblepane/core/role"
)

// Account is somebody who may sign in.
type Account struct {
	ID        int64
	Name      string
	Title     string
	Role      role.Role
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
	// ParentID is the token that made it, which it dies with; nil if a person did, by password.
	ParentID *int64
	// Role is the most that it may do, "" for all that its account may.
	Role role.Role
	// Pools and Images are what it may change, nothing else; both empty for everything.
	Pools     Strings `gorm:"type:jsonb"`
	Images    Strings `gorm:"type:jsonb"`
	CreatedAt time.Time
	ExpiresAt time.Time
	RevokedAt *time.Time
}

// Narrowed says that the token may change only what concerns its pools and images.
func (t Token) Narrowed() bool { return len(t.Pools)+len(t.Images) > 0 }

// AccountNamed returns the account, or ErrNotFound.
func AccountNamed(db *gorm.DB, name string) (Account, error) {
	return first[Account](db, fmt.Sprintf("account %q", name), "name = ?", name)
}

// Accounts returns all accounts by name.
func Accounts(db *gorm.DB) (rows []Account, err error) {
	err = db.Order("name").Find(&rows).Error
	return rows, err
}

// AddAccount adds the account, and says whether its name was free.
func (tx *Tx) AddAccount(a *Account) (added bool, err error) {
	r := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(a)
	return r.RowsAffected > 0, r.Error
}

// SetPassword gives the account another password (argon2id, in PHC format).
func (tx *Tx) SetPassword(accountID int64, hash string) error {
	return tx.Model(&Account{}).Where("id = ?", accountID).Update("password", hash).Error
}

// AddSession adds a console session, and forgets those that have expired.
func (tx *Tx) AddSession(s ConsoleSession) error {
	return errors.Join(tx.Where("expires_at < ?", s.CreatedAt).Delete(&ConsoleSession{}).Error, tx.Create(&s).Error)
}

// EndSession ends the console session of the secret (SHA-256).
func (tx *Tx) EndSession(secret []byte) error {
	return tx.Where("secret = ?", secret).Delete(&ConsoleSession{}).Error
}

// Tokens returns the tokens of an account, the newest first.
func Tokens(db *gorm.DB, accountID int64) (rows []Token, err error) {
	err = db.Where("account_id = ?", accountID).Order("id desc").Find(&rows).Error
	return rows, err
}

// LockAccount returns the account, and keeps others from changing it and the
// administrators until the transaction ends.
func LockAccount(db *gorm.DB, name string) (a Account, administrators []Account, err error) {
	var rows []Account
	if err := fresh(db).Clauses(forChange).Where("name = ? or role = 'administrator'",
		name).Order("id").Find(&rows).Error; err != nil {
		return a, nil, err
	}
	for _, r := range rows {
		if r.Name == name {
			a = r
		}
		if r.Role == role.Administrator && !r.Disabled {
			administrators = append(administrators, r)
		}
	}
	if a.ID == 0 {
		return a, nil, fmt.Errorf("account %q: %w", name, ErrNotFound)
	}
	return a, administrators, nil
}

// LockToken returns the token if it is still good, and keeps others from revoking it until the transaction ends.
func LockToken(db *gorm.DB, id int64) (Token, error) {
	return first[Token](db.Clauses(forChange), "token", "id = ? and revoked_at is null", id)
}

// RevokeToken ends a token and all that were made by it. It returns how many that were.
func (tx *Tx) RevokeToken(id int64) (n int64, err error) {
	// Whoever makes a token by it holds its row: what they made is seen afterwards.
	if err := tx.Exec("select from tokens where id = ? for no key update", id).Error; err != nil {
		return 0, err
	}
	r := tx.Exec(`with recursive gone as (
		  select id from tokens where id = ? union select t.id from tokens t join gone g on t.parent_id = g.id)
		update tokens set revoked_at = now() where id in (select id from gone) and revoked_at is null`, id)
	return r.RowsAffected, r.Error
}

// EndCredentials ends the console sessions and tokens of an account, but for
// the session or the token of that secret (SHA-256), nil for none.
func (tx *Tx) EndCredentials(accountID int64, but []byte) error {
	if but == nil {
		but = []byte{}
	}
	return errors.Join(
		tx.Exec("delete from console_sessions where account_id = ? and secret <> ?", accountID, but).Error,
		tx.Exec("update tokens set revoked_at = now() where account_id = ? and revoked_at is null and secret <> ?",
			accountID, but).Error,
	)
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
