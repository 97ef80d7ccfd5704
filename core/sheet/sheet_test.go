package sheet

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
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
			"its first start is proved on a machine that is thrown away, its copies are delivered, and the " +
			"machine is discarded.",
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
	require.Equal(t, Put{Text: "x", File: File{To: "/a/b", Owner: "root", Mode: "0644"}}, *s.Steps[1].Put)
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
		"captured as version 2026.11.3, its first start is proved on a machine that is thrown away, its copies",
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
	for _, language := range []string{"C", "C.UTF-8", "fr_FR.UTF-8", "ca_ES.UTF-8@valencia", "eo.UTF-8"} {
		taken("install: {packages: [a]}", "locale: {language: "+language+"}")
	}
	for _, zone := range []string{"UTC", "Europe/Paris", "America/Argentina/Ushuaia", "Etc/GMT+3"} {
		taken("install: {packages: [a]}", "locale: {time-zone: "+zone+", keyboard: de nodeadkeys}")
	}
	require.Equal(t, &Update{AllUpdates, new(true)}, taken("install: {packages: [a]}", "update: {}").Steps[0].Update)
	require.Equal(t, &Update{SecurityUpdates, new(false)}, taken("install: {packages: [a]}",
		"update: {only: security, restart: false}").Steps[0].Update)
	taken("install: {packages: [a]}", "put: {to: /x, text: y, mode: '7777'}")
	for _, times := range []string{"1", "20"} {
		taken("[a]}", "[a]}\n    on-failure: {do: again, times: "+times+"}")
	}
	require.Equal(t, Span(time.Second), taken("[a]}", "[a]}\n    time-limit: 1s").Steps[0].TimeLimit)
	require.Equal(t, Span(168*time.Hour), taken("[a]}", "[a]}\n    time-limit: 168h").Steps[0].TimeLimit)
	s := taken("north-quay}", "north-quay, cores: 256, memory: 128MiB, disk: 60GiB}")
	require.Equal(t, Machine{Site: "north-quay", Cores: 256, Memory: 128 << 20, Disk: 60 << 30}, s.Machine)
	require.Contains(t, s.Explain()[0], "machine with 256 cores, 128MiB of memory and a disk of 60GiB is made at")
	for text, want := range map[string]Size{"1TiB": 1 << 40, "3KiB": 3 << 10, "1000B": 1000, "1536MiB": 3 << 29} {
		s = taken("north-quay}", "north-quay, disk: "+text+"}")
		require.Equal(t, want, s.Machine.Disk)
		require.Equal(t, text, s.Machine.Disk.String())
	}
	s = taken("track: live", "version: 2026.11.1")
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
		{"{track: live}", "{vendor: {feed: Estuary, release: \"13\"}}", `line 2, column 17: base.vendor.feed: "Estuary" ` +
			"cannot be a name"},
		{"{track: live}", "{vendor: {feed: estuary}}", "line 2, column 8: base.vendor: say which product and release"},
		{"{track: live}", "{named: a, vendor: {feed: estuary, release: a}}", "base: 2 things to begin with are named"},
		{"{track: live}", "{track: live, disk: x}", "line 2, column 1: base: 2 things to begin with are named"},
		{"{track: live}", "{}", "line 2, column 1: base: 0 things to begin with"},
		{"track: live", "track: 'Live ?'", "line 2, column 8: base.track: "},
		{"track: live", "disk: ../x", `line 2, column 8: base.disk: "../x" is a path`},
		{"machine: {site: north-quay}\n", "", "the site is missing: write machine: {site: NAME}"},
		{"site: north-quay", "site: '-'", "line 3, column 11: machine.site: "},
		{"north-quay}", "north-quay, cores: 0}", "line 3, column 29: machine.cores: 0: use 1 to 256"},
		{"north-quay}", "north-quay, cores: 257}", "machine.cores: 257: use 1 to 256"},
		{"north-quay}", "north-quay, memory: much}", `machine.memory: "much" is no size: write a number with a unit`},
		{"north-quay}", "north-quay, memory: 127MiB}", "machine.memory: 127MiB is too little: use at least 128MiB"},
		{"north-quay}", "north-quay, disk: 0GiB}", `machine.disk: "0GiB" is no size`},
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
	digest := strings.Repeat("0a", 32)
	for does, want := range map[string]string{
		"time-limit: 5m":                                `step "one" does nothing: write script, put, fetch, install,`,
		"install: {packages: []}":                       "line 6, column 15: steps[0].install.packages: name",
		"install: {packages: [a, 'b c']}":               `line 6, column 29: steps[0].install.packages: "b c" is no name`,
		"install: {packages: [--purge]}":                `"--purge" is no name of a package`,
		"script: {text: 'echo'}":                        "has to begin with the interpreter, such as #!/bin/sh",
		"put: {to: etc/x, text: x}":                     `steps[0].put.to: "etc/x": write a path of the machine from its root`,
		"put: {to: /etc/../x, text: x}":                 `steps[0].put.to: "/etc/../x"`,
		"put: {text: a, to: /x, owner: 'a b'}":          `"a b" is no name of an account`,
		"put: {text: a, to: /x, mode: '0999'}":          "write four octal digits in quotes",
		"put: {text: a, to: /x, mode: '10644'}":         "write four octal digits in quotes",
		"put: {text: a, to: /x, mode: 644}":             "put.mode has to be a text: put it in quotes",
		"remove: {packages: [a, 'b c']}":                `line 6, column 28: steps[0].remove.packages: "b c" is no name`,
		"put: {text: a, to: /x, mode: '0648'}":          "write four octal digits in quotes",
		"put: {to: /x}":                                 "steps[0].put: write one of text, file and folder under it",
		"put: {text: a, file: b, to: /x}":               "write one of text, file and folder",
		"put: {file: ../b, to: /x}":                     `steps[0].put.file: "../b": write a path from the sheet's folder`,
		"put: {folder: /b, to: /x}":                     `steps[0].put.folder: "/b": write a path from the sheet's folder`,
		"put: {folder: ., to: /x}":                      `steps[0].put.folder: ".": write a path from the sheet's folder`,
		"put: {folder: b, to: /x, mode: '0644'}":        "mode is for a file: what is in a folder keeps its modes",
		"script: {text: '#!/x', file: x.sh}":            "steps[0].script: text and file are both there: choose one",
		"script: {file: a/../x.sh}":                     `steps[0].script.file: "a/../x.sh": write a path`,
		"settings: {paths: [a]}":                        "steps[0].settings.paths is for the settings of a person",
		"settings: {person: A B}":                       `steps[0].settings.person: "A B" is no name of an account`,
		"settings: {environment: {A: b}, paths: [a]}":   "steps[0].settings.paths is for the settings of a person",
		"settings: {person: ida, paths: [../a]}":        `steps[0].settings.paths: "../a": write a path in a home`,
		"restart: {}\n    time-limit: 5m":               "line 7, column 5: steps[0].time-limit: a restart has",
		"script: {text: '#!/x', name: five}":            `there is no key "name" in steps[0].script: use text, file, arguments`,
		"script: {text: '#!/x', environment: {A-B: x}}": `"A-B" is no name of a variable`,
		"script: {text: '#!/x'}\n    exit-codes: [256]": "steps[0].exit-codes: 256: use 0 to 255",
		"install: {packages: [a]}\n    restart: {}":     `line 7, column 5: step "one" does 2 things: make a step`,
		"install: {packages: [a]}\n    exit-codes: [0]": "only a script has exit codes",
		"install: {packages: [a]}\n  - {name: one, put: {text: a, to: /x}}": `line 7, column 6: step "one" is there twice, first in ` +
			"line 5",
	} {
		refused(strings.Replace(plain, "install: {packages: [a]}", does, 1), want)
	}
	for _, c := range [][2]string{
		{"script: {text: '#!/x', as: A B}", `steps[0].script.as: "A B" is no name of an account`},
		{"fetch: {from: /x, to: /x, sha256: " + digest + "}", `steps[0].fetch.from: "/x" is no address`},
		{"fetch: {from: 'ftp://x/y', to: /x, sha256: " + digest + "}", `fetch.from: "ftp://x/y" is no address`},
		{"fetch: {from: 'http:///y', to: /x, sha256: " + digest + "}", `fetch.from: "http:///y" is no address`},
		{"fetch: {from: 'https://a:b@x/y', to: /x, sha256: " + digest + "}", "an address with a password would"},
		{"fetch: {from: 'https://x/y', to: /x, sha256: " + digest[1:] + "}", "write what sha256sum prints of the file"},
		{"fetch: {from: 'https://x/y', to: x, sha256: " + digest + "}", `steps[0].fetch.to: "x": write a path`},
		{"fetch: {from: 'https://x/y', to: /x, sha256: " + digest + ", mode: x}", "steps[0].fetch.mode:"},
		{"update: {only: some}", `"some" is not known: use all or security`},
		{"locale: {}", "steps[0].locale: write time-zone, language or keyboard"},
		{"locale: {time-zone: ../etc}", `steps[0].locale.time-zone: "../etc" is none`},
		{"locale: {language: french}", `"french" is none: write it as fr_FR.UTF-8`},
		{"locale: {language: fr_FR}", `"fr_FR" is none`},
		{"locale: {keyboard: 'a;b'}", `"a;b" is none: write it as fr, or de nodeadkeys`},
		{"settings: {}", "steps[0].settings: write home, environment or person"},
		{"settings: {home: {/etc/x: y}}", `steps[0].settings.home: "/etc/x": write a path in a`},
		{"settings: {home: {../x: y}}", `"../x": write a path in a home`},
		{"settings: {home: {a/../../x: y}}", `"a/../../x": write a path in a home`},
		{"settings: {home: {..: y}}", `"..": write a path in a home`},
		{"settings: {environment: {a b: c}}", `"a b" is no name of a variable`},
		{"settings: {environment: {A: 'x\"y'}}", "settings.environment.A: use one line without quotes"},
		{"restart: {}\n    when: site ==", "line 7, column 5: steps[0].when is no condition: Syntax"},
		{"restart: {}\n    when: harbour == 'x'", "undeclared reference to 'harbour' (in its line 1, column 1)"},
		{"restart: {}\n    when: site", "it comes to a value of type string, and has to come to"},
		{"restart: {}\n    when: values.queue == 'x'", `steps[0].when: there is no parameter "queue"`},
		{"restart: {}\n    when: values['the-queue'] == 'x'", `there is no parameter "the-queue"`},
		{"restart: {}\n    when: site == '" + strings.Repeat("x", 1000) + "'", "it has 1010 characters: use at most"},
	} {
		refused(strings.Replace(plain, "install: {packages: [a]}", c[0], 1), c[1])
	}
	for _, c := range [][3]string{
		{"secrets: {tide: {}}", "", "secrets.tide: write environment: or file: under it"},
		{"secrets: {tide: {file: a, environment: A}}", "", "secrets.tide: write environment: or file: under it"},
		{"secrets: {Tide: {file: a}}", "", `secret "Tide": use small letters`},
		{"secrets: {tide: {environment: a-b}}", "", `secrets.tide.environment: "a-b" is no name of a variable`},
		{"secrets: {tide: {file: ../a}}", "", `secrets.tide.file: "../a" is no name of a file`},
		{"secrets: {tide: {file: .a}}", "", `secrets.tide.file: ".a" is no name of a file`},
		{"", "secrets: {A: tide}", `steps[0].script.secrets: there is no secret "tide": write it down`},
		{"secrets: {tide: {file: a}}", "secrets: {a b: tide}", `"a b" is no name of a variable`},
		{"secrets: {tide: {file: a}}", "secrets: {A: tide}, environment: {A: b}", "A is in environment, too"},
	} {
		does := "script: {text: '#!/x', " + c[1] + "}"
		refused(c[0]+"\n"+strings.Replace(plain, "install: {packages: [a]}", does, 1), c[2])
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
		`line 2, column 8: there is no key "trak" in base: use track, version, disk, named or vendor`,
		`line 5, column 5: step "one" does nothing: write script, put, fetch, install, remove, ` +
			`update, locale, settings, restart, checkpoint or ready under its name`,
		`line 6, column 17: steps[0].time-limit: "soon" is no time: write it in whole seconds, such as 30s, 90m or ` +
			`1h30m, at most 168h`,
		`line 7, column 5: the step has no name: write name: and what it does, in a few words`,
		`line 7, column 25: steps[1].install.packages has to be a list, and is the text "x"`,
		`line 8, column 18: version.stage has to be true or false, and is the text "maybe"`,
	}, "\n"))
}

