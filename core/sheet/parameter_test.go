package sheet

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const open = `image: desk
base: {track: live}
machine: {site: north-quay}
parameters:
  queue:
    about: where tickets are printed
    allowed: [counter, office]
    default: counter
    sites: {south-quay: office}
  copies: {type: number, default: 2}
  loud: {type: switch, default: false}
  greeting: {default: "Tickets for {{queue}}"}
  key: {}
steps:
  - name: one
    script:
      text: "#!/bin/sh\necho {{queue}} stays"
      arguments: ["--queue={{ queue }}", "{{copies}}{{copies}}", "{{nothing"]
      environment: {LOUD: "{{loud}}", KEY: "{{key}}"}
  - name: two
    put: {to: /etc/printer.conf, text: "{{greeting}}\n"}
version: {notes: "for {{queue}}"}
`

func TestValuesDoNotMakeASheetGrowWithoutBound(t *testing.T) {
	t.Parallel()
	var text strings.Builder
	text.WriteString("parameters:\n  p-0: {default: xxxxxxxxxx}\n")
	for i := range 60 {
		fmt.Fprintf(&text, "  p-%d: {default: \"{{p-%d}}{{p-%d}}\"}\n", i+1, i, i)
	}
	s, err := Parse([]byte(text.String() + plain))
	require.NoError(t, err)
	_, err = s.With(nil)
	require.ErrorContains(t, err, "parameter p-9: it has more than 4000 characters")

	s, err = Parse([]byte("parameters: {long: {default: " + strings.Repeat("x", 4000) + "}}\n" + strings.Replace(plain,
		"install: {packages: [a]}", "put: {to: /x, text: '"+strings.Repeat("{{long}}", 1049)+"'}", 1)))
	require.NoError(t, err)
	_, err = s.With(nil)
	require.EqualError(t, err,
		"the values would make the sheet larger by more than 4194304 bytes: name long ones less often")
	_, err = s.With(map[string]string{"long": strings.Repeat("y", 3998)})
	require.NoError(t, err)
}

func TestParametersAreFilledIn(t *testing.T) {
	t.Parallel()
	s, err := Parse([]byte(open))
	require.NoError(t, err)
	require.Equal(t, TextType, s.Parameters["queue"].Type)
	built, err := s.With(map[string]string{"key": "{{copies}} $x", "copies": "3"})
	require.NoError(t, err)
	require.Equal(t, map[string]string{
		"queue": "counter", "copies": "3", "loud": "false", "greeting": "Tickets for counter", "key": "{{copies}} $x",
	}, built.Values, "what is given is taken to the letter")
	require.Equal(t, []string{"--queue=counter", "33", "{{nothing"}, built.Steps[0].Script.Arguments)
	require.Equal(t, map[string]string{"LOUD": "false", "KEY": "{{copies}} $x"}, built.Steps[0].Script.Environment)
	require.Equal(t, "#!/bin/sh\necho {{queue}} stays", built.Steps[0].Script.Text, "a script is run as it stands")
	require.Equal(t, "Tickets for counter\n", built.Steps[1].Put.Text)
	require.Equal(t, "for counter", built.Version.Notes)
	require.Equal(t, "{{greeting}}\n", s.Steps[1].Put.Text, "the sheet itself stays")
	require.Equal(t, "{{loud}}", s.Steps[0].Script.Environment["LOUD"])
	require.Equal(t, "--queue={{ queue }}", s.Steps[0].Script.Arguments[0])
	require.Contains(t, built.Explain()[1], `Of its parameters, copies is "3", greeting is "Tickets for counter", key is`)

	s.Machine.Site = "south-quay"
	built, err = s.With(map[string]string{"key": "x"})
	require.NoError(t, err)
	require.Equal(t, "office", built.Values["queue"], "a site has its own")
	require.Equal(t, "Tickets for office", built.Values["greeting"])
	built, err = s.With(map[string]string{"key": "", "queue": "counter"})
	require.NoError(t, err)
	require.Equal(t, "counter", built.Values["queue"], "who starts the build has the last word")

	_, err = s.With(map[string]string{"queue": "garden", "copies": "two", "loud": "yes", "hue": "red"})
	require.EqualError(t, err, strings.Join([]string{
		`there is no parameter "hue"`,
		`parameter copies: "two" is no whole number`,
		`parameter queue: "garden" is not allowed: use counter or office`,
		"parameter key has no value: give it one",
		`parameter loud: "yes" is neither true nor false`,
	}, "\n"))
	_, err = s.With(map[string]string{"key": strings.Repeat("x", mostOfValue+1)})
	require.EqualError(t, err, "parameter key: it has more than 4000 characters")
	_, err = s.With(map[string]string{"key": strings.Repeat("x", mostOfValue)})
	require.NoError(t, err)

	_, err = s.With(map[string]string{"key": "x", "copies": "1a"})
	require.EqualError(t, err, `parameter copies: "1a" is no whole number`)

	none, err := Parse([]byte(plain))
	require.NoError(t, err)
	same, err := none.With(nil)
	require.NoError(t, err)
	require.Equal(t, none, same)
}

