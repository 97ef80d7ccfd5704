package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm/clause"
)

// SavedReply is the answer that was given to a request with an idempotency key.
type SavedReply struct {
	AccountID int64  `gorm:"primaryKey"`
	Key       string `gorm:"primaryKey"`
	Request   string // a hash of it
	Status    int    // 0 while it is being worked on
	Body      []byte
	Location  string // header of the answer
	CreatedAt time.Time
}

func (SavedReply) TableName() string { return "replies" }

// BeginReply takes the key of a request for it, or returns what was answered
// to the first request with the key.
func (s *Store) BeginReply(ctx context.Context, r SavedReply) (first *SavedReply, err error) {
	db := s.DB.WithContext(ctx)
	made := db.Clauses(clause.OnConflict{DoNothing: true}).Create(&r)
	if made.Error != nil || made.RowsAffected > 0 {
		return nil, made.Error
	}
	first = &SavedReply{}
	if err := db.Where("account_id = ? and key = ?", r.AccountID, r.Key).Take(first).Error; err != nil {
		return nil, fmt.Errorf("read the first answer: %w", err)
	}
	return first, nil
}

// KeepReply keeps what a request was answered.
func (s *Store) KeepReply(ctx context.Context, r SavedReply) error {
	return s.DB.WithContext(ctx).Save(&r).Error
}

// FreeReply lets the key be used again, of a request that failed.
func (s *Store) FreeReply(ctx context.Context, r SavedReply) error {
	return s.DB.WithContext(ctx).Delete(&r).Error
}

// PruneReplies forgets answers that were given before the time.
func PruneReplies(tx *Tx, before time.Time) error {
	return tx.Exec("delete from replies where created_at < ?", before).Error
}