func TestAStepIsDoneWhenItsConditionIsMet(t *testing.T) {
	t.Parallel()
	skips := func(condition string, values map[string]string) bool {
		t.Helper()
		s, err := Parse([]byte("image: desk\nbase: {track: live}\nmachine: {site: a}\n" +
			"parameters: {queue: {default: office}, seats: {type: number, default: 4},\n" +
			"  the-map: {type: switch, default: false}}\n" +
			"steps:\n  - name: one\n    restart: {}\n    when: " + condition + "\n"))
		require.NoError(t, err)
		s, err = s.With(values)
		require.NoError(t, err)
		return s.Steps[0].Skipped
	}
	for condition, skipped := range map[string]bool{
		`image == "desk" && site == "a"`: false, `site == "b"`: true, `base.track == "live"`: false,
		`base.disk != ""`: true, `values.queue == "office"`: false, `values.seats > 3`: false, `values.seats > 4`: true,
		`values["the-map"]`: true, `!values["the-map"]`: false, `values.queue in ["office", "x"]`: false,
		`values.queue.startsWith("x")`: true,
	} {
		require.Equal(t, skipped, skips(strconv.Quote(condition), nil), condition)
	}
	require.False(t, skips(`values["the-map"] && values.seats == 9`,
		map[string]string{"the-map": "true", "seats": "9"}))

	s, err := Parse([]byte(strings.Replace(plain, "[a]}", "[a]}\n    when: site == 'b'", 1)))
	require.NoError(t, err)
	s, err = s.With(nil)
	require.NoError(t, err)
	require.Equal(t, "1. one: left out, because its condition is not met: site == 'b'.", s.Explain()[1])
	s, err = Parse([]byte(strings.Replace(plain, "install: {packages: [a]}",
		"install: {packages: [a]}\n    off: true", 1)))
	require.NoError(t, err)
	s, err = s.With(nil)
	require.NoError(t, err)
	require.Equal(t, "1. one: left out, because it is switched off.", s.Explain()[1])
	require.Zero(t, s.OnMachine())
}

