package libvirt

import (
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/sheet"
	"nimblepane/platform"
)

// There is no Windows guest here: what can be seen is that every kind of step has its script, and what is asked.
func TestEveryKindOfStepHasItsFormForWindowsGuests(t *testing.T) {
	t.Parallel()
	for _, step := range []sheet.Step{
		{Put: &sheet.Put{Text: "x"}},
		{Put: &sheet.Put{Folder: "x", Content: &sheet.Content{}}},
		{Fetch: &sheet.Fetch{}},
		{Install: &sheet.Packages{}},
		{Remove: &sheet.Removal{}},
		{Update: &sheet.Update{}},
		{Locale: &sheet.Locale{}},
		{Settings: &sheet.Settings{}},
	} {
		p, err := programOf(step)
		require.NoError(t, err)
		ours, err := p.onWindows(windowsScriptOf(step))
		require.NoError(t, err)
		require.NotEmpty(t, ours.text, step.Kinds())
		require.NotContains(t, string(ours.text), "#!/bin", step.Kinds())
		require.Equal(t, p.arguments, ours.arguments)
	}
	script := sheet.Step{Script: &sheet.Script{Text: "#!powershell\nGet-Date\n"}}
	p, err := programOf(script)
	require.NoError(t, err)
	p, err = p.onWindows(windowsScriptOf(script))
	require.NoError(t, err)
	require.Equal(t, script.Script.Text, string(p.text))
	p.secrets = []string{"A=b"}
	_, err = p.onWindows("")
	require.ErrorContains(t, err, "a step in a Windows guest has no secrets yet")
}

func TestWhatAWindowsGuestIsAskedFitsIntoACommand(t *testing.T) {
	t.Parallel()
	s := stepFor(guest{windows: true}, "key")
	require.Regexp(t, `^C:/ProgramData/nimblepane/steps/[0-9a-f]{16}$`, s.folder)
	c := windowsAsk("output", s.folder, s.unit, 60, -platform.StepOutput, platform.StepOutput)
	require.Equal(t, powershell, c.Path)
	encoded := c.Args[len(c.Args)-1]
	require.Less(t, len(encoded), 32000, "the longest command line of Windows has 32,767 characters")
	utf16, err := base64.StdEncoding.DecodeString(encoded)
	require.NoError(t, err)
	text := strings.ReplaceAll(string(utf16), "\x00", "")
	require.True(t, strings.HasPrefix(text, "$verb = 'output'; $folder = 'C:/ProgramData/nimblepane/steps/"), text[:80])
	require.Contains(t, text, "$from = -65536; $most = 65536\n# What the service asks")
	require.True(t, strings.HasSuffix(text, "}\n"))
}
