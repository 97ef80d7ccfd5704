package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAStepIsCutOutAsItIsWritten(t *testing.T) {
	t.Parallel()
	const steps = `steps:
  - name: first
    # What it needs.
    script:
      text: |
        #!/bin/sh
        if true; then
          echo "a: b"
        fi
    time-limit: 5m
  - {name: second, restart: {within: 5m}}
`
	head, tail := "image: desk\nbase: {track: live}\nmachine: {site: north-quay}\n", "version: {notes: x}\n"
	whole, err := Parse([]byte(head + steps + tail))
	require.NoError(t, err)
	var cut []string
	for _, step := range whole.Steps {
		text, err := StepText([]byte(head+steps+tail), step.Name)
		require.NoError(t, err)
		require.Regexp(t, `^- (name|\{name)`, text)
		cut = append(cut, text)
	}
	require.Contains(t, cut[0], "# What it needs.")
	again, err := Parse([]byte(head + "steps:\n" + strings.Join(cut, "") + tail))
	require.NoError(t, err)
	require.Equal(t, whole.Steps, again.Steps)
	_, err = StepText([]byte(head+steps+tail), "third")
	require.EqualError(t, err, `there is no step "third" in the sheet`)
	_, err = StepText([]byte("image: x"), "third")
	require.Error(t, err)
}
