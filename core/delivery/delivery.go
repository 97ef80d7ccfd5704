// Package delivery decides about the deliveries of copies to sites: which may
// begin, how fast each may go, and how long it will take.
//
// A line is what leads to one site or to several, and is what runs full. A
// site and a line may have a limit each, with hours of the day in which it is
// another one. As many deliveries as a line says go over it at once, those that
// are needed first before the others; the rate that is allowed is shared by
// those that do. Like all decisions this is asked again and again, looks at what
// is, and remembers nothing.
package delivery

import (
	"cmp"
	"slices"
	"time"
)

// Limit is how much a second may go somewhere.
type Limit struct {
	Rate  int64 // in bytes a second; 0: as much as goes
	Hours []Hours
}

// Hours are hours of the day in which another rate holds. The last hours that hold at a time count.
type Hours struct {
	From, To int // minutes after midnight; from 22:00 to 06:00 is over midnight, and from 0:00 to 0:00 the whole day
	Rate     int64
	Zone     *time.Location
}

// hold says whether these are the hours.
func (h Hours) hold(now time.Time) bool {
	local := now.In(h.Zone)
	minute := local.Hour()*60 + local.Minute()
	if h.From < h.To {
		return minute >= h.From && minute < h.To
	}
	return minute >= h.From || minute < h.To
}

// At is the rate that holds at a time, in bytes a second; 0: as much as goes.
func (l Limit) At(now time.Time) int64 {
	for _, h := range slices.Backward(l.Hours) {
		if h.hold(now) {
			return h.Rate
		}
	}
	return l.Rate
}

// Share is what one of several deliveries may take, which go to its site and over its line at once: in bytes a
// second; 0: as much as goes. It is never nothing.
func Share(site, line int64, toSite, overLine int) int64 {
	share := int64(0)
	for _, part := range []struct {
		rate int64
		of   int
	}{{site, toSite}, {line, overLine}} {
		if part.rate == 0 {
			continue
		}
		if s := max(1, part.rate/int64(max(1, part.of))); share == 0 || s < share {
			share = s
		}
	}
	return share
}

// Need is who needs a delivery, the most urgent first.
type Need int

const (
	ForBuild  Need = iota // a build waits for it
	ForPilot              // the site's pools try the version out
	ForUse                // the first copy at a site with other pools
	ForBreath             // another copy, so that more hosts can be cloned at once
)

// One is a delivery that has not ended.
type One struct {
	Key    string
	Line   string // "" if its site has none
	Brings string // what, to where: of several that bring the same one goes first, and the others are made from that
	Need   Need
	Asked  time.Time
	Begun  bool // its platform has taken it on
	Absent bool // its site does not answer, or it does not get on: it keeps no other from its turn
}

// first says that a goes before b, if neither has begun.
func first(a, b One) bool {
	return cmp.Or(cmp.Compare(a.Need, b.Need), a.Asked.Compare(b.Asked), cmp.Compare(a.Key, b.Key)) < 0
}

// Follows returns the delivery that brings the same to the same site and goes before one, "" if none does.
func Follows(all []One, key string) string {
	i := slices.IndexFunc(all, func(o One) bool { return o.Key == key })
	if i < 0 || all[i].Begun {
		return ""
	}
	for _, o := range all {
		if o.Key != key && o.Brings == all[i].Brings && (o.Begun || first(o, all[i])) {
			return o.Key
		}
	}
	return ""
}

// Before returns how many deliveries go before one over its line: those under way, and those that wait and are needed
// sooner. One that has no line, or has begun, waits for none.
func Before(all []One, key string) int {
	i := slices.IndexFunc(all, func(o One) bool { return o.Key == key })
	if i < 0 || all[i].Line == "" || all[i].Begun {
		return 0
	}
	me, n := all[i], 0
	for _, o := range all {
		if o.Key == key || o.Line != me.Line || o.Absent {
			continue
		}
		if o.Begun || first(o, me) {
			n++
		}
	}
	return n
}

// AtOnce is how many deliveries go over a line at once if it does not say.
const AtOnce = 2

// Pace is how fast something goes, as it was seen from time to time.
type Pace struct {
	At    time.Time `json:"at,omitzero"`    // when it was seen last
	Bytes int64     `json:"bytes"`          // how much had gone then
	Rate  float64   `json:"rate,omitempty"` // in bytes a second, of late
}

// weight is how much the newest rate counts: what was twenty times ago counts for nothing.
const weight = 0.3

// Seen is the pace after so many bytes have gone. Fewer than before are a beginning.
func (p Pace) Seen(now time.Time, bytes int64) Pace {
	next := Pace{At: now, Bytes: bytes, Rate: p.Rate}
	span := now.Sub(p.At).Seconds()
	switch {
	case p.At.IsZero() || bytes < p.Bytes:
		next.Rate = 0
	case span <= 0:
		return p
	case bytes > p.Bytes || p.Rate > 0:
		rate := float64(bytes-p.Bytes) / span
		if p.Rate > 0 {
			rate = weight*rate + (1-weight)*p.Rate
		}
		next.Rate = rate
	}
	return next
}

// Left is how long it takes until all has gone, if some of it went already and the rest goes alike; false if that
// cannot be said. Lacking and sent are as they are before they are packed, in bytes.
func (p Pace) Left(lacking, sent int64) (time.Duration, bool) {
	if p.Rate <= 0 || sent <= 0 || p.Bytes <= 0 {
		return 0, false
	}
	packed := float64(p.Bytes) / float64(sent)
	left := float64(lacking-sent) * packed / p.Rate
	if left > (365 * 24 * time.Hour).Seconds() {
		return 0, false
	}
	return time.Duration(left * float64(time.Second)), true
}
