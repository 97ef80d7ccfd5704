package estate

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // a service's computer may have no time zones

	"nimblepane/core/delivery"
)

// Line leads to one site or to several, and is what deliveries share.
type Line struct {
	Name   string  `yaml:"name" json:"name"`
	Title  string  `yaml:"title,omitempty" json:"title"`
	Rate   string  `yaml:"rate,omitempty" json:"rate,omitempty"` // a second; as much as goes if not given
	Hours  []Hours `yaml:"hours,omitempty" json:"hours,omitempty"`
	AtOnce int     `yaml:"at-once,omitempty" json:"at_once"` // deliveries; 2 if not given
}

// Hours are hours of the day in which another rate holds.
type Hours struct {
	From string `yaml:"from" json:"from"` // such as 20:00
	To   string `yaml:"to" json:"to"`
	Rate string `yaml:"rate" json:"rate"` // a second, or "unlimited"
	// TimeZone is of the IANA database; UTC if not given.
	TimeZone string `yaml:"time-zone,omitempty" json:"time_zone,omitempty"`
}

// Deliveries are how copies go to a site.
type Deliveries struct {
	Line string `yaml:"line,omitempty" json:"line,omitempty"` // that leads to it
	// DeliveryRate is how much a second goes to the site at most; unlimited if not given.
	DeliveryRate  string  `yaml:"delivery-rate,omitempty" json:"delivery_rate,omitempty"`
	DeliveryHours []Hours `yaml:"delivery-hours,omitempty" json:"delivery_hours,omitempty"`
	// ReadRate is how much a second is read of copies that are read again; 32MiB if not given.
	ReadRate string `yaml:"read-rate,omitempty" json:"read_rate,omitempty"`
}

// usualReadRate is a third of what a single old disk reads.
const usualReadRate = 32 << 20

// Reading is how much a second is read of copies that are read again, in bytes. It panics if that was not checked.
func (d Deliveries) Reading() int64 {
	if r := limit(d.ReadRate, nil).Rate; r > 0 {
		return r
	}
	return usualReadRate
}

// Limit is what goes to the site at most. It panics if that was not checked.
func (d Deliveries) Limit() delivery.Limit { return limit(d.DeliveryRate, d.DeliveryHours) }

// Limit is what goes over the line at most. It panics if that was not checked.
func (l Line) Limit() delivery.Limit { return limit(l.Rate, l.Hours) }

func limit(rate string, hours []Hours) (l delivery.Limit) {
	must := func(err error) {
		if err != nil {
			panic(err)
		}
	}
	var err error
	if rate != "" {
		l.Rate, err = Bytes(rate)
		must(err)
	}
	for _, h := range hours {
		read, err := h.read()
		must(err)
		l.Hours = append(l.Hours, read)
	}
	return l
}

// Unlimited is the rate of hours in which as much goes as can.
const Unlimited = "unlimited"

// LeastRate is the least that may be allowed, in bytes a second: with less, what waits for the next piece is taken for
// a line that broke.
const LeastRate = 64 << 10

func (h Hours) read() (out delivery.Hours, err error) {
	if out.From, err = clock(h.From); err != nil {
		return out, fmt.Errorf("from: %w", err)
	}
	if out.To, err = clock(h.To); err != nil {
		return out, fmt.Errorf("to: %w", err)
	}
	if h.Rate != Unlimited {
		if out.Rate, err = rate(h.Rate); err != nil {
			return out, err
		}
	}
	if out.Zone, err = time.LoadLocation(cmp.Or(h.TimeZone, "UTC")); err != nil || h.TimeZone == "Local" {
		return out, fmt.Errorf("time-zone %q is not known: write one of the IANA database, such as Europe/Lisbon",
			h.TimeZone)
	}
	return out, nil
}

func rate(text string) (int64, error) {
	n, err := Bytes(text)
	if err != nil {
		return 0, fmt.Errorf("rate: %w (it is per second)", err)
	}
	if n < LeastRate {
		return 0, fmt.Errorf("rate of %s a second: use 64KiB or more", text)
	}
	return n, nil
}

// clock reads minutes after midnight.
func clock(text string) (int, error) {
	hour, minute, ok := strings.Cut(text, ":")
	h, herr := strconv.Atoi(hour)
	m, merr := strconv.Atoi(minute)
	if !ok || herr != nil || merr != nil || h < 0 || h > 23 || m < 0 || m > 59 || len(minute) != 2 {
		return 0, fmt.Errorf("%q is no time of day: write one such as 20:00", text)
	}
	return h*60 + m, nil
}

func (c *checker) limit(at, rateKey, hoursKey, what, limit string, hours []Hours) {
	if limit != "" {
		if _, err := rate(limit); err != nil {
			c.at(at+"."+rateKey, "%s: %s: %s", what, rateKey, err)
		}
	}
	for i, h := range hours {
		if _, err := h.read(); err != nil {
			c.at(fmt.Sprintf("%s.%s[%d]", at, hoursKey, i), "%s: %s: %s", what, hoursKey, err)
		}
	}
}

func (c *checker) line(at string, l *Line, seen map[string]bool) {
	c.name(at+".name", "line", l.Name, seen)
	c.title(at, "line", &l.Title, l.Name)
	c.limit(at, "rate", "hours", "line "+l.Name, l.Rate, l.Hours)
	l.AtOnce = cmp.Or(l.AtOnce, delivery.AtOnce)
	if l.AtOnce < 1 || l.AtOnce > 100 {
		c.at(at+".at-once", "line %s: %d deliveries at once: use 1 to 100", l.Name, l.AtOnce)
	}
}

func (c *checker) deliveries(at string, s *Site, lines []Line) {
	d := &s.Deliveries
	c.limit(at, "delivery-rate", "delivery-hours", "site "+s.Name, d.DeliveryRate, d.DeliveryHours)
	c.limit(at, "read-rate", "", "site "+s.Name, d.ReadRate, nil)
	if d.Line == "" {
		return
	}
	for _, l := range lines {
		if l.Name == d.Line {
			return
		}
	}
	c.at(at+".line", "site %s: line %q is not in this file; it has %s", s.Name, d.Line,
		names(lines, func(l Line) string { return l.Name }))
}
