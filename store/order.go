package store

import (
	"time"

	"gorm.io/gorm"

	"nimblepane/agent"
)

// Order is something that the agent of a host is to do to a session.
type Order struct {
	ID         int64
	HostID     int64
	Kind       agent.OrderKind
	Notice     string // NoticeFirst, NoticeLast, or "" for a person's own words
	SessionKey string
	Text       string
	RolloverID *int64
	CreatedAt  time.Time
	DoneAt     *time.Time
}

// Notices that a rollover gives.
const (
	NoticeFirst = "first"
	NoticeLast  = "last"
)

// OrdersOf returns what a rollover ordered, in order.
func OrdersOf(db *gorm.DB, rolloverID int64) (rows []Order, err error) {
	err = db.Where("rollover_id = ?", rolloverID).Order("id").Find(&rows).Error
	return rows, err
}

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
