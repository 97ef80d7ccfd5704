package sheet

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/image"
)

// Parameter is what a sheet leaves open. Its value is what who starts a build
// gives, else that of the build's site, else the default.
//
// A value is named as {{parameter}} in arguments and variables of scripts, in
// texts that are put, in what is fetched, in locales and settings, in what ready
// steps are given, in the version's notes, and in the defaults and sites' values of other parameters.
// Scripts themselves are run as they stand.
type Parameter struct {
	Type    Type           `yaml:"type" json:"type"` // text if not given
	Default any            `yaml:"default" json:"default,omitempty"`
	Allowed []any          `yaml:"allowed" json:"allowed,omitempty"` // any value if not given
	Sites   map[string]any `yaml:"sites" json:"sites,omitempty"`     // by site
	About   string         `yaml:"about" json:"about,omitempty"`     // what it is for
}

// Type is what a parameter's values are.
type Type string

const (
	TextType   Type = "text"
	NumberType Type = "number" // whole
	SwitchType Type = "switch" // true or false
)

// UnmarshalText reads a type.
func (t *Type) UnmarshalText(text []byte) error {
	if *t = Type(text); !slices.Contains([]Type{TextType, NumberType, SwitchType}, *t) {
		return fmt.Errorf("%q is not known: use text, number or switch", text)
	}
	return nil
}

const (
	mostOfValue = 4000    // characters
	mostFilled  = 4 << 20 // bytes of all values where they are named
)

var (
	parameterName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)
	reference     = regexp.MustCompile(`\{\{ *([a-z][a-z0-9-]{0,39}) *\}\}`)
)

// check says what is wrong with a value in a sheet, "" if nothing.
func (p Parameter) check(value any) string {
	right := false
	switch value.(type) {
	case string:
		right = p.Type == TextType
	case int64:
		right = p.Type == NumberType
	case bool:
		right = p.Type == SwitchType
	}
	if !right {
		return fmt.Sprintf("%v is no %s", value, p.Type)
	}
	return ""
}

// allows says what is wrong with a value that is meant to be used, "" if nothing.
func (p Parameter) allows(value string) string {
	switch _, err := strconv.ParseInt(value, 10, 64); {
	case p.Type == NumberType && err != nil:
		return fmt.Sprintf("%q is no whole number", value)
	case p.Type == SwitchType && value != "true" && value != "false":
		return fmt.Sprintf("%q is neither true nor false", value)
	case utf8.RuneCountInString(value) > mostOfValue:
		return fmt.Sprintf("it has more than %d characters", mostOfValue)
	}
	if len(p.Allowed) == 0 {
		return ""
	}
	allowed := make([]string, len(p.Allowed))
	for i, a := range p.Allowed {
		allowed[i] = fmt.Sprint(a)
	}
	if slices.Contains(allowed, value) {
		return ""
	}
	return fmt.Sprintf("%q is not allowed: use %s", value, english.WordSeries(allowed, "or"))
}

func (c *checker) parameters(s *Sheet) {
	for _, name := range slices.Sorted(maps.Keys(s.Parameters)) {
		p, at := s.Parameters[name], "parameters."+name
		if !parameterName.MatchString(name) {
			c.at(at, "parameter %q: use small letters, digits and dashes, at most 40, a letter first", name)
		}
		if p.Type == "" {
			p.Type = TextType
			s.Parameters[name] = p
		}
		value := func(at string, value any) {
			if why := p.check(value); why != "" {
				c.at(at, "%s: %s", at, why)
			} else if text := fmt.Sprint(value); !reference.MatchString(text) {
				if why := p.allows(text); why != "" {
					c.at(at, "%s: %s", at, why)
				}
			}
			c.references(at, s, fmt.Sprint(value))
		}
		if p.Default != nil {
			value(at+".default", p.Default)
		}
		for i, a := range p.Allowed {
			if why := p.check(a); why != "" {
				c.at(fmt.Sprintf("%s.allowed[%d]", at, i), "%s.allowed: %s", at, why)
			}
		}
		for _, site := range slices.Sorted(maps.Keys(p.Sites)) {
			if err := image.CheckName(site); err != nil {
				c.at(at+".sites."+site, "%s.sites: %s", at, err)
			}
			value(at+".sites."+site, p.Sites[site])
		}
		if p.About != "" && !OneLine(p.About, 200) {
			c.at(at+".about", "%s.about has to be one line of at most 200 characters", at)
		}
	}
	for i, step := range s.Steps[:min(len(s.Steps), MostSteps)] {
		step.filled(func(at, text string) string {
			c.references(fmt.Sprintf("steps[%d].%s", i, at), s, text)
			return text
		})
		c.condition(fmt.Sprintf("steps[%d].when", i), step.When, s.Parameters)
	}
	c.references("version.notes", s, s.Version.Notes)
}

