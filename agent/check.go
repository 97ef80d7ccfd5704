package agent

import (
	"fmt"
	"math"
	"regexp"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Limits of what a heartbeat may hold. The service refuses more, and an agent
// sends no more.
const (
	MaxBody    = 512 << 10 // bytes of a request
	MaxText    = 200       // characters of a session's key and person
	MaxWhy     = 2000      // characters of why checks failed
	MaxDone    = 2000      // orders carried out
	MaxList    = 1200      // sessions, whatever the host
	MaxLoad    = 1e6       // load average over cores
	spareSeats = 20
)

// MostSessions is how many sessions a host with that many seats may report: a
// host that takes people past its seats is to be seen, and one that reports
// thousands is broken.
func MostSessions(seats int) int { return min(MaxList, 2*seats+spareSeats) }

var stampForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39} [0-9A-Za-z.+-]{1,60}$`)

// Check returns nil if the heartbeat can be taken at its word, and else the
// first thing that is wrong with it, by its field. It repeats no value. Now is
// the service's time: sessions begin after the year 2000 and not tomorrow.
func (h Heartbeat) Check(now time.Time) error {
	switch {
	case h.Stamp != "" && !stampForm.MatchString(h.Stamp):
		return fmt.Errorf(`stamp: write it as "IMAGE NUMBER", or leave it empty`)
	case h.Drain < 0:
		return fmt.Errorf("drain: an order has a number above 0, and 0 stands for none")
	case h.Checks.Order < 0:
		return fmt.Errorf("checks.order: an order has a number above 0, and 0 stands for none")
	case math.IsNaN(h.Load) || h.Load < 0 || h.Load > MaxLoad:
		return fmt.Errorf("load: use 0 to %g", MaxLoad)
	case len(h.Done) > MaxDone:
		return fmt.Errorf("done: it has %d orders; at most %d are taken", len(h.Done), MaxDone)
	case len(h.Sessions) > MaxList:
		return fmt.Errorf("sessions: there are %d; at most %d are taken", len(h.Sessions), MaxList)
	}
	switch h.Checks.State {
	case "", ChecksUnderWay, ChecksPassed, ChecksFailed:
	default:
		return fmt.Errorf("checks.state: use %q, %q, %q or nothing", ChecksUnderWay, ChecksPassed, ChecksFailed)
	}
	if err := text(h.Checks.Why, 0, MaxWhy, "\n\t"); err != nil {
		return fmt.Errorf("checks.why: %w", err)
	}
	keys := make(map[string]bool, len(h.Sessions))
	for i, s := range h.Sessions {
		at := func(field string, err error) error { return fmt.Errorf("sessions[%d].%s: %w", i, field, err) }
		if err := text(s.Key, 1, MaxText, ""); err != nil {
			return at("key", err)
		}
		if keys[s.Key] {
			return at("key", fmt.Errorf("another session of the list has it"))
		}
		keys[s.Key] = true
		if err := text(s.Person, 1, MaxText, ""); err != nil {
			return at("person", err)
		}
		switch s.State {
		case Active, Idle, Disconnected:
		default:
			return at("state", fmt.Errorf("use %q, %q or %q", Active, Idle, Disconnected))
		}
		if s.Since.Year() < 2000 || s.Since.After(now.Add(24*time.Hour)) {
			return at("since", fmt.Errorf("a session begins after the year 2000, and not later than now"))
		}
	}
	return nil
}

// text returns nil if s has from least to most characters, none of which
// controls a terminal, but those of allowed.
func text(s string, least, most int, allowed string) error {
	switch n := utf8.RuneCountInString(s); {
	case !utf8.ValidString(s):
		return fmt.Errorf("it is not UTF-8")
	case n < least:
		return fmt.Errorf("it is empty")
	case n > most:
		return fmt.Errorf("it has %d characters; at most %d are taken", n, most)
	}
	if strings.ContainsFunc(s, func(r rune) bool { return unicode.IsControl(r) && !strings.ContainsRune(allowed, r) }) {
		return fmt.Errorf("it holds control characters")
	}
	return nil
}

// Clean returns the heartbeat as the service takes it: an agent reports what
// people and programs call themselves, and those may be anything.
func (h Heartbeat) Clean() Heartbeat {
	h.Checks.Why = clean(h.Checks.Why, MaxWhy, "\n\t")
	h.Stamp = clean(h.Stamp, MaxText, "")
	if len(h.Done) > MaxDone {
		h.Done = h.Done[:MaxDone]
	}
	if math.IsNaN(h.Load) || h.Load < 0 || h.Load > MaxLoad {
		h.Load = 0
	}
	sessions := make([]Session, len(h.Sessions))
	for i, s := range h.Sessions {
		s.Key, s.Person = clean(s.Key, MaxText, ""), clean(s.Person, MaxText, "")
		if s.Person == "" {
			s.Person = "?"
		}
		if s.Since.Year() < 2000 {
			s.Since = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
		}
		sessions[i] = s
	}
	h.Sessions = sessions
	return h
}

func clean(s string, most int, allowed string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && !strings.ContainsRune(allowed, r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
	if runes := []rune(s); len(runes) > most {
		return string(runes[:most])
	}
	return s
}
