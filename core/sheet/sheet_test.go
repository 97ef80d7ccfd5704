package sheet

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestTheSheetToStartFromIsRight(t *testing.T) {
	t.Parallel()
	s, err := Parse(New())
	require.NoError(t, err)
	require.Equal(t, []string{
		"A build machine is made at north-quay from the version that track live names of image counter-desk. " +
			"The whole may take 3h.",
		"1. Fare Desk: the package fare-desk is installed, within 20m. " +
			"If it fails, it is tried again up to 2 times, 1m later each time; then the build fails.",
		"2. Printer at the counter: a file of 16 bytes is written to /etc/fare-desk/printer.conf, for root, " +
			"with mode 0644, within 30m. If it fails, the build fails.",
		"3. Fonts for tickets: a script of 2 lines is run by /bin/sh with the arguments /usr/share/fonts/tickets, " +
			"within 30m. If it fails, the build fails.",
		"4. Restart: the machine is restarted, and has to be back within 10m. If it fails, the build fails.",
		"Then the seal checks are made, the machine is sealed and captured as the image's next version, " +
			"its copies are delivered, and the machine is discarded.",
		"The version may be used until 6 months after it was made.",
	}, s.Explain())
}

func TestWhatIsLeftOutIsFilledIn(t *testing.T) {
	t.Parallel()
	s, err := Parse([]byte(`
image: desk
base: {disk: vendor.qcow2}
machine: {site: north-quay}
steps:
  - {name: one, restart: {}}
  - {name: two, put: {to: /a/b, text: x}, on-failure: {do: again}}
  - {name: three, script: {text: "#!/bin/sh"}, on-failure: {do: go-on}, exit-codes: [0, 3]}
  - {name: four, remove: {packages: [a, b]}}
seal-checks: {waive: {secrets-left: the key is public., leftovers: small ones}}
version: {number: 2026.11.3, end-of-life: "2027-05-31", stage: true}
`))
	require.NoError(t, err)
	require.Equal(t, UsualTimeLimit, s.TimeLimit)
	require.Equal(t, UsualRestart, s.Steps[0].TimeLimit)
	require.Equal(t, Restart{Within: UsualRestart}, *s.Steps[0].Restart)
	require.Equal(t, OnFailure{Do: Stop}, s.Steps[0].OnFailure)
	require.Equal(t, OnFailure{Do: GoOn}, s.Steps[2].OnFailure)
	require.Equal(t, "4h 30m 10m 30s", fmt.Sprint(UsualTimeLimit, UsualStepLimit, UsualRestart, UsualPause))
	require.Equal(t, Put{Text: "x", To: "/a/b", Owner: "root", Mode: "0644"}, *s.Steps[1].Put)
	require.Equal(t, OnFailure{Again, 3, UsualPause}, s.Steps[1].OnFailure)
	require.Equal(t, []int{0}, s.Steps[1].ExitCodes)
	require.Equal(t, UsualStepLimit, s.Steps[2].TimeLimit)
	for i, want := range []Kind{Restarts, Puts, RunsScript, Removes} {
		require.Equal(t, []Kind{want}, s.Steps[i].Kinds())
	}
	explained := strings.Join(s.Explain(), "\n")
	for _, want := range []string{
		"from the base disk vendor.qcow2 of image desk", "The whole may take 4h.",
		"two: a file of 1 byte is written", "tried again up to 3 times, 30s later",
		"three: a script of 0 lines is run by /bin/sh, which may exit with 0 or 3, within 30m. " +
			"If it fails, that is noted and the build goes on.",
		"four: the packages a and b are removed",
		"captured as version 2026.11.3, its copies are delivered, it is staged",
		"What the seal check leftovers finds is passed over: small ones.\n" +
			"What the seal check secrets-left finds is passed over: the key is public.",
		"The version may be used until 2027-05-31.",
	} {
		require.Contains(t, explained, want)
	}
	made := time.Date(2026, 11, 30, 15, 4, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"2027-05-31": "2027-05-31", "in 6 months": "2027-05-30", "in 1 day": "2026-12-01", "in 2 weeks": "2026-12-14",
	} {
		day := Version{EndOfLife: text}.EndOfLifeFrom(made)
		require.Equal(t, want, day.Format(time.DateOnly))
		require.Zero(t, day.Hour())
	}
	require.Nil(t, Version{}.EndOfLifeFrom(made))
}

// plain is a sheet without problems, of which tests make some.
const plain = `image: desk
base: {track: live}
machine: {site: north-quay}
steps:
  - name: one
    install: {packages: [a]}
version: {notes: x}
`

