package cli_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/cli"
	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func TestHostsAndPeopleAtTheCommandLine(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: servicetest.Scenario +
		"crowds:\n  - {hosts: bo-, people: 3, shifts: [\"00:00-23:59\"]}\n"})
	number := s.Live("back-office")
	s.Until("people to sign in", func() bool {
		list, err := s.As(role.Viewer).Sessions(t.Context(), client.SessionQuery{Pool: "back-office"})
		require.NoError(t, err)
		return len(list) == 3
	})
	run := func(code int, want string, args ...string) string {
		t.Helper()
		out, got := pane(t, s, role.Operator, args...)
		require.Equal(t, code, got, out)
		require.Contains(t, out, want)
		return out
	}
	list := run(0, "active", "session", "list", "--pool", "back-office", "-o", "csv")
	fields := strings.Split(strings.Split(list, "\n")[1], ",")
	host, key, person := fields[0], fields[1], fields[2]
	run(0, person, "host", "show", host)
	run(0, "They are told.", "session", "tell", host, key, "The ferry is late.", "--yes")
	run(0, "3 people are told.", "pool", "tell", "back-office", "The ferry is later.", "--yes")
	run(cli.ExitNotFound, "not found", "session", "sign-off", host, "s0", "--yes")
	run(0, "is being ended", "session", "sign-off", host, key, "--yes", "--reason", "asked for it")
	// Nobody uses the pilot pool, so nobody keeps its hosts from becoming empty.
	run(0, "Host tp-002 is draining", "host", "drain", "tp-002", "--reason", "memory")
	run(0, "Host tp-002 is already ", "host", "drain", "tp-002")
	run(cli.ExitNotFound, `host "tp-999"`, "host", "drain", "tp-001", "tp-999")
	run(0, "Host tp-001 is already serving", "host", "return", "tp-001")
	run(0, "drained by operator", "host", "list", "--pool", "ticket-pilot")
	run(0, "tp-002", "pool", "show", "ticket-pilot")
	run(0, "Host tp-002 is serving", "host", "return", "tp-002")
	rollover := strings.Fields(run(0, "rebuilds tp-002", "host", "rebuild", "tp-002", "--yes"))[1]
	run(0, "finished", "rollover", "watch", rollover)
	run(0, "tp-002", "rollover", "show", rollover)
	run(0, "is to run "+number, "pool", "pin", "back-office", number, "--reason", "year's end")
	run(cli.ExitUsage, `give --reason`, "pool", "pin", "back-office", number)
	run(0, "live of counter-desk", "pool", "unpin", "back-office")
	run(0, "already unpinned", "pool", "unpin", "back-office")
	run(0, "bm-counter", "site", "show", "north-quay")
	run(0, "practice", "site", "list")
	run(0, "graphics", "image", "list")
	run(0, "Next number", "image", "show", "counter-desk")
	run(0, "advance", "image", "history", "counter-desk")
	run(0, "was changed", "version", "edit", "counter-desk", number, "--notes", "spring", "--tag", "a,b",
		"--end-of-life", "2031-01-31")
	run(0, "2031-01-31", "version", "list", "counter-desk")
	run(0, "was changed", "version", "edit", "counter-desk", number, "--end-of-life", "none")
	require.NotContains(t, run(0, "spring", "version", "show", "counter-desk", number), "2031-01-31")
	run(cli.ExitRefused, "cannot be retired", "version", "retire", "counter-desk", number, "--yes")
	run(0, "host-prefix: bo", "estate", "show")
}

