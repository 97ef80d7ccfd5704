package strict

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

type letter struct {
	To     string            `yaml:"to"`
	Pages  int               `yaml:"pages"`
	Sent   *bool             `yaml:"sent"`
	Lines  []string          `yaml:"lines"`
	Stamps []stamp           `yaml:"stamps"`
	Marks  map[string]any    `yaml:"marks"`
	Copies map[string]*stamp `yaml:"copies"`
	By     colour            `yaml:"by"`
	own    string
}

// colour is a text of its own form.
type colour string

func (c *colour) UnmarshalText(text []byte) error {
	if *c = colour(text); *c != "red" && *c != "blue" {
		return fmt.Errorf("colour %q is not known: use red or blue", text)
	}
	return nil
}

type stamp struct {
	Value int8   `yaml:"value,omitempty"`
	Kind  string `yaml:"kind"`
}

func TestADocumentIsReadWithThePlacesOfItsValues(t *testing.T) {
	t.Parallel()
	var l letter
	places, problems := ReadYAML([]byte(`
to: Ida Strand
pages: 2
sent: true
lines: [one, "2"]
stamps:
  - value: 7
    kind: ferry
  - {kind: 'tide'}
marks: {a: x, b: 3, c: false}
copies:
  north: {value: 1}
by: red
`), &l)
	require.Empty(t, problems)
	yes := true
	require.Equal(t, letter{
		To: "Ida Strand", Pages: 2, Sent: &yes, Lines: []string{"one", "2"},
		Stamps: []stamp{{7, "ferry"}, {0, "tide"}},
		Marks:  map[string]any{"a": "x", "b": int64(3), "c": false},
		Copies: map[string]*stamp{"north": {Value: 1}}, By: "red",
	}, l)
	require.Equal(t, Place{8, 5}, places.Of("stamps[0].kind"))
	require.Equal(t, Place{9, 5}, places.Of("stamps[1]"))
	require.Equal(t, Place{9, 6}, places.Of("stamps[1].kind"))
	require.Equal(t, Place{6, 1}, places.Of("stamps[5].kind"), "the nearest thing around it")
	require.Equal(t, Place{1, 1}, places.Of("nothing"))

	_, problems = ReadYAML([]byte("lines:\n  - |\n    x\n    y\nto: >-\n  a\n  b\n"), &l)
	require.Empty(t, problems)
	require.Equal(t, []string{"x\ny\n"}, l.Lines)
	require.Equal(t, "a b", l.To)
}

func TestEverythingThatDoesNotFitIsFoundAtOnce(t *testing.T) {
	t.Parallel()
	var l letter
	_, problems := ReadYAML([]byte(`
two: Ida Strand
to: 5
pages: many
sent: 1
lines: one
stamps:
  - value: 200
    colour: red
  - ferry
marks: {a: [x]}
copies: []
own: x
by: green
`), &l)
	require.Nil(t, l.Copies)
	var got []string
	for _, p := range problems {
		got = append(got, strings.TrimSpace(p.Error()))
	}
	require.Equal(t, []string{
		`line 2: there is no key "two": use to, pages, sent, lines, stamps, marks, copies or by`,
		`line 3: to has to be a text: put it in quotes, and is the number 5`,
		`line 4: pages has to be a whole number, and is the text "many"`,
		`line 5: sent has to be true or false, and is the number 1`,
		`line 6: lines has to be a list, and is the text "one"`,
		`line 8: stamps[0].value has to be a whole number, and is the number 200`,
		`line 9: there is no key "colour" in stamps[0]: use value or kind`,
		`line 10: stamps[1] has to be keys with values, and is the text "ferry"`,
		`line 11: marks.a has to be a text, a whole number, true or false, and is a list`,
		`line 12: copies has to be names with values, and is a list`,
		`line 13: there is no key "own": use to, pages, sent, lines, stamps, marks, copies or by`,
		`line 14: by: colour "green" is not known: use red or blue`,
	}, got)
	require.Equal(t, Place{9, 5}, problems[6].Place)
	require.Empty(t, l.own)
}

func TestAProblemSaysWhatStandsThereInstead(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"by: 5":              "by has to be a text, and is the number 5",
		"by: [red]":          "by has to be a text, and is a list",
		"to: [a]":            "to has to be a text, and is a list",
		"to: true":           "to has to be a text: put it in quotes, and is true",
		"pages: true":        "pages has to be a whole number, and is true",
		"pages: {a: 1}":      "pages has to be a whole number, and is keys with values",
		"lines: [~]":         "lines[0] has to be a text, and is empty",
		"stamps: [~]":        "stamps[0] has to be keys with values, and is empty",
		"1: x":               `there is no key "1": use to,`,
		"\" to\": x":         `there is no key " to": use to,`,
		"copies: {a: {b: 1}": "", // it does not end
	} {
		var l letter
		_, problems := ReadYAML([]byte(text), &l)
		require.Len(t, problems, 1, text)
		require.Contains(t, problems[0].Text, want, text)
	}
	var one struct {
		Only string `yaml:"only"`
	}
	_, problems := ReadYAML([]byte("x: 1"), &one)
	require.Equal(t, `there is no key "x": use only`, problems[0].Text)
	_, problems = ReadYAML([]byte("only: x\nonly: y\n"), &one)
	require.Equal(t, Place{2, 1}, problems[0].Place)
	require.NotContains(t, problems[0].Text, "\n", "a message, and no drawing of the place")
	_, problems = ReadYAML(nil, &one)
	require.Equal(t, Place{1, 1}, problems[0].Place)
}

func TestWhatIsNoPlainDocumentHasOneProblem(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"":                              "the file is empty",
		"# only a remark\n":             "the file is empty",
		"to:\n":                         "there is nothing behind to: write a value, or leave the key out",
		"- a\n":                         "the file has to be keys with values, and is a list",
		"to: a\nto: b\n":                "already defined",
		"to: [a\n":                      "sequence end token",
		"a: &x 1\nb: *x":                "anchors, aliases and tags are not taken",
		"pages: 1.5":                    "1.5 is not a whole number",
		"pages: 99999999999999999999\n": "99999999999999999999 is not a whole number",
	} {
		var l letter
		_, problems := ReadYAML([]byte(text), &l)
		require.Len(t, problems, 1, text)
		require.Contains(t, problems[0].Text, want, text)
		require.Positive(t, problems[0].Line)
		require.Positive(t, problems[0].Column)
	}
}
