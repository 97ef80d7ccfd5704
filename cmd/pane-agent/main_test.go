package main

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// runs runs pane-agent with the arguments and returns what it prints.
func runs(t *testing.T, args ...string) (string, error) {
	t.Helper()
	var out bytes.Buffer
	cmd := root()
	cmd.SetArgs(args)
	cmd.SetOut(&out)
	err := cmd.ExecuteContext(t.Context())
	return out.String(), err
}

func TestChecksAreRunByHandAsTheAgentRunsThem(t *testing.T) {
	t.Parallel()
	checks := t.TempDir()
	check := func(name, script string) {
		require.NoError(t, os.WriteFile(filepath.Join(checks, name), []byte("#!/bin/sh\n"+script+"\n"), 0o755))
	}
	out, err := runs(t, "check", "--checks", filepath.Join(checks, "none"))
	require.NoError(t, err)
	require.Equal(t, "All checks passed.\n", out)
	check("10-fare-desk", "exit 0")
	_, err = runs(t, "check", "--checks", checks)
	require.NoError(t, err)
	check("20-tide-tables", "echo the tables do not open; exit 3")
	out, err = runs(t, "check", "--checks", checks)
	require.ErrorContains(t, err, "check failed: 20-tide-tables")
	require.ErrorContains(t, err, "the tables do not open")
	require.Empty(t, out)
	check("20-tide-tables", "exec sleep 60")
	_, err = runs(t, "check", "--checks", checks, "--check-limit", "100ms")
	require.ErrorContains(t, err, "check failed: 20-tide-tables")
}

func TestWhatTheAgentDoesNotKnowIsRefusedBeforeAnythingBegins(t *testing.T) {
	t.Parallel()
	for want, args := range map[string][]string{
		`unknown command "heal" for "pane-agent"`:      {"heal"},
		`unknown command "now" for "pane-agent check"`: {"check", "now"},
		`unknown flag: --sentense`:                     {"run", "--sentense", "x"},
		`invalid argument "soon" for "--check-limit"`:  {"check", "--check-limit", "soon"},
		`required flag(s) "stamp" not set`:             {"seal"},
		`accepts 1 arg(s), received 0`:                 {"notify"},
	} {
		_, err := runs(t, args...)
		require.ErrorContains(t, err, want, args)
	}
}