func TestAConditionThatCannotBeWorkedOutIsTold(t *testing.T) {
	t.Parallel()
	wrong := func(condition, want string) {
		t.Helper()
		s, err := Parse([]byte("parameters: {queue: {default: office}}\n" +
			strings.Replace(plain, "[a]}", "[a]}\n    when: "+condition, 1)))
		require.NoError(t, err)
		_, err = s.With(nil)
		require.ErrorContains(t, err, want)
	}
	wrong("values.queue",
		`step "one", its condition values.queue: it comes to office, and has to come to true or false`)
	wrong("values.queue > 5", "it cannot be worked out: no such overload")
	wrong(`base["port"] == ""`, "it cannot be worked out: no such key: port")
	many := "[0, 1, 2, 3, 4, 5, 6, 7, 8, 9]"
	for _, v := range []string{"a", "b", "c", "d", "e", "f"} {
		many = "[0, 1, 2, 3, 4, 5, 6, 7, 8, 9].map(" + v + ", " + many + ")"
	}
	wrong(`size(`+many+`) > 0`, "cost limit exceeded")
}

func TestWhatIsFilledInIsCheckedAsWhatIsWritten(t *testing.T) {
	t.Parallel()
	s, err := Parse([]byte(`image: desk
base: {track: live}
machine: {site: a}
parameters: {zone: {default: Europe/Paris}, from: {default: "https://x/y"}, digest: {default: "` +
		strings.Repeat("0a", 32) + `"}, quay: {default: north}}
steps:
  - {name: zone, locale: {time-zone: "{{zone}}"}}
  - {name: tides, fetch: {from: "{{from}}", sha256: "{{digest}}", to: /x}}
  - {name: new, settings: {home: {a: "{{quay}}"}, environment: {QUAY: "{{quay}}"}}}
`))
	require.NoError(t, err)
	filled, err := s.With(map[string]string{"quay": "south", "zone": "UTC"})
	require.NoError(t, err)
	require.Equal(t, &Locale{TimeZone: "UTC"}, filled.Steps[0].Locale)
	require.Equal(t, "https://x/y", filled.Steps[1].Fetch.From)
	require.Equal(t, &Settings{
		Home: map[string]string{"a": "south"}, Environment: map[string]string{"QUAY": "south"},
	},
		filled.Steps[2].Settings)
	require.Equal(t, "{{zone}}", s.Steps[0].Locale.TimeZone, "the sheet itself stays")
	_, err = s.With(map[string]string{"quay": "a\nb", "zone": "no zone", "from": "x", "digest": "y"})
	require.EqualError(t, err, strings.Join([]string{
		`step "zone".time-zone: "no zone" is none: write it as Europe/Paris`,
		`step "tides".from: "x" is no address: write one such as https://files.ferries.example/fares.db`,
		`step "tides".sha256: "y": write what sha256sum prints of the file, 64 hexadecimal digits`,
		`step "new".environment.QUAY: use one line without quotes and backslashes`,
	}, "\n"))
	require.Equal(t, []string{
		"1. zone: the time zone becomes UTC, within 30m. If it fails, the build fails.",
		"2. tides: https://x/y, with the digest 0a0a0a0a0a0a..., is fetched to /x, for root, with mode 0644, " +
			"within 30m. If it fails, the build fails.",
		"3. new: new people find a in their homes and QUAY set in their sessions, within 30m. If it fails, the build " +
			"fails.",
	}, filled.Explain()[2:5])
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

func TestNotesNameCommitsAsFarAsTheyFit(t *testing.T) {
	t.Parallel()
	v := Version{Notes: "of the month\n"}
	require.Equal(t, "of the month", v.NotesWith([]string{"tides"}))
	v.Commits = true
	require.Equal(t, "of the month", v.NotesWith(nil))
	require.Equal(t, "of the month\n- tides\n- fares", v.NotesWith([]string{"tides", " fares "}))
	v.Notes = ""
	many := v.NotesWith(slices.Repeat([]string{strings.Repeat("x", 98)}, 100))
	require.LessOrEqual(t, len(many), 4000)
	require.True(t, strings.HasPrefix(many, "- xxx"))
	require.True(t, strings.HasSuffix(many, "x\nand 61 more"), many[len(many)-30:])
}

func TestCopiesAreDeliveredWhereTheSheetSays(t *testing.T) {
	t.Parallel()
	says := func(delivery string) string {
		s, err := Parse([]byte(plain + "delivery: " + delivery + "\n"))
		if err != nil {
			return err.Error()
		}
		return strings.Join(s.Explain(), "\n")
	}
	require.Contains(t, says("{}"), ", its copies are delivered, and the machine")
	require.Contains(t, says("{sites: [a, b]}"), ", its copies are delivered to a and b, and")
	require.Contains(t, says("{copies: 2}"), ", 2 copies of it are delivered to each site, and")
	require.Contains(t, says("{copies: 1, sites: [a]}"), ", 1 copy of it is delivered to a, and")
	for delivery, wrong := range map[string]string{
		"{sites: []}": "name at least one site, or leave it out", "{sites: [a, A B]}": "column 23: delivery.sites: ",
		"{sites: [a, a]}": "delivery.sites: a is there twice", "{copies: 0}": "delivery.copies: 0: use 1 to 100",
		"{copies: 101}": "delivery.copies: 101: use 1 to 100",
	} {
		require.Contains(t, says(delivery), wrong)
	}
}
