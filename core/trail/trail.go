// Package trail chains the entries of the audit trail by hash, and verifies
// the chain.
//
// Each entry carries the hash of the one before it and a hash over itself, so
// that a row that was altered, taken out or put in between shows: from there
// on the chain does not fit. The last hash, kept elsewhere, also shows that the
// end was cut off.
package trail

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"
)

// Entry says who did what, when, to what, and why.
type Entry struct {
	Seq     int64           `json:"seq"`     // from 1, without gaps
	At      time.Time       `json:"at"`      // UTC, microseconds
	Actor   string          `json:"actor"`   // an account's name, or "service"
	Verb    string          `json:"verb"`    // "version.stage", "host.drain", ...
	Subject string          `json:"subject"` // "version counter-desk 2026.11.1", "host tc-07", ...
	Scope   string          `json:"scope"`   // what it belongs to: "rollover 3", "" if nothing
	Reason  string          `json:"reason"`
	Detail  json.RawMessage `json:"detail,omitempty"` // a JSON object, or nothing
	Prev    string          `json:"prev"`             // hash of the entry before, "" for the first
	Hash    string          `json:"hash"`
}

// Seal returns the entry with its place in the chain: the sequence number
// after prev's, prev's hash, and the hash over it all. A zero prev begins a
// chain.
func Seal(e, prev Entry) Entry {
	e.Seq = prev.Seq + 1
	e.Prev = prev.Hash
	e.At = e.At.UTC().Truncate(time.Microsecond)
	e.Hash = e.digest()
	return e
}

// digest is the SHA-256, in hex, of a JSON array of the entry's fields in
// order. The array form leaves no room for two entries with one digest: every
// field is quoted. Detail is hashed with its keys sorted, because the database
// may keep an object's keys in another order.
func (e Entry) digest() string {
	var detail any
	if len(e.Detail) > 0 {
		if err := json.Unmarshal(e.Detail, &detail); err != nil {
			detail = string(e.Detail)
		}
	}
	b, err := json.Marshal([]any{
		e.Seq, e.At.UTC().Format(time.RFC3339Nano), e.Actor, e.Verb, e.Subject, e.Scope,
		e.Reason, detail, e.Prev,
	})
	if err != nil {
		panic(fmt.Sprintf("trail: an entry of plain values cannot fail to marshal: %v", err))
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Break is a place where the chain does not fit.
type Break struct {
	Seq int64
	Why string
}

func (b *Break) Error() string { return fmt.Sprintf("entry %d: %s", b.Seq, b.Why) }

// Verifier takes the entries of a trail in order.
type Verifier struct {
	last Entry
}

// Next returns nil if e follows the entry before it, or the *Break. After a
// break the verifier goes on from e as it stands, so that one altered row is
// reported once, and not every row after it.
func (v *Verifier) Next(e Entry) error {
	prev := v.last
	v.last = e
	switch {
	case e.Seq != prev.Seq+1:
		return &Break{e.Seq, fmt.Sprintf("follows entry %d: entries in between are missing", prev.Seq)}
	case e.Prev != prev.Hash:
		return &Break{e.Seq, fmt.Sprintf("does not carry the hash of entry %d: one of the two was altered", prev.Seq)}
	case e.Hash != e.digest():
		return &Break{e.Seq, "was altered: its hash is not that of what it says"}
	}
	return nil
}
