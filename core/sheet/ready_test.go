package sheet

import (
	"os/exec"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
)

// using is a sheet whose second step uses a ready one.
func using(ready string) []byte {
	return []byte(strings.Replace(plain, "version:", "  - {name: second, ready: "+ready+"}\nversion:", 1) +
		"parameters: {quay: {default: north}}\n")
}

func TestReadyStepsThatShipAreRight(t *testing.T) {
	t.Parallel()
	require.Equal(t, []string{
		"certificate", "desktop", "locale", "printer", "proxy", "shared-machine", "slim-desktop",
	}, Shipped().Names())
	values := map[string]string{
		"certificate": "x", "name": "quay", "address": "ipp://quay.example", "time-zone": "Europe/Paris",
		"language": "fr_FR.UTF-8", "keyboard": "fr", "services": "tides.service",
	}
	for _, r := range Shipped() {
		with := map[string]string{}
		for name := range r.Parameters {
			if v, known := values[name]; known {
				with[name] = v
			}
		}
		s, err := Sheet{library: Shipped(), Steps: []Step{{Name: "x", Ready: &Use{r.Name, with}}}}.With(nil)
		require.NoError(t, err, r.Name)
		require.NotEmpty(t, s.Steps)
		for _, step := range s.Steps {
			require.True(t, strings.HasPrefix(step.Name, "x: "))
			if step.Script == nil {
				continue
			}
			check := exec.CommandContext(t.Context(), "sh", "-n")
			check.Stdin = strings.NewReader(step.Script.Text)
			out, err := check.CombinedOutput()
			require.NoError(t, err, "%s of %s: %s", step.Name, r.Name, out)
		}
	}
}

func TestAReadyStepComesToItsSteps(t *testing.T) {
	t.Parallel()
	own, err := ReadLibrary(fstest.MapFS{"tides.yaml": {Data: []byte(`about: has tides
parameters: {place: {}, high: {type: switch, default: false}}
steps:
  - {name: table, put: {to: /etc/tides, text: "{{place}} {{high}}"}}
  - {name: only high, put: {to: /etc/high, text: x}, when: values.high}
`)}, "notes.txt": {}})
	require.NoError(t, err)
	s, err := Parse(using(`{step: tides, with: {place: "the {{quay}} quay"}}`), own)
	require.NoError(t, err)
	s, err = s.With(map[string]string{"quay": "{{place}}"})
	require.NoError(t, err)
	require.Len(t, s.Steps, 3)
	require.Equal(t, "second: table", s.Steps[1].Name)
	require.Equal(t, "the {{place}} quay false", s.Steps[1].Put.Text, "a value is not looked through again")
	require.True(t, s.Steps[2].Skipped)
	require.Equal(t, UsualStepLimit, s.Steps[1].TimeLimit)

	s, err = Parse([]byte(strings.Replace(string(using("{step: tides, with: {place: x}}")), "{name: second,",
		`{name: second, when: site == "south-quay",`, 1)), own)
	require.NoError(t, err)
	s, err = s.With(nil)
	require.NoError(t, err)
	require.True(t, s.Steps[1].Skipped, "all of them are left out")

	s, err = Parse(using("{step: tides, with: {place: x, high: perhaps}}"), own)
	require.NoError(t, err)
	_, err = s.With(nil)
	require.EqualError(t, err, `step "second": parameter high: "perhaps" is neither true nor false`)
	for ready, want := range map[string]string{
		"{step: tide}":                                    `there is no ready step "tide": use certificate, `,
		"{step: tides}":                                   "ready step tides wants a value of place (its parameter)",
		"{step: tides, with: {place: x, a: b}}":           `ready step tides has no parameter "a": it has high and place`,
		"{step: tides, with: {place: x}}, time-limit: 5m": "time-limit: a ready step says that itself",
		`{step: tides, with: {place: "{{none}}"}}`:        `there is no parameter "none"`,
	} {
		_, err := Parse(using(ready), own)
		require.ErrorContains(t, err, want)
		require.ErrorContains(t, err, "line 7, column")
	}
}

func TestAReadyStepThatIsNotRightIsRefused(t *testing.T) {
	t.Parallel()
	const right = "about: x\nsteps: [{name: a, restart: {}}]\n"
	for want, file := range map[string][2]string{
		"is no name of a ready step":   {"Tides", right},
		"about: say what it does":      {"tides", "steps: [{name: a, restart: {}}]\n"},
		"the steps are missing":        {"tides", "about: x\n"},
		"is not made of others":        {"tides", "about: x\nsteps: [{name: a, ready: {step: locale}}]\n"},
		`there is no key "image"`:      {"tides", right + "image: x\n"},
		`there is no parameter "quay"`: {"tides", "about: x\nsteps: [{name: a, put: {to: /a/b, text: \"{{quay}}\"}}]\n"},
		"at most 1048576 are taken":    {"tides", right + strings.Repeat("#", MostBytes)},
		"there is no secret \"roster\"": {
			"tides", "about: x\nsteps: [{name: a, script: {text: \"#!/bin/sh\", secrets: {A: roster}}}]\n",
		},
	} {
		_, err := ReadLibrary(fstest.MapFS{file[0] + ".yaml": {Data: []byte(file[1])}})
		require.ErrorContains(t, err, want)
	}
}