func TestBoundsAreTaken(t *testing.T) {
	t.Parallel()
	taken := func(old, now string) (s Sheet) {
		t.Helper()
		s, err := Parse([]byte(strings.Replace(plain, old, now, 1)))
		require.NoError(t, err)
		return s
	}
	taken(plain, plain+strings.Repeat("#", MostBytes-len(plain)))
	taken("name: one", "name: "+strings.Repeat("é", 80))
	taken("notes: x", "notes: "+strings.Repeat("é", 4000))
	taken("notes: x", "tags: ["+strings.Repeat("x", 40)+"]")
	taken("install: {packages: [a]}", "script: {text: '#!/x'}\n    exit-codes: [0, 255]")
	taken("install: {packages: [a]}", "put: {to: /x, text: y, mode: '7777'}")
	for _, times := range []string{"1", "20"} {
		taken("[a]}", "[a]}\n    on-failure: {do: again, times: "+times+"}")
	}
	require.Equal(t, Span(time.Second), taken("[a]}", "[a]}\n    time-limit: 1s").Steps[0].TimeLimit)
	require.Equal(t, Span(168*time.Hour), taken("[a]}", "[a]}\n    time-limit: 168h").Steps[0].TimeLimit)
	s := taken("track: live", "version: 2026.11.1")
	require.Contains(t, s.Explain()[0], "from version 2026.11.1 of image desk")
}

func TestATextThatCouldNotBeReadHasOneProblem(t *testing.T) {
	t.Parallel()
	for text, most := range map[string]int{"- a": 1, "a: [": 1, "": 1, "image: 5": 4} {
		_, err := Parse([]byte(text))
		require.Len(t, err, most, text)
	}
	_, err := Parse(bytes.Repeat([]byte("#"), MostBytes+1))
	require.ErrorContains(t, err, "line 1, column 1: the sheet has 1048577 bytes")
}

func TestEachProblemSaysWhereItIsAndWhatWouldBeRight(t *testing.T) {
	t.Parallel()
	_, err := Parse([]byte(plain))
	require.NoError(t, err)
	refused := func(text, want string) {
		t.Helper()
		require.NotEqual(t, plain, text)
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, want, text[:min(len(text), 400)])
		require.Len(t, err, 1, "%s", err)
	}
	// What is wrong around the steps: what is replaced, by what, and what is said.
	for _, c := range [][3]string{
		{"image: desk\n", "", "line 1, column 1: the image is missing: write image:"},
		{"image: desk", "image: Desk!", "line 1, column 1: image: "},
		{"base: {track: live}\n", "", "line 1, column 1: the base is missing: write base: {track: live}"},
		{"{track: live}", "{track: live, disk: x}", "line 2, column 1: base: 2 things to begin with are named"},
		{"{track: live}", "{}", "line 2, column 1: base: 0 things to begin with"},
		{"track: live", "track: 'Live ?'", "line 2, column 8: base.track: "},
		{"track: live", "disk: ../x", `line 2, column 8: base.disk: "../x" is a path`},
		{"machine: {site: north-quay}\n", "", "the site is missing: write machine: {site: NAME}"},
		{"site: north-quay", "site: '-'", "line 3, column 11: machine.site: "},
		{"name: one", "name: " + strings.Repeat("x", 81), "has to be one line of at most 80 characters"},
		{"name: one", "name: ' one'", "line 5, column 5: steps[0].name has to be one line"},
		{"name: one\n    ", "", "line 5, column 5: the step has no name"},
		{"version:", "seal-checks: {waive: {left-overs: x}}\nversion:", `line 7, column 23: there is no seal check "left-overs": use`},
		{"version:", "seal-checks: {waive: {leftovers: ' '}}\nversion:", "seal-checks.waive.leftovers: write why"},
		{"version:", "seal-checks: {waive: [leftovers]}\nversion:", "seal-checks.waive has to be names with values"},
		{"notes: x", "end-of-life: soon", `version.end-of-life: "soon" is no date: write it as 2027-05-31`},
		{"notes: x", "end-of-life: in 0 days", `"in 0 days" is no date`},
		{"notes: x", "tags: [Monthly]", `version.tags: "Monthly": use small letters`},
		{"notes: x", "notes: " + strings.Repeat("x", 4001), "version.notes: use at most 4000 characters"},
		{"notes: x", "colour: x", `there is no key "colour" in version: use number, notes`},
		{plain, "steps: [one", "line 1, column "},
		{plain, strings.Repeat("# x\n", MostBytes/4+1), "the sheet has 1048580 bytes: at most 1048576"},
	} {
		refused(strings.Replace(plain, c[0], c[1], 1), c[2])
	}
	// What is wrong with what a step does.
	for does, want := range map[string]string{
		"time-limit: 5m":                                `step "one" does nothing: write script, put, install,`,
		"install: {packages: []}":                       "line 6, column 15: steps[0].install.packages: name",
		"install: {packages: [a, 'b c']}":               `line 6, column 29: steps[0].install.packages: "b c" is no name`,
		"install: {packages: [--purge]}":                `"--purge" is no name of a package`,
		"script: {text: 'echo'}":                        "has to begin with the interpreter, such as #!/bin/sh",
		"put: {to: etc/x, text: x}":                     `steps[0].put.to: "etc/x": write a path of the machine from its root`,
		"put: {to: /etc/../x, text: x}":                 `steps[0].put.to: "/etc/../x"`,
		"put: {to: /x, owner: 'a b'}":                   `"a b" is no name of an account`,
		"put: {to: /x, mode: '0999'}":                   "write four octal digits in quotes",
		"put: {to: /x, mode: '10644'}":                  "write four octal digits in quotes",
		"put: {to: /x, mode: 644}":                      "put.mode has to be a text: put it in quotes",
		"remove: {packages: [a, 'b c']}":                `line 6, column 28: steps[0].remove.packages: "b c" is no name`,
		"put: {to: /x, mode: '0648'}":                   "write four octal digits in quotes",
		"restart: {}\n    time-limit: 5m":               "line 7, column 5: steps[0].time-limit: a restart has",
		"script: {text: '#!/x', name: five}":            `there is no key "name" in steps[0].script: use text, arguments`,
		"script: {text: '#!/x', environment: {A-B: x}}": `"A-B" is no name of a variable`,
		"script: {text: '#!/x'}\n    exit-codes: [256]": "steps[0].exit-codes: 256: use 0 to 255",
		"install: {packages: [a]}\n    restart: {}":     `line 7, column 5: step "one" does 2 things: make a step`,
		"install: {packages: [a]}\n    exit-codes: [0]": "only a script has exit codes",
		"install: {packages: [a]}\n  - {name: one, put: {to: /x}}": `line 7, column 6: step "one" is there twice, first in ` +
			"line 5",
	} {
		refused(strings.Replace(plain, "install: {packages: [a]}", does, 1), want)
	}
	// What is wrong with how it does it.
	for also, want := range map[string]string{
		"time-limit: soon":                   `line 7, column 17: steps[0].time-limit: "soon" is no time`,
		"time-limit: 169h":                   `"169h" is no time`,
		"time-limit: 168h0m1s":               `"168h0m1s" is no time`,
		"time-limit: 0s":                     `"0s" is no time`,
		"time-limit: 1500ms":                 `"1500ms" is no time`,
		"on-failure: {do: ignore}":           `"ignore" is not known: use stop, go-on or again`,
		"on-failure: {times: 2}":             "steps[0].on-failure.do is missing",
		"on-failure: {do: stop, times: 2}":   "steps[0].on-failure.times is for do: again",
		"on-failure: {do: go-on, pause: 2s}": "steps[0].on-failure.pause is for do: again",
		"on-failure: {do: again, times: 21}": "steps[0].on-failure.times: 21: use 1 to 20",
		"on-failure: {do: again, times: 0}":  "steps[0].on-failure.times: 0: use 1 to 20",
	} {
		refused(strings.Replace(plain, "[a]}", "[a]}\n    "+also, 1), want)
	}
}

