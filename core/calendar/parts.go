package calendar

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// part is a part of a recurrence rule (RFC 5545, 3.3.10).
type part struct {
	least, most int            // of its numbers, without their sign
	signed      bool           // numbers may be negative: counted from the end
	one         bool           // it has one value and not a list
	with        []string       // frequencies that it may stand with; all if there are none
	form        *regexp.Regexp // of a value that is no number
	say         string         // what is right
}

var parts = map[string]part{
	"FREQ": {
		one: true, form: regexp.MustCompile("^(YEARLY|MONTHLY|WEEKLY|DAILY|HOURLY|MINUTELY|SECONDLY)$"),
		say: "DAILY, WEEKLY, MONTHLY or YEARLY",
	},
	"INTERVAL": {least: 1, most: 1000, one: true, say: "a number from 1 to 1000"},
	"COUNT":    {least: 1, most: 1_000_000, one: true, say: "a number from 1 to 1000000"},
	"UNTIL": {
		one: true, form: regexp.MustCompile(`^\d{8}(T\d{6}Z?)?$`),
		say: "a date such as 20271231, a time in the rule's zone such as 20271231T235900, or in UTC with a Z after it",
	},
	"BYSECOND": {most: 60, say: "numbers from 0 to 60"},
	"BYMINUTE": {most: 59, say: "numbers from 0 to 59"},
	"BYHOUR":   {most: 23, say: "numbers from 0 to 23"},
	"BYDAY": {
		form: regexp.MustCompile(`^(([+-]?)0*([1-9]|[1-4][0-9]|5[0-3]))?(MO|TU|WE|TH|FR|SA|SU)$`),
		say:  "weekdays such as MO, 1MO or -1FR",
	},
	"BYMONTHDAY": {
		least: 1, most: 31, signed: true, with: []string{"YEARLY", "MONTHLY", "DAILY"},
		say: "numbers from 1 to 31, or -31 to -1",
	},
	"BYYEARDAY": {
		least: 1, most: 366, signed: true, with: []string{"YEARLY"},
		say: "numbers from 1 to 366, or -366 to -1",
	},
	"BYWEEKNO": {
		least: 1, most: 53, signed: true, with: []string{"YEARLY"},
		say: "numbers from 1 to 53, or -53 to -1",
	},
	"BYMONTH":  {least: 1, most: 12, say: "numbers from 1 to 12"},
	"BYSETPOS": {least: 1, most: 366, signed: true, say: "numbers from 1 to 366, or -366 to -1"},
	"WKST":     {one: true, form: regexp.MustCompile("^(MO|TU|WE|TH|FR|SA|SU)$"), say: "a weekday such as MO"},
}

// split reads the parts of a rule. The error says which is wrong, and what would be right.
func split(text string) (map[string][]string, error) {
	rule := map[string][]string{}
	for _, p := range strings.Split(strings.ToUpper(text), ";") {
		name, value, is := strings.Cut(p, "=")
		of, known := parts[name]
		switch {
		case !is:
			return nil, fmt.Errorf("%.40q is no part of a rule: parts are written NAME=VALUE, with ; between them", p)
		case !known:
			return nil, fmt.Errorf("there is no part %.40s: use FREQ, INTERVAL, COUNT, UNTIL, WKST, and BYMONTH, "+
				"BYWEEKNO, "+
				"BYYEARDAY, BYMONTHDAY, BYDAY, BYHOUR, BYMINUTE or BYSETPOS", name)
		case rule[name] != nil:
			return nil, fmt.Errorf("%s is there twice: write one, with commas between its values", name)
		}
		rule[name] = strings.Split(value, ",")
		if of.one && len(rule[name]) > 1 {
			return nil, fmt.Errorf("%s has %d values: write one", name, len(rule[name]))
		}
		for _, v := range rule[name] {
			if !of.has(v) {
				return nil, fmt.Errorf("%s=%.40s: use %s", name, v, of.say)
			}
		}
	}
	return rule, together(rule)
}

// has says whether a value is one of the part.
func (p part) has(value string) bool {
	if p.form != nil {
		return p.form.MatchString(value)
	}
	n, err := strconv.Atoi(value)
	if n < 0 && p.signed {
		n = -n
	}
	return err == nil && n >= p.least && n <= p.most
}

// together says which parts of a rule may not stand together.
func together(rule map[string][]string) error {
	if rule["FREQ"] == nil {
		return fmt.Errorf("FREQ is missing: write such as FREQ=MONTHLY")
	}
	freq := rule["FREQ"][0]
	for name := range rule {
		if with := parts[name].with; with != nil && !slices.Contains(with, freq) {
			return fmt.Errorf("%s does not go with FREQ=%s: use it with %s", name, freq, strings.Join(with, " or "))
		}
	}
	numbered := slices.ContainsFunc(rule["BYDAY"], func(day string) bool { return len(day) > 2 })
	by := 0
	for name := range rule {
		if strings.HasPrefix(name, "BY") && name != "BYSETPOS" {
			by++
		}
	}
	switch {
	case rule["COUNT"] != nil && rule["UNTIL"] != nil:
		return fmt.Errorf("COUNT and UNTIL do not go together: leave one of them out")
	case numbered && freq != "MONTHLY" && freq != "YEARLY":
		return fmt.Errorf("BYDAY has a number, which goes with FREQ=MONTHLY and YEARLY only: write BYDAY=MO")
	case numbered && rule["BYWEEKNO"] != nil:
		return fmt.Errorf("BYDAY has a number, which does not go with BYWEEKNO: write BYDAY=MO")
	case rule["BYSETPOS"] != nil && by == 0:
		return fmt.Errorf("BYSETPOS chooses from what other BY parts name: write one, such as BYDAY=MO,TU,WE,TH,FR")
	}
	return nil
}

// days returns the weekdays of a rule. Where some are numbered and some are not, those that are not are written as all
// of their numbers: the library takes only days that are both.
func days(rule map[string][]string, all []rrule.Weekday) (out []rrule.Weekday) {
	numbered := slices.ContainsFunc(all, func(d rrule.Weekday) bool { return d.N() != 0 })
	weeks := 53
	if rule["FREQ"][0] == "MONTHLY" || rule["BYMONTH"] != nil {
		weeks = 5
	}
	for _, d := range all {
		if !numbered || d.N() != 0 {
			out = append(out, d)
			continue
		}
		for n := 1; n <= weeks; n++ {
			out = append(out, d.Nth(n))
		}
	}
	return out
}

// until is the last instant of a rule, and zero if it has none. A date, and a time without Z, are in the zone of the
// rule, and a date is meant to its end.
func until(rule map[string][]string, place *time.Location) (time.Time, error) {
	if rule["UNTIL"] == nil {
		return time.Time{}, nil
	}
	text := rule["UNTIL"][0]
	if at, err := time.ParseInLocation("20060102", text, place); err == nil {
		return at.AddDate(0, 0, 1).Add(-time.Second), nil
	}
	if at, err := time.ParseInLocation("20060102T150405", text, place); err == nil {
		return at, nil
	}
	if at, err := time.Parse("20060102T150405Z", text); err == nil {
		return at, nil
	}
	return time.Time{}, fmt.Errorf("UNTIL=%s is not in the calendar: use %s", text, parts["UNTIL"].say)
}
