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
	"errors"
	"fmt"
	"slices"
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
	// Missing: entries before it are not there, and it is itself as it was written. So it is in a filtered export.
	Missing bool
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
	case e.Hash != e.digest():
		return &Break{Seq: e.Seq, Why: "was altered: its hash does not match its content"}
	case e.Seq > prev.Seq+1 && prev.Seq == 0:
		return &Break{e.Seq, "is the first: those before it are missing", true}
	case e.Seq > prev.Seq+1:
		return &Break{e.Seq, fmt.Sprintf("follows entry %d: entries in between are missing", prev.Seq), true}
	case e.Seq != prev.Seq+1:
		return &Break{Seq: e.Seq, Why: fmt.Sprintf("follows entry %d: they are in the wrong order", prev.Seq)}
	case e.Prev != prev.Hash:
		return &Break{
			Seq: e.Seq, Why: fmt.Sprintf("does not carry the hash of entry %d: one of the two was altered", prev.Seq),
		}
	}
	return nil
}

// Verdict is what verifying entries has found.
type Verdict struct {
	Entries  int64
	Last     string // hash of the last entry
	Expected int64  // the entry that has the hash that was expected; 0 if none has
	Breaks   []Break
}

// Filtered says that entries are missing, and that those which are there are as they were written.
func (v Verdict) Filtered() bool {
	return len(v.Breaks) > 0 && !slices.ContainsFunc(v.Breaks, func(b Break) bool { return !b.Missing })
}

// Check adds the next entry, in order. Expected is a hash that one of them should have, "" for none.
func (v *Verdict) Check(with *Verifier, e Entry, expected string) {
	v.Entries++
	v.Last = e.Hash
	if expected != "" && e.Hash == expected {
		v.Expected = e.Seq
	}
	var b *Break
	if errors.As(with.Next(e), &b) {
		v.Breaks = append(v.Breaks, *b)
	}
}