func TestAParameterThatIsMadeOfItselfIsTold(t *testing.T) {
	t.Parallel()
	s, err := Parse([]byte(strings.Replace(plain, "steps:", `parameters:
  a: {default: "{{b}}"}
  b: {default: "x{{c}}"}
  c: {default: "{{a}}"}
  d: {default: "{{d}}"}
steps:`, 1)))
	require.NoError(t, err)
	_, err = s.With(nil)
	require.EqualError(t, err, "parameter a is made of itself: its value names one that names it\n"+
		"parameter d is made of itself: its value names one that names it")
	_, err = s.With(map[string]string{"c": "1", "d": "2"})
	require.NoError(t, err, "what is given breaks the circle")
}

func TestWhatIsWrongWithParametersIsToldWhereItIs(t *testing.T) {
	t.Parallel()
	for what, want := range map[string]string{
		"Queue: {}":                                       `line 5, column 3: parameter "Queue": use small letters`,
		"q: {type: colour}":                               `line 5, column 13: parameters.q.type: "colour" is not known: use text, number`,
		"q: {default: 5}":                                 "parameters.q.default: 5 is no text",
		"q: {type: number, default: x}":                   "parameters.q.default: x is no number",
		"q: {type: switch, default: 1}":                   "parameters.q.default: 1 is no switch",
		"q: {allowed: [a], default: b}":                   `parameters.q.default: "b" is not allowed: use a`,
		"q: {allowed: [1]}":                               "parameters.q.allowed: 1 is no text",
		"q: {sites: {'North Quay': a}}":                   "parameters.q.sites: ",
		"q: {sites: {north-quay: 1}}":                     "parameters.q.sites.north-quay: 1 is no text",
		"q: {about: ' x'}":                                "parameters.q.about has to be one line",
		"q: {default: '{{w}}'}":                           `parameters.q.default: there is no parameter "w"`,
		"q: {default: " + strings.Repeat("x", 4001) + "}": "it has more than 4000 characters",
	} {
		_, err := Parse([]byte(strings.Replace(plain, "steps:", "parameters:\n  "+what+"\nsteps:", 1)))
		require.ErrorContains(t, err, want, what[:min(len(what), 80)])
		require.Len(t, err, 1, "%s", err)
	}
	for _, c := range [][2]string{
		{"install: {packages: [a]}", "put: {to: /x, text: '{{q}}'}"},
		{"install: {packages: [a]}", "script: {text: '#!/x', arguments: [a, '{{q}}']}"},
		{"install: {packages: [a]}", "script: {text: '#!/x', environment: {A: '{{ q }}'}}"},
		{"notes: x", "notes: '{{q}}'"},
	} {
		_, err := Parse([]byte(strings.Replace(plain, c[0], c[1], 1)))
		require.ErrorContains(t, err, `there is no parameter "q": write it down under parameters:`)
		require.Len(t, err, 1)
	}
}

func TestWhatHasNoValueIsToldOnce(t *testing.T) {
	t.Parallel()
	with := func(parameters string) (Sheet, error) {
		s, err := Parse([]byte(strings.Replace(plain, "steps:", "parameters: {"+parameters+"}\nsteps:", 1)))
		require.NoError(t, err)
		return s.With(nil)
	}
	_, err := with(`a: {default: "{{k}} {{k}}"}, k: {}`)
	require.EqualError(t, err, "parameter k has no value: give it one")
	_, err = with(`n: {type: number}`)
	require.EqualError(t, err, "parameter n has no value: give it one")
	s, err := with("only: {default: " + strings.Repeat("x", mostOfValue) + ", about: " + strings.Repeat("x", 200) + "}")
	require.NoError(t, err)
	require.Contains(t, s.Explain()[1], "Of its parameters, only is ")
	_, err = Parse([]byte(strings.Replace(plain, "steps:", "parameters: {a: {about: "+strings.Repeat("x", 201)+
		"}}\nsteps:", 1)))
	require.ErrorContains(t, err, "parameters.a.about has to be one line")
}
