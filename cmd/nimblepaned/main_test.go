package main

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/role"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// runs runs nimblepaned with the arguments and what is typed, and returns what it prints.
func runs(t *testing.T, typed string, args ...string) (string, error) {
	t.Helper()
	var out bytes.Buffer
	cmd := root()
	cmd.SetArgs(args)
	cmd.SetIn(strings.NewReader(typed))
	cmd.SetOut(&out)
	err := cmd.ExecuteContext(t.Context())
	return out.String(), err
}

func TestOptionsThatDoNotFitAreRefusedBeforeAnythingBegins(t *testing.T) {
	for want, args := range map[string][]string{
		`no database is given: use --database, NIMBLEPANE_DATABASE`: {"serve"},
		`log level "loud": use debug, info, warn or error`:          {"serve", "--log-level", "loud"},
		`heartbeat 500ms: use 1s to 1m`:                             {"serve", "--heartbeat", "500ms"},
		`heartbeat 2m0s: use 1s to 1m`:                              {"serve", "--heartbeat", "2m"},
		`--tls-cert and --tls-key go together`:                      {"serve", "--tls-cert", "cert.pem"},
		`no-such.yaml: no such file`:                                {"serve", "--config", "no-such.yaml"},
		`unknown flag: --databse`:                                   {"serve", "--databse", "x"},
		`unknown command "here" for "nimblepaned serve"`:            {"serve", "here"},
		`failed to connect`: {
			"serve", "--database",
			"postgres://127.0.0.1:1/none",
		},
		`cannot parse`: {"serve", "--database", "not a url"},
		`invalid argument "soon" for "--heartbeat" flag: time: invali`: {"serve", "--heartbeat", "soon"},
	} {
		_, err := runs(t, "", args...)
		require.ErrorContains(t, err, want, args)
	}
}

func TestTheFileWithOptionsIsTakenToTheLetter(t *testing.T) {
	file := filepath.Join(t.TempDir(), "service.yaml")
	for text, want := range map[string]string{
		"log-levle: info\n":             `there is no option "log-levle"; there are: agent-url, bases, database, fetch-from-here, heartbeat, library,`,
		"log-level: info\nlog-level: a": "log-level",
		"config: other.yaml\n":          `there is no option "config"`,
		"log-level: [\n":                "",
		"a: &x 1\nb: *x\n":              "line 1: anchors, aliases and tags",
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := runs(t, "", "serve", "--config", file)
		require.ErrorContains(t, err, file, text)
		require.ErrorContains(t, err, want, text)
	}
}

func TestAFlagWinsOverTheEnvironmentAndThatOverTheFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "service.yaml")
	require.NoError(t, os.WriteFile(file, []byte("log-level: of-the-file\n"), 0o600))
	level := func(want string, args ...string) {
		t.Helper()
		_, err := runs(t, "", append([]string{"serve", "--config", file}, args...)...)
		require.ErrorContains(t, err, `log level "`+want+`"`)
	}
	level("of-the-file")
	t.Setenv("NIMBLEPANE_LOG_LEVEL", "of-the-environment")
	level("of-the-environment")
	level("of-the-flag", "--log-level", "of-the-flag")
}

func TestTheFirstAdministratorIsMadeAtTheDatabase(t *testing.T) {
	url := storetest.URL(t)
	st, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	add := func(typed string, args ...string) (string, error) {
		return runs(t, typed, append([]string{"account", "add", "--database", url}, args...)...)
	}
	const secret = "a password with tides in it"
	out, err := add(secret+"\n", "mira", "--title", "Mira Tidewell")
	require.NoError(t, err)
	require.Equal(t, "Account mira was added with the role administrator.\n", out)
	out, err = add(secret, "guest", "--role", "viewer")
	require.NoError(t, err)
	require.Contains(t, out, "role viewer")
	for want, args := range map[string][]string{
		"mira": {"mira"}, "captain": {"wilma", "--role", "captain"},
		"name: expected string to match pattern ^[a-z][a-z0-9.-]*$": {"Wilma Q"},
		"name: expected length <= 40":                               {strings.Repeat("a", 41)},
		"title: expected length <= 100":                             {"wilma", "--title", strings.Repeat("a", 101)},
		"give the name of one account, and not 0":                   {},
	} {
		_, err = add(secret, args...)
		require.ErrorContains(t, err, want)
		require.NotContains(t, err.Error(), secret)
	}
	_, err = add("short", "wilma")
	require.ErrorContains(t, err, "password")
	_, err = add("", "wilma")
	require.ErrorContains(t, err, "password")

	var accounts []store.Account
	require.NoError(t, st.DB.Order("name").Find(&accounts).Error)
	require.Len(t, accounts, 2, "what was refused has changed nothing")
	require.Equal(t, role.Viewer, accounts[0].Role)
	require.Equal(t, "Mira Tidewell", accounts[1].Title)
	require.NotContains(t, accounts[1].Password, "tides")
	var by string
	require.NoError(t, st.DB.Raw("select actor from trail where subject = 'account mira'").Scan(&by).Error)
	require.Equal(t, "command line", by)
}

func TestTheDescriptionOfTheAPIIsPrinted(t *testing.T) {
	out, err := runs(t, "", "openapi")
	require.NoError(t, err)
	var described struct {
		OpenAPI string                    `json:"openapi"`
		Paths   map[string]map[string]any `json:"paths"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &described))
	require.Equal(t, "3.1.0", described.OpenAPI)
	require.Contains(t, described.Paths, "/api/v1/hosts")
}
