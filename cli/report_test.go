package cli_test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/cli"
	"nimblepane/client"
)

func TestAMistypedCommandIsRefusedAtEveryLevel(t *testing.T) {
	t.Parallel()
	for want, args := range map[string][]string{
		`unknown command "versoin" for "pane"; did you mean version?`:               {"versoin", "list"},
		`unknown command "lst" for "pane version"; did you mean list`:               {"version", "lst", "counter-desk"},
		`unknown command "fly" for "pane rollover"; see pane rollover --help`:       {"rollover", "fly"},
		`unknown command "retetion" for "pane image"; did you mean retention?`:      {"image", "retetion", "counter-desk"},
		`unknown command "zzz" for "pane build-machine"; see pane build-machine --`: {"build-machine", "zzz"},
	} {
		out, code := typed(t, "", args...)
		require.Equal(t, cli.ExitUsage, code, out)
		require.Contains(t, out, want)
	}
	out, code := typed(t, "", "version")
	require.Zero(t, code)
	require.Contains(t, out, "Available Commands")
}

func TestErrorsHaveTheirExitCodesAndAreJSONForPrograms(t *testing.T) {
	t.Parallel()
	missing := filepath.Join(t.TempDir(), "none.yaml")
	out, code := typed(t, "", "--url", "http://127.0.0.1:9", "--token", "x", "sheet", "check", missing)
	require.Equal(t, cli.ExitUsage, code, out)
	require.Equal(t, cli.ExitInterrupted, cli.ExitCode(cli.ErrInterrupted))
	require.Equal(t, 130, cli.ExitInterrupted)

	report := func(err error, args ...string) (map[string]any, int) {
		t.Helper()
		cmd := cli.New("test")
		require.NoError(t, cmd.ParseFlags(args))
		var out bytes.Buffer
		code := cli.Report(cmd, err, &out)
		var problem map[string]any
		require.NoError(t, json.Unmarshal(out.Bytes(), &problem), out.String())
		return problem, code
	}
	problem, code := report(&client.Error{
		Type: "https://nimblepane.example/stale", Status: http.StatusConflict, Title: "Conflict",
		Detail: "the pool drifts",
		Errors: []client.ErrorDetail{{Message: "one"}},
	}, "-o", "json")
	require.Equal(t, cli.ExitRefused, code)
	require.Equal(t, map[string]any{
		"type": "https://nimblepane.example/stale", "title": "Conflict", "status": 409.0, "detail": "the pool drifts",
		"errors": []any{map[string]any{"message": "one", "location": ""}}, "exit_code": 3.0,
	}, problem)
	problem, code = report(cli.ErrInterrupted, "-o", "json")
	require.Equal(t, cli.ExitInterrupted, code)
	require.Equal(t, "about:blank", problem["type"])
}
