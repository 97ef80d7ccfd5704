package main

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/platform/practice/world"
)

const scenario = "seed: 1\nrate: 1\nsites: [{name: north-quay, knobs: {clone: 90s}}]\n"

// playing is a practice process, and what its own commands do with it.
func playing(t *testing.T) (w *world.World, runs func(typed string, args ...string) (string, error)) {
	t.Helper()
	parsed, err := world.ParseScenario([]byte(scenario))
	require.NoError(t, err)
	w, err = world.New(parsed, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	server := httptest.NewServer(w.Handler())
	t.Cleanup(server.Close)
	return w, func(typed string, args ...string) (string, error) {
		return command(t, typed, append(args, "--address", strings.TrimPrefix(server.URL, "http://"))...)
	}
}

// command runs the program with the arguments and what is typed, and returns what it prints.
func command(t *testing.T, typed string, args ...string) (string, error) {
	t.Helper()
	var out bytes.Buffer
	cmd := root()
	cmd.SetArgs(args)
	cmd.SetIn(strings.NewReader(typed))
	cmd.SetOut(&out)
	err := cmd.ExecuteContext(t.Context())
	return out.String(), err
}

func TestTimePassesAsFastAsItIsTold(t *testing.T) {
	t.Parallel()
	w, runs := playing(t)
	_, err := runs("", "rate", "60")
	require.NoError(t, err)
	require.InDelta(t, 60, w.Clock().Rate, 0)
	for _, bad := range []string{"fast", "0", "NaN", "1e300"} {
		_, err := runs("", "rate", bad)
		require.Error(t, err, bad)
	}
	require.InDelta(t, 60, w.Clock().Rate, 0)
}

func TestKnobsAreShownTurnedAndMended(t *testing.T) {
	t.Parallel()
	_, runs := playing(t)
	knobs := func() (k world.Knobs) {
		out, err := runs("", "knobs", "show", "north-quay")
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal([]byte(out), &k))
		return k
	}
	k := knobs()
	require.Equal(t, 90*time.Second, k.Clone)
	k.Clone = time.Minute
	text, err := json.Marshal(k)
	require.NoError(t, err)
	_, err = runs(string(text), "knobs", "set", "north-quay")
	require.NoError(t, err)
	require.Equal(t, time.Minute, knobs().Clone)

	_, err = runs("", "knobs", "fault", "north-quay", "check-fails", "bo-*", "--chance", "0.5")
	require.NoError(t, err)
	_, err = runs("", "knobs", "fault", "north-quay", "check-fails", "tc-001")
	require.NoError(t, err)
	require.Equal(t, []world.Fault{
		{Kind: "check-fails", Hosts: "tc-001", Chance: 1}, {Kind: "check-fails", Hosts: "bo-*", Chance: 0.5},
	}, knobs().Faults, "the last is looked at first")
	_, err = runs("", "knobs", "mend", "north-quay")
	require.NoError(t, err)
	require.Empty(t, knobs().Faults)
	require.Equal(t, time.Minute, knobs().Clone)

	for want, args := range map[string][]string{
		`site "east-quay": no such site is played here; there are north-quay`: {"knobs", "mend", "east-quay"},
		"sulks":                        {"knobs", "fault", "north-quay", "sulks", "bo-*"},
		"standard input: ":             {"knobs", "set", "north-quay"},
		"accepts 3 arg(s), received 1": {"knobs", "fault", "north-quay"},
	} {
		_, err := runs("{", args...)
		require.ErrorContains(t, err, want, args)
	}
}

func TestAScenarioThatCannotBePlayedIsRefused(t *testing.T) {
	t.Parallel()
	_, err := command(t, "", "serve")
	require.ErrorContains(t, err, `required flag(s) "scenario" not set`)
	_, err = command(t, "", "serve", "--scenario", filepath.Join(t.TempDir(), "none.yaml"))
	require.ErrorIs(t, err, os.ErrNotExist)
	file := filepath.Join(t.TempDir(), "scenario.yaml")
	require.NoError(t, os.WriteFile(file, []byte("sites: []\nsights: []\n"), 0o600))
	_, err = command(t, "", "serve", "--scenario", file)
	require.ErrorContains(t, err, "sights")
	require.NoError(t, os.WriteFile(file, []byte(scenario), 0o600))
	_, err = command(t, "", "serve", "--scenario", file, "--address", "127.0.0.1:none")
	require.ErrorContains(t, err, "unknown port")
	_, err = command(t, "", "knobs", "show", "north-quay", "--address", "127.0.0.1:1")
	require.ErrorContains(t, err, "connection refused")
}
