package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestApplicationsSayHowOneSeesThatTheyHaveComeUp(t *testing.T) {
	t.Parallel()
	s, err := Parse([]byte(plain + `applications:
  - {name: Fare Desk, command: /usr/bin/fare-desk, arguments: [--counter], opens: {window: Fares}, within: 30s}
  - {name: Tide Tables, command: /usr/bin/tides, opens: {exit-code: 0}}
  - {name: Berths, command: /usr/bin/berths, opens: {port: 8080}}
  - {name: Crew, command: /usr/bin/crew, opens: {http: "http://127.0.0.1/"}}
  - {name: Clock, command: /usr/bin/clock, icon: /usr/share/clock.png, opens: {process: clock}}
`))
	require.NoError(t, err)
	explained := strings.Join(s.Explain(), "\n")
	for _, want := range []string{
		"People open Fare Desk by /usr/bin/fare-desk --counter: within 30s it has to be so that there is a window " +
			"with \"Fares\" in its title.",
		"People open Tide Tables by /usr/bin/tides: within 1m it has to be so that it ends with exit code 0.",
		"so that something listens on port 8080.", "so that http://127.0.0.1/ answers.",
		"so that a process clock runs.",
	} {
		require.Contains(t, explained, want)
	}
	for _, c := range []struct{ more, want string }{
		{"{command: /x, opens: {port: 1}}", "write what the application is called"},
		{"{name: a, command: x, opens: {port: 1}}", "write the full path of the program"},
		{"{name: a, command: /x/y, icon: z, opens: {port: 1}}", `icon: "z": write a full path`},
		{"{name: a, command: /x/y}", "say by one of exit-code, process, window, port and http"},
		{"{name: a, command: /x/y, opens: {port: 1, process: a}}", "say by one of"},
		{"{name: a, command: /x/y, opens: {exit-code: 256}}", "exit-code: 256: use 0 to 255"},
		{"{name: a, command: /x/y, opens: {port: 70000}}", "port: 70000: use 1 to 65535"},
		{"{name: a, command: /x/y, opens: {http: tides}}", `http: "tides" is no address`},
		{
			"{name: a, command: /x, opens: {port: 1}}, {name: a, command: /x, opens: {port: 1}}",
			`application "a" is there twice`,
		},
	} {
		_, err := Parse([]byte(plain + "applications: [" + c.more + "]\n"))
		require.ErrorContains(t, err, c.want, c.more)
		require.ErrorContains(t, err, "line 8")
	}
	_, err = Parse([]byte(plain + "applications: [" + strings.Repeat("{name: a},", MostApplications+1) + "]\n"))
	require.ErrorContains(t, err, "there are 101 applications: use at most 100")
}

func TestProofsAreRunOnTheMachineOfTheFirstStart(t *testing.T) {
	t.Parallel()
	with := func(steps string) (Sheet, error) {
		return Parse([]byte(strings.Replace(plain, "version:", steps+"version:", 1)))
	}
	s, err := with("  - {name: prints, proof: true, script: {text: \"#!/bin/sh\"}}\n")
	require.NoError(t, err)
	require.Len(t, s.Proofs(), 1)
	require.Contains(t, strings.Join(s.Explain(), "\n"),
		"2. prints: once the version is made, on the machine that proves its first start, a script of 0 lines is run "+
			"by /bin/sh, within 30m. If it fails, so has the first start.")
	s.Steps[1].Skipped = true
	require.Empty(t, s.Proofs())
	require.True(t, s.Version.Proves())
	require.False(t, Version{Prove: new(false)}.Proves())
	for step, want := range map[string]string{
		"proof: true, restart: {}": "only a script can be a proof",
		`proof: true, script: {text: "#!/bin/sh"}, on-failure: {do: go-on}`: "a proof that fails stands with the version",
		`proof: true, script: {text: "#!/bin/sh", secrets: {A: a}}`:         "a proof is told no secrets",
	} {
		_, err := with("  - {name: prints, " + step + "}\n")
		require.ErrorContains(t, err, want)
	}
}
