package estate

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"nimblepane/core/image"
	"nimblepane/core/machine"
)

// Workshop is what build machines cost, and what they are allowed.
type Workshop struct {
	Currency string                  `yaml:"currency,omitempty" json:"currency"` // of the rates, as ISO 4217 writes it
	Rates    map[string]machine.Rate `yaml:"rates,omitempty" json:"rates"`       // of an hour, by machine class
	Longest  string                  `yaml:"longest,omitempty" json:"longest"`   // 12h if not given
	Left     string                  `yaml:"left,omitempty" json:"left"`         // 192h if not given
	// Refuse is software that must not be in a version, and why, by patterns of its name such as telnet*.
	Refuse map[string]string `yaml:"refuse,omitempty" json:"refuse,omitempty"`
}

// UsualWorkshop is that of an estate whose file does not say.
var UsualWorkshop = Workshop{Longest: "12h", Left: "192h"}

// Policy is what the workshop allows build machines.
func (w Workshop) Policy() machine.Policy {
	longest, _ := time.ParseDuration(w.Longest) // both were checked
	left, _ := time.ParseDuration(w.Left)
	return machine.Policy{Longest: longest, Left: left}
}

// software is a package's name, with * and ? for what may be different.
var software = regexp.MustCompile(`^[A-Za-z0-9*?][A-Za-z0-9*?+._-]{0,99}$`)

var currency = regexp.MustCompile(`^[A-Z]{3}$`)

// workshop fills in what was left out, and checks the rest.
func (c *checker) workshop(w *Workshop) {
	const at = "workshop"
	w.Longest, w.Left = cmp.Or(w.Longest, UsualWorkshop.Longest), cmp.Or(w.Left, UsualWorkshop.Left)
	for _, s := range []struct {
		key, text   string
		least, most time.Duration
	}{
		{"longest", w.Longest, time.Minute, 90 * 24 * time.Hour}, {"left", w.Left, time.Hour, 365 * 24 * time.Hour},
	} {
		if d, err := time.ParseDuration(s.text); err != nil || d < s.least || d > s.most || d%time.Second != 0 {
			c.at(at+"."+s.key, "workshop: %s of %q: write a time in whole seconds, such as 12h or 90m, from %s to %s",
				s.key, s.text, Span(s.least), Span(s.most))
		}
	}
	switch {
	case w.Currency != "" && !currency.MatchString(w.Currency):
		c.at(at+".currency", "workshop: currency %q: write its three letters, such as EUR", w.Currency)
	case w.Currency == "" && len(w.Rates) > 0:
		c.at(at+".rates", "workshop: the rates have no currency: write currency: EUR above them")
	}
	for _, pattern := range slices.Sorted(maps.Keys(w.Refuse)) {
		if _, err := path.Match(pattern, ""); err != nil || !software.MatchString(pattern) {
			c.at(at+".refuse", "workshop: refuse: %q is no pattern of a package's name: write it such as telnet "+
				"or telnet*", pattern)
		}
		if why := strings.TrimSpace(w.Refuse[pattern]); why == "" || len(why) > 200 {
			c.at(at+".refuse", "workshop: refuse: %s: write why it is refused, in at most 200 characters", pattern)
		}
	}
	for _, class := range slices.Sorted(maps.Keys(w.Rates)) {
		rate := fmt.Sprintf("%s.rates.%s", at, class)
		if err := image.CheckName(class); err != nil {
			c.at(at+".rates", "workshop: rates: machine class %s", err)
		}
		if err := w.Rates[class].Check(); err != nil {
			c.at(rate, "workshop: rate of %s: %s", class, err)
		}
	}
}
