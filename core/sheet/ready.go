package sheet

import (
	"cmp"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/strict"
)

// Ready is a ready step: something that many sheets want, written once, as a
// readable sheet of its own. It has parameters of its own, and comes to steps.
type Ready struct {
	Name       string               `json:"name"` // of its file
	About      string               `yaml:"about" json:"about"`
	Parameters map[string]Parameter `yaml:"parameters" json:"parameters,omitempty"`
	Steps      []Step               `yaml:"steps" json:"steps"`
	Text       string               `json:"text"` // as it is written down
}

// Wants are the names of its parameters that have no default, and then of those that do, in brackets.
func (r Ready) Wants() (names []string) {
	var may []string
	for _, name := range slices.Sorted(maps.Keys(r.Parameters)) {
		if r.Parameters[name].Default == nil {
			names = append(names, name)
		} else {
			may = append(may, "["+name+"]")
		}
	}
	return append(names, may...)
}

// Use has a ready step done.
type Use struct {
	Step string            `yaml:"step" json:"step"`           // its name, of those that ship with the product or your own
	With map[string]string `yaml:"with" json:"with,omitempty"` // values of its parameters
}

// Library is the ready steps that there are, by name.
type Library map[string]Ready

//go:embed library/*.yaml
var library embed.FS

var shipped = func() Library {
	folder, err := fs.Sub(library, "library")
	if err != nil {
		panic(err) // it is part of the program
	}
	l, err := ReadLibrary(folder)
	if err != nil {
		panic(err)
	}
	return l
}()

// Shipped are the ready steps that come with the product.
func Shipped() Library { return shipped }

// And returns the ready steps of both; where both have one, that of the other.
func (l Library) And(other Library) Library {
	all := maps.Clone(l)
	maps.Copy(all, other)
	return all
}

// Names are the ready steps' names, in order.
func (l Library) Names() []string { return slices.Sorted(maps.Keys(l)) }

// ReadLibrary reads all ready steps of a folder: a file NAME.yaml of each.
func ReadLibrary(folder fs.FS) (Library, error) {
	files, err := fs.Glob(folder, "*.yaml")
	if err != nil {
		return nil, err
	}
	l := Library{}
	for _, file := range files {
		text, err := fs.ReadFile(folder, file)
		if err != nil {
			return nil, fmt.Errorf("the ready step %s cannot be read: %w", file, err)
		}
		r, err := ParseReady(strings.TrimSuffix(path.Base(file), ".yaml"), text)
		if err != nil {
			return nil, fmt.Errorf("the ready step %s is not right:\n%w", file, err)
		}
		l[r.Name] = r
	}
	return l, nil
}

// ParseReady reads a ready step, fills in what was left out, and checks it. The error is Problems.
func ParseReady(name string, text []byte) (Ready, error) {
	r := Ready{Name: name, Text: string(text)}
	if len(text) > MostBytes {
		return r, Problems{{1, 1, fmt.Sprintf("it has %d bytes: at most %d are taken", len(text), MostBytes)}}
	}
	places, found := strict.ReadYAML(text, &r)
	c := newChecker(places, found)
	if !parameterName.MatchString(name) {
		c.at("", "%q is no name of a ready step: call its file by small letters, digits and dashes", name)
	}
	if !OneLine(r.About, 200) {
		c.at("about", "about: say what it does, in one line of at most 200 characters")
	}
	s := Sheet{Parameters: r.Parameters, Steps: r.Steps}
	c.steps(&s)
	c.parameters(&s)
	c.secrets(&s)
	for i, step := range s.Steps {
		if step.Ready != nil {
			c.at(fmt.Sprintf("steps[%d].ready", i), "a ready step is not made of others: write their steps down")
		}
	}
	if len(c.problems) > 0 {
		slices.SortStableFunc(c.problems, func(a, b Problem) int {
			return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
		})
		return r, c.problems[:min(len(c.problems), mostProblems)]
	}
	return r, nil
}

// ready checks a step that has a ready one done.
func (c *checker) ready(at string, s Step) {
	r, known := c.library[s.Ready.Step]
	if !known {
		c.at(at+".ready.step", "there is no ready step %q: use %s", s.Ready.Step,
			english.OxfordWordSeries(c.library.Names(), "or"))
		return
	}
	for _, name := range slices.Sorted(maps.Keys(s.Ready.With)) {
		if _, is := r.Parameters[name]; !is {
			c.at(at+".ready.with."+name, "ready step %s has no parameter %q: it has %s", r.Name, name,
				cmp.Or(english.OxfordWordSeries(slices.Sorted(maps.Keys(r.Parameters)), "and"), "none"))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Parameters)) {
		if _, given := s.Ready.With[name]; !given && r.Parameters[name].Default == nil {
			c.at(at+".ready", "ready step %s wants a value of %s (%s): write it under with:", r.Name, name,
				cmp.Or(r.Parameters[name].About, "its parameter"))
		}
	}
	for _, key := range []string{"time-limit", "on-failure", "exit-codes", "proof"} {
		if c.has(at + "." + key) {
			c.at(at+"."+key, "%s.%s: a ready step says that itself", at, key)
		}
	}
}

// ready returns the sheet with the steps in it that ready ones come to.
func (s Sheet) ready() (Sheet, error) {
	var all []Step
	var wrong WrongValues
	for _, step := range s.Steps {
		if step.Ready == nil {
			all = append(all, step)
			continue
		}
		steps, err := s.expanded(step, step.Ready.With)
		var unfit WrongValues
		if errors.As(err, &unfit) {
			for _, w := range unfit {
				wrong = append(wrong, fmt.Sprintf("step %q: %s", step.Name, w))
			}
		}
		all = append(all, steps...)
	}
	if len(all) > MostSteps {
		wrong = append(wrong, fmt.Sprintf("with what its ready steps come to it has %d steps: use at most %d", len(all),
			MostSteps))
	}
	if len(wrong) > 0 {
		return s, wrong
	}
	s.Steps = all
	return s, nil
}

// expanded returns the steps that a step comes to which has a ready one done, with values of its parameters.
func (s Sheet) expanded(step Step, with map[string]string) ([]Step, error) {
	r := s.library[step.Ready.Step]
	inner, err := Sheet{
		Image: s.Image, Base: s.Base, Machine: s.Machine, Parameters: r.Parameters, Steps: r.Steps,
	}.With(with)
	if err != nil {
		return nil, err
	}
	for i := range inner.Steps {
		of := &inner.Steps[i]
		name := []rune(step.Name + ": " + of.Name)
		of.Name = strings.TrimSpace(string(name[:min(len(name), 80)]))
		if of.Skipped = of.Skipped || step.Skipped; step.Skipped {
			of.When, of.Off = step.When, step.Off
		}
	}
	return inner.Steps, nil
}
