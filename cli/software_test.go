package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/cli"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func TestAListIsBroughtAndKeptAsAFile(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	k, err := s.World.Knobs("north-quay")
	require.NoError(t, err)
	k.Unlisted = "pane-agent 0.9 does not list it"
	require.NoError(t, s.World.SetKnobs("north-quay", k))
	number := s.Captured("counter-desk", "bm-counter")
	run := func(args ...string) (string, int) {
		return typed(t, "", append([]string{"--url", s.URL, "--token", s.Token(role.Operator), "version"}, args...)...)
	}
	out, code := run("software", "counter-desk", number)
	require.Equal(t, cli.ExitRefused, code, out)
	require.Contains(t, out, "has no software list: pane-agent 0.9 does not list it")
	out, _ = run("show", "counter-desk", number)
	require.Contains(t, out, "not listed: pane-agent 0.9 does not list it")

	file := filepath.Join(t.TempDir(), "list.json")
	require.NoError(t, os.WriteFile(file, []byte(`{"spdxVersion": "SPDX-2.3"}`), 0o600))
	out, code = run("bring-list", "counter-desk", number, file)
	require.Equal(t, cli.ExitUsage, code, out)
	require.Contains(t, out, "cannot be taken: it is no CycloneDX")
	require.NoError(t, os.WriteFile(file, []byte(`{"bomFormat": "CycloneDX", "specVersion": "1.5",
		"components": [{"name": "bash", "version": "5.2"}]}`), 0o600))
	out, code = run("bring-list", "counter-desk", number, file)
	require.Zero(t, code, out)
	require.Contains(t, out, "has a software list now, of 1 entry.")
	kept := filepath.Join(t.TempDir(), "kept.json")
	out, code = run("software", "counter-desk", number, "--document", kept)
	require.Zero(t, code, out)
	text, err := os.ReadFile(kept)
	require.NoError(t, err)
	require.Contains(t, string(text), `"specVersion":"1.6"`)
	out, code = run("compare", "counter-desk", number)
	require.Equal(t, cli.ExitUsage, code, out)
	require.Contains(t, out, "give the version to compare with")
}

func TestAVersionIsVerifiedWithoutTheService(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	number := s.Captured("counter-desk", "bm-counter")
	run := func(args ...string) (string, int) {
		return typed(t, "", append([]string{"--url", s.URL, "--token", s.Token(role.Viewer), "version"}, args...)...)
	}
	folder := t.TempDir()
	document, keys, disk := filepath.Join(folder, "v.json"), filepath.Join(folder, "k.pem"), filepath.Join(folder,
		"disk")
	out, code := run("provenance", "counter-desk", number, "--document", document)
	require.Zero(t, code, out)
	text, code := run("keys")
	require.Zero(t, code)
	require.NoError(t, os.WriteFile(keys, []byte(text), 0o600))
	require.NoError(t, os.WriteFile(disk, []byte("another"), 0o600))
	away := func(args ...string) (string, int) {
		return typed(t, "", append([]string{"version", "verify"}, args...)...)
	}
	out, code = away("--document", document, "--keys", keys)
	require.Zero(t, code, out)
	require.Contains(t, out, "counter-desk "+number+" is what it says it is")
	require.Contains(t, out, "verified by this computer")
	out, code = away("--document", document, "--keys", keys, "--disk", disk)
	require.Equal(t, cli.ExitBad, code, out)
	require.Contains(t, out, "and the version was sealed with sha256:")

	text, _ = run("provenance", "counter-desk", number, "--document", "-")
	require.NoError(t, os.WriteFile(document, []byte(strings.Replace(text, `"payload":"e`, `"payload":"f`, 1)), 0o600))
	out, code = away("--document", document, "--keys", keys)
	require.Equal(t, cli.ExitBad, code, out)
	require.Contains(t, out, "none of the keys has signed it as it is")
	for _, wrong := range [][]string{
		{"--document", document},
		{"counter-desk"},
		{"counter-desk", number, "--document", document, "--keys", keys},
		{"--document", document, "--keys", disk},
	} {
		out, code = away(wrong...)
		require.Equal(t, cli.ExitUsage, code, out)
	}
	out, code = run("verify", "counter-desk", number)
	require.Zero(t, code, out)
	require.Contains(t, out, "verified by the service")
}