func TestAllProblemsAreToldAtOnceFromTheTopDown(t *testing.T) {
	t.Parallel()
	_, err := Parse([]byte(`image: 5
base: {trak: live}
machine: {site: north-quay}
steps:
  - name: one
    time-limit: soon
  - install: {packages: x}
version: {stage: maybe}
`))
	require.EqualError(t, err, strings.Join([]string{
		`line 1, column 8: image has to be a text: put it in quotes, and is the number 5`,
		`line 2, column 8: there is no key "trak" in base: use track, version or disk`,
		`line 5, column 5: step "one" does nothing: write script, put, install, remove or restart under its name`,
		`line 6, column 17: steps[0].time-limit: "soon" is no time: write it in whole seconds, such as 30s, 90m or ` +
			`1h30m, at most 168h`,
		`line 7, column 5: the step has no name: write name: and what it does, in a few words`,
		`line 7, column 25: steps[1].install.packages has to be a list, and is the text "x"`,
		`line 8, column 18: version.stage has to be true or false, and is the text "maybe"`,
	}, "\n"))
}

func TestASheetHasAsManyStepsAsItMay(t *testing.T) {
	t.Parallel()
	steps := func(n int) []byte {
		var b strings.Builder
		b.WriteString("image: desk\nbase: {track: live}\nmachine: {site: a}\nsteps:\n")
		for i := range n {
			fmt.Fprintf(&b, "  - {name: step %d, restart: {}}\n", i)
		}
		return []byte(b.String())
	}
	_, err := Parse(steps(MostSteps))
	require.NoError(t, err)
	_, err = Parse(steps(MostSteps + 1))
	require.ErrorContains(t, err, "line 4, column 1: there are 201 steps: use 1 to 200")
	_, err = Parse(bytes.ReplaceAll(steps(MostSteps+1), []byte("restart"), []byte("reboot")))
	require.Len(t, err, mostProblems, "what is wrong with all of them is too much to read")
	_, err = Parse([]byte("image: desk\nbase: {track: live}\nmachine: {site: a}\n"))
	require.ErrorContains(t, err, "the steps are missing")
}

func BenchmarkParse(b *testing.B) {
	var text strings.Builder
	text.WriteString("image: desk\nbase: {track: live}\nmachine: {site: a}\nsteps:\n")
	for i := range 100 {
		fmt.Fprintf(&text, "  - name: step %d\n    script:\n      text: |\n        #!/bin/sh\n        echo %d\n", i, i)
	}
	for b.Loop() {
		_, err := Parse([]byte(text.String()))
		require.NoError(b, err)
	}
}
