// Package calendar says when something recurs: by a recurrence rule of RFC
// 5545 and in a time zone, as people write both in their calendars.
//
// A rule speaks of the time on the wall. Where clocks are put forward, a time
// on the wall is not there once a year; where they are put back, another is
// there twice. As RFC 5545 (3.3.5) has it, the first is taken by the offset
// before the gap, and of the second the first one.
package calendar

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// Rule is a recurrence rule in a time zone.
type Rule struct {
	Text string // such as FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30
	Zone string // such as Europe/Paris

	option rrule.ROption
	place  *time.Location
	until  time.Time // the last instant; zero if there is none
}

// horizon is how far ahead dates are looked for, in years: the calendar repeats itself after so many.
const horizon = 400

// Parse reads a rule that begins at a time. The error says what is wrong with it.
func Parse(text, zone string, begins time.Time) (r Rule, err error) {
	r = Rule{Text: strings.TrimPrefix(strings.TrimSpace(text), "RRULE:"), Zone: zone}
	if zone == "" || zone == "Local" {
		return r, fmt.Errorf("the time zone is missing: write one such as Europe/Paris, or UTC")
	}
	if r.place, err = time.LoadLocation(zone); err != nil {
		return r, fmt.Errorf("there is no time zone %q: write one such as Europe/Paris, or UTC", zone)
	}
	if strings.Contains(r.Text, "\n") || len(r.Text) > 500 {
		return r, fmt.Errorf("a rule is one line of at most 500 characters")
	}
	wrong := func(err error) error {
		return fmt.Errorf("%q is no recurrence rule (RFC 5545): %w; write it such as "+
			"FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30", r.Text, err)
	}
	rule, err := split(r.Text)
	if err != nil {
		return r, wrong(err)
	}
	if r.until, err = until(rule, r.place); err != nil {
		return r, wrong(err)
	}
	delete(rule, "UNTIL")
	option, err := rrule.StrToROption(joined(rule))
	if err != nil {
		return r, wrong(err)
	}
	switch {
	case option.Freq > rrule.DAILY:
		return r, fmt.Errorf("a rule comes at most daily: write FREQ=DAILY, WEEKLY, MONTHLY or YEARLY, with BYHOUR " +
			"and BYMINUTE for several times of a day")
	case len(option.Bysecond) > 1 || len(option.Bysecond) == 1 && option.Bysecond[0] != 0:
		return r, fmt.Errorf("a rule comes on the minute: leave BYSECOND out")
	case len(option.Byhour)*max(1, len(option.Byminute)) > 24 || len(option.Byminute) > 24:
		return r, fmt.Errorf("a rule comes at most 24 times a day")
	}
	option.Bysecond = []int{0}
	option.Dtstart = wall(begins.In(r.place).Truncate(time.Minute))
	option.Byweekday = days(rule, option.Byweekday)
	if len(option.Byweekno) > 0 && len(option.Byweekday) == 0 {
		// What a rule does not say is as on the day that it begins.
		option.Byweekday = []rrule.Weekday{weekdays[option.Dtstart.Weekday()]}
	}
	if !r.until.IsZero() {
		option.Until = wall(r.until.In(r.place)).Add(24 * time.Hour) // on the wall, about: Next looks at the instant
	}
	r.option = *option
	if len(r.Next(begins, 1)) == 0 {
		return r, fmt.Errorf("the rule %s does not come within %d years", r.Text, horizon)
	}
	return r, nil
}

var weekdays = []rrule.Weekday{rrule.SU, rrule.MO, rrule.TU, rrule.WE, rrule.TH, rrule.FR, rrule.SA}

// joined writes the parts of a rule.
func joined(rule map[string][]string) string {
	var text []string
	for _, name := range slices.Sorted(maps.Keys(rule)) {
		text = append(text, name+"="+strings.Join(rule[name], ","))
	}
	return strings.Join(text, ";")
}

// wall is the time on the wall, as if that were UTC.
func wall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// Next returns up to so many times after one, in order.
func (r Rule) Next(after time.Time, most int) (times []time.Time) {
	// Around a change of clocks, the order on the wall is not that of time: a day more is looked at.
	from := wall(after.In(r.place)).Add(-24 * time.Hour)
	option := r.option
	if end := from.AddDate(horizon, 0, 0); option.Until.IsZero() || option.Until.After(end) {
		option.Until = end
	}
	set, err := rrule.NewRRule(option)
	if err != nil {
		return nil // it was read before
	}
	next := set.Iterator()
	for len(times) < most+8 {
		on, more := next()
		if !more {
			break
		}
		if on.Before(from) {
			continue
		}
		if t := r.instant(on); t.After(after) && (r.until.IsZero() || !t.After(r.until)) {
			times = append(times, t)
		}
	}
	slices.SortFunc(times, time.Time.Compare)
	times = slices.CompactFunc(times, time.Time.Equal)
	return times[:min(most, len(times))]
}

// instant is when a time is on the wall.
func (r Rule) instant(on time.Time) time.Time {
	offset := func(near time.Duration) time.Duration {
		_, seconds := on.Add(near).In(r.place).Zone()
		return time.Duration(seconds) * time.Second
	}
	// The offsets that hold before and after any change that is near: zones are within 14 hours of UTC.
	before, after := offset(-26*time.Hour), offset(26*time.Hour)
	first, second := on.Add(-before), on.Add(-after)
	if second.Before(first) && wall(second.In(r.place)).Equal(on) && !wall(first.In(r.place)).Equal(on) {
		return second.UTC()
	}
	if wall(first.In(r.place)).Equal(on) || !wall(second.In(r.place)).Equal(on) {
		return first.UTC() // it is there, or in no offset at all
	}
	return second.UTC()
}
