package store

import (
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nimblepane/core/feed"
)

// Feed is a list of a vendor's releases.
type Feed struct {
	ID           int64
	Name         string
	Address      string
	Publisher    string // of releases that do not say theirs
	Key          string // an OpenPGP public key that it is to be signed by, "" if it need not be
	EverySeconds int64
	AddedBy      string
	LookedAt     *time.Time // last
	SeenAt       *time.Time // last without an error
	Why          string     // it could not be read last
	LeftOut      Strings    `gorm:"type:jsonb"` // what of it could not be taken, and why
	// SignedAt is when the files of a signed feed were signed that were read last, by their paths.
	SignedAt JSON[map[string]time.Time] `gorm:"type:jsonb"`
}

// Subject is what a feed is called in the trail.
func (f Feed) Subject() string { return "feed " + f.Name }

// Feeds returns all feeds by name.
func Feeds(db *gorm.DB) (rows []Feed, err error) {
	err = db.Order("name").Find(&rows).Error
	return rows, err
}

// FeedNamed returns the feed, or ErrNotFound.
func FeedNamed(db *gorm.DB, name string) (Feed, error) {
	return named[Feed](db, fmt.Sprintf("feed %q", name), "name", fresh(db), "name = ?", name)
}

// LockFeed is FeedNamed, and keeps others from changing the feed until the transaction ends.
func LockFeed(db *gorm.DB, name string) (Feed, error) { return FeedNamed(db.Clauses(forChange), name) }

// FeedByID returns the feed, or ErrNotFound.
func FeedByID(db *gorm.DB, id int64) (Feed, error) {
	return first[Feed](db, fmt.Sprintf("feed %d", id), "id = ?", id)
}

// LockFeedByID is FeedByID, and keeps others from changing the feed until the transaction ends.
func LockFeedByID(db *gorm.DB, id int64) (Feed, error) { return FeedByID(db.Clauses(forChange), id) }

// AddFeed adds a feed; false if there is one of its name.
func AddFeed(tx *Tx, f *Feed) (bool, error) {
	r := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(f)
	return r.RowsAffected == 1, r.Error
}

// FeedOffer is a release that stands in a feed.
type FeedOffer struct {
	FeedID  int64
	Product string
	Serial  string
	SHA256  string `gorm:"column:sha256"`
	Offer   JSON[feed.Offer]
}

// ReplaceOffers has exactly these releases stand in a feed.
func ReplaceOffers(tx *Tx, feedID int64, offers []feed.Offer) error {
	if err := tx.Exec("delete from feed_offers where feed_id = ?", feedID).Error; err != nil {
		return err
	}
	text, err := json.Marshal(offers)
	if err != nil || len(offers) == 0 {
		return err
	}
	return tx.Exec(`insert into feed_offers (feed_id, product, serial, sha256, offer)
		select distinct on (o->>'product', o->>'serial') ?, o->>'product', o->>'serial', o->>'sha256', o
		from jsonb_array_elements(?::jsonb) o`, feedID, string(text)).Error
}

// Offers returns the releases that stand in a feed, of one product if that is not "".
func Offers(db *gorm.DB, feedID int64, product string) (offers []feed.Offer, err error) {
	db = db.Model(&FeedOffer{}).Where("feed_id = ?", feedID)
	if product != "" {
		db = db.Where("product = ?", product)
	}
	var rows []FeedOffer
	if err := db.Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, r := range rows {
		offers = append(offers, r.Offer.V)
	}
	return offers, nil
}

// OffersMeeting returns the releases of a feed that match the labels. Want.Meets checks the rest.
func OffersMeeting(db *gorm.DB, feedID int64, w feed.Want) (offers []feed.Offer, err error) {
	db = db.Model(&FeedOffer{}).Where("feed_id = ?", feedID)
	label := func(want string, columns ...string) {
		if want == "" {
			return
		}
		any := fresh(db)
		for _, column := range columns {
			any = any.Or("lower("+column+") = lower(?)", want)
		}
		db = db.Where(any)
	}
	label(w.Product, "offer->'labels'->>'product'", "product")
	label(w.Edition, "offer->'labels'->>'edition'")
	label(w.Release, "offer->'labels'->>'release'", "offer->>'codename'")
	label(w.Serial, "serial")
	var rows []FeedOffer
	err = db.Find(&rows).Error
	for _, r := range rows {
		offers = append(offers, r.Offer.V)
	}
	return offers, err
}

// OffersOf returns how many releases stand in each feed.
func OffersOf(db *gorm.DB) (map[int64]int, error) {
	var rows []struct {
		FeedID int64
		N      int
	}
	err := db.Model(&FeedOffer{}).Select("feed_id, count(*) as n").Group("feed_id").Scan(&rows).Error
	counts := map[int64]int{}
	for _, r := range rows {
		counts[r.FeedID] = r.N
	}
	return counts, err
}

// OfferWith returns the release whose file has the digest, and the name of its feed; false if there is none.
func OfferWith(db *gorm.DB, sha256 string) (of string, o feed.Offer, is bool, err error) {
	var rows []struct {
		Name  string
		Offer JSON[feed.Offer]
	}
	err = db.Raw(`select f.name, o.offer from feed_offers o join feeds f on f.id = o.feed_id where o.sha256 = ?
		order by f.name, o.product, o.serial limit 1`, sha256).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return "", o, false, err
	}
	return rows[0].Name, rows[0].Offer.V, true, nil
}