func TestAccountsAndTokensAtTheCommandLine(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	as := func(token, input string, args ...string) (string, int) {
		return typed(t, input, append([]string{"--url", s.URL, "--token", token}, args...)...)
	}
	admin := s.Token(role.Administrator)
	out, code := as(admin, "long enough for us\n", "account", "add", "ida", "--role", "operator", "--title",
		"Ida Strand")
	require.Zero(t, code, out)
	out, code = as(admin, "long enough for us\n", "account", "add", "Ida!")
	require.Equal(t, cli.ExitUsage, code, out)
	out, _ = as(admin, "", "account", "list")
	require.Contains(t, out, "Ida Strand")
	in, err := client.New(s.URL, "").SignIn(t.Context(), "ida", "long enough for us", "x")
	require.NoError(t, err)

	out, code = as(in.Token, "", "token", "make", "script", "--days", "3")
	require.Zero(t, code, out)
	secret := strings.TrimSpace(out[strings.LastIndex(strings.TrimSpace(out), "\n"):])
	out, code = as(secret, "", "whoami")
	require.Zero(t, code, out)
	require.Contains(t, out, "ida (Ida Strand), operator")
	require.Contains(t, out, "Practice clock")
	out, _ = as(in.Token, "", "token", "list", "-o", "csv")
	number := strings.Split(strings.Split(out, "\n")[1], ",")[0]
	out, code = as(in.Token, "", "token", "revoke", number)
	require.Zero(t, code, out)
	out, code = as(secret, "", "whoami")
	require.Equal(t, cli.ExitNotYou, code, out)
	_, code = as(in.Token, "", "account", "list")
	require.Equal(t, cli.ExitNotYou, code, "operators do not manage accounts")

	out, code = as(admin, "", "account", "edit", "ida", "--role", "viewer", "--disable")
	require.Zero(t, code, out)
	_, code = as(in.Token, "", "whoami")
	require.Equal(t, cli.ExitNotYou, code)
	out, code = as(admin, "tide gull and lamp\n", "account", "edit", "ida", "--enable", "--password")
	require.Zero(t, code, out)
	_, err = client.New(s.URL, "").SignIn(t.Context(), "ida", "tide gull and lamp", "x")
	require.NoError(t, err)
}

func TestPasswordsAndNarrowTokensAtTheCommandLine(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	as := func(token, input string, args ...string) (string, int) {
		return typed(t, input, append([]string{"--url", s.URL, "--token", token}, args...)...)
	}
	mine := s.Token(role.Operator)
	out, code := as(mine, "", "token", "make", "pipeline", "--days", "90")
	require.Equal(t, cli.ExitNotYou, code, out)
	require.Contains(t, out, "sign in with your password to make one that lasts longer")
	out, code = as(mine, servicetest.Password+"\n", "token", "make", "pipeline", "--days", "90", "--pool",
		"ticket-pilot", "--account", string(role.Operator))
	require.Zero(t, code, out)
	narrow := strings.Fields(out)[len(strings.Fields(out))-1]
	_, code = as(narrow, "", "pool", "tell", "ticket-pilot", "hello")
	require.Zero(t, code)
	out, code = as(narrow, "", "pool", "tell", "back-office", "hello", "--yes")
	require.Equal(t, cli.ExitNotYou, code)
	require.Contains(t, out, "the token is for pools ticket-pilot only")
	out, _ = as(mine, "", "token", "list")
	require.Contains(t, out, "ticket-pilot")

	out, code = as(mine, servicetest.Password+"\ntide gull and lamp\n", "password")
	require.Zero(t, code, out)
	_, code = as(narrow, "", "whoami")
	require.Equal(t, cli.ExitNotYou, code, "whoever knew the old password is out")
	_, code = as(mine, "", "whoami")
	require.Zero(t, code)
}

func TestAnActIsShownBeforeItIsDone(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	one := s.Live("back-office")
	two := s.Captured("counter-desk", "bm-counter")
	as := func(answer string, args ...string) (string, int) {
		return typed(t, answer, append([]string{"--url", s.URL, "--token", s.Token(role.Administrator)}, args...)...)
	}
	out, code := as("y\n", "activate", "counter-desk", two)
	require.Equal(t, cli.ExitRefused, code)
	require.Contains(t, out, "has no clearance")
	require.Contains(t, out, "pane trial show counter-desk "+two)
	_, code = as("y\n", "activate", "counter-desk", "2031.01.1")
	require.Equal(t, cli.ExitNotFound, code, "it is not there, which is said before anything is asked")
	out, code = as("n\n", "activate", "counter-desk", two, "--overrule", "--reason", "r")
	require.Equal(t, cli.ExitRefused, code, out)
	for _, want := range []string{
		"Track live of counter-desk goes from " + one + " to " + two,
		"they drift until they are rolled over", one + " is kept as the fallback", "Clearance is overruled: testers:",
		"nothing was done",
	} {
		require.Contains(t, out, want)
	}
	out, code = as("y\n", "activate", "counter-desk", two, "--overrule", "--reason", "r")
	require.Zero(t, code, out)
	out, code = as("y\n", "rollback", "counter-desk", two, "--reason", "slow")
	require.Zero(t, code, out)
	require.Contains(t, out, "live of counter-desk goes from "+two+" back to "+one)
	out, code = as("y\n", "retire", "counter-desk", two)
	require.NotZero(t, code, out)
	out, code = as("y\n", "version", "retire", "counter-desk", two)
	require.Zero(t, code, out)
	require.Contains(t, out, "Retiring counter-desk "+two+" deletes 4 copies")
}