// references reports what a text names as a parameter and is none.
func (c *checker) references(at string, s *Sheet, text string) {
	for _, m := range reference.FindAllStringSubmatch(text, len(text)) {
		if _, known := s.Parameters[m[1]]; !known {
			c.at(at, "%s: there is no parameter %q: write it down under parameters:, or another name", at, m[1])
		}
	}
}

// With returns the sheet as it is built: every parameter has a value, and what
// names one has that instead. The error says of every parameter what is wrong.
func (s Sheet) With(given map[string]string) (Sheet, error) {
	f := filler{sheet: s, given: given, values: map[string]string{}, filling: map[string]bool{}}
	for _, name := range slices.Sorted(maps.Keys(given)) {
		if _, known := s.Parameters[name]; !known {
			f.wrong = append(f.wrong, fmt.Sprintf("there is no parameter %q", name))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Parameters)) {
		f.value(name)
	}
	if len(f.wrong) > 0 {
		return s, WrongValues(f.wrong)
	}
	if len(s.Parameters) > 0 {
		s.Values = f.values
	}
	s.Steps = slices.Clone(s.Steps)
	for i := range s.Steps {
		s.Steps[i] = s.Steps[i].filled(func(_, text string) string { return f.filled(text) })
		f.wrong = append(f.wrong, s.Steps[i].misfilled()...)
	}
	s.Version.Notes = f.filled(s.Version.Notes)
	if f.wrong = append(f.wrong, s.conditional()...); len(f.wrong) > 0 {
		return s, WrongValues(f.wrong)
	}
	return s.ready()
}

// WrongValues are what is wrong with the values of parameters, one thing each.
type WrongValues []string

func (w WrongValues) Error() string { return strings.Join(w, "\n") }

// filler gives parameters their values.
type filler struct {
	sheet   Sheet
	given   map[string]string
	values  map[string]string
	filling map[string]bool // whose value is being found
	size    int             // what the values take where they are named, in bytes
	large   bool            // that was too much
	wrong   []string
}

// value returns the value of a parameter. If it has none that is told, once.
func (f *filler) value(name string) string {
	if v, known := f.values[name]; known {
		return v
	}
	if f.filling[name] {
		f.wrong = append(f.wrong, fmt.Sprintf("parameter %s is made of itself: its value names one that names it",
			name))
		return ""
	}
	f.filling[name] = true
	p := f.sheet.Parameters[name]
	text, from := f.given[name], p.Sites[f.sheet.Machine.Site]
	if from == nil {
		from = p.Default
	}
	switch _, is := f.given[name]; {
	case is:
	case from != nil:
		text = f.filled(fmt.Sprint(from))
	default:
		f.wrong = append(f.wrong, fmt.Sprintf("parameter %s has no value: give it one", name))
		f.values[name] = ""
		return ""
	}
	if why := p.allows(text); why != "" {
		f.wrong = append(f.wrong, fmt.Sprintf("parameter %s: %s", name, why))
		text = "" // so that what names it is not made of it
	}
	f.values[name] = text
	return text
}

// filled returns a text with the values of the parameters that it names.
func (f *filler) filled(text string) string {
	return reference.ReplaceAllStringFunc(text, func(named string) string {
		value := f.value(reference.FindStringSubmatch(named)[1])
		if f.size += len(value); f.size <= mostFilled {
			return value
		}
		if !f.large {
			f.large = true
			f.wrong = append(f.wrong, fmt.Sprintf("the values would make the sheet larger by more than %d bytes: name "+
				"long ones less often", mostFilled))
		}
		return ""
	})
}