func TestArgumentsAreMissedByName(t *testing.T) {
	t.Parallel()
	for want, args := range map[string]string{
		"NUMBER is missing; write it as: pane activate IMAGE NUMBER":          "activate counter-desk",
		"IMAGE and NUMBER are missing; write it as: pane stage IMAGE NUMBER":  "stage",
		`"x" is one too many; write it as: pane pool list`:                    "pool list x",
		"POOL and NUMBER are missing; write it as: pane pool pin POOL NUMBER": "pool pin --reason r",
		"HOST is missing; write it as: pane host drain HOST...":               "host drain",
	} {
		out, code := typed(t, "", strings.Fields(args)...)
		require.Equal(t, cli.ExitUsage, code, out)
		require.Contains(t, out, want)
	}
}

func TestAnEmptyEstateSaysHowToBegin(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	for want, args := range map[string][]string{
		"There is no site yet":     {"site", "list"},
		"There is no image yet":    {"image", "list"},
		"There is no pool yet":     {"pool", "list"},
		"No host is like that":     {"host", "list"},
		"Nobody is signed in":      {"session", "list"},
		"There is no rollover":     {"rollover", "list"},
		"Nothing needs you now":    {"today"},
		"No host drifts":           {"drift"},
		"No entry is like that":    {"trail", "list", "--verb", "nothing"},
		"there is none yet":        {"image", "show", "x"},
		"is not a time":            {"trail", "list", "--from", "Monday"},
		"write batch=N or done=N":  {"rollover", "watch", "1", "--until", "noon"},
		"is not the number of a":   {"token", "revoke", "first"},
		"write it as 2026-11-23T2": {"rollover", "start", "--pool", "x", "--earliest-start", "noon"},
		"give --notes, --tag or":   {"version", "edit", "x", "1"},
		"give --title, --role,":    {"account", "edit", "x"},
		"--enable: give one of":    {"account", "edit", "x", "--disable", "--enable"},
		"use 1 to 366 days":        {"token", "make", "x", "--days", "0"},
		"use 1 or more days":       {"image", "retention", "x", "--keep", "1", "--days", "0"},
	} {
		out, _ := pane(t, s, role.Viewer, args...)
		require.Contains(t, out, want, "%v", args)
	}
}

func TestWhatOthersWroteDoesNotSteerTheTerminal(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	const evil = "\x1b]8;;http://evil\x07click\x1b]8;;\x07\rfaulty\u202e\x1b]0;owned\x07"
	require.NoError(t, s.Store.DB.Exec("alter table hosts disable trigger host_changes_state").Error)
	require.NoError(t, s.Store.DB.Exec("update hosts set state = 'faulty', why = ? where name = 'tc-001'", evil).Error)
	require.NoError(t, s.Store.DB.Exec(`update pulses set checks_why = ?, sessions = jsonb_build_array(jsonb_build_object('key', 's1', 'person', ?::text, 'state', 'idle', 'since', '2026-11-23T05:00:00Z'))
		where host_id = (select id from hosts where name = 'tc-001')`, evil, evil).Error)
	_, err := s.As(role.Operator).TellPool(t.Context(), "ticket-counters", evil)
	require.NoError(t, err)
	for _, command := range []string{
		"host show tc-001", "host list --state faulty", "host list --state faulty -o csv",
		"host list --state faulty -o yaml", "session list", "trail list", "today", "pool show ticket-counters",
	} {
		out, code := pane(t, s, role.Viewer, strings.Fields(command)...)
		require.Zero(t, code, out)
		require.Contains(t, out, "click", command)
		for _, bad := range []string{"\x1b]", "\x07", "\r", "\u202e", "owned"} {
			require.NotContains(t, out, bad, command)
		}
	}
	out, _ := pane(t, s, role.Viewer, "host", "list", "--state", "faulty", "-o", "json")
	require.Contains(t, out, `\u001b]8;;http://evil`, "JSON says what was said")
	out, _ = pane(t, s, role.Operator, "session", "tell", "tc-001", "no\x1b]0;owned\x07ne", "x")
	require.NotContains(t, cli.Plain(out), "\x1b")
}
