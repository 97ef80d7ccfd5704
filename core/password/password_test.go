package password

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPasswordsThatWouldBeGuessedFirstAreRefused(t *testing.T) {
	t.Parallel()
	for _, p := range []string{
		"password12", "Password1234!", "qwertyuiop", "1234567890", "letmein123", "aaaaaaaaaaaa",
		"mira-strand1", strings.Repeat("x", Most),
	} {
		require.ErrorContains(t, Check(p, "mira", "Mira Strand"), "among the first to be guessed", p)
	}
	for _, p := range []string{
		"saltmarsh-demo", "a long enough one", "tidegull77", "correct horse battery",
		strings.Repeat("tide gull lamp ", 13),
	} {
		require.NoError(t, Check(p, "mira"), p)
	}
	require.ErrorContains(t, Check("tide lamp"), "fewer than 10 characters")
	require.ErrorContains(t, Check(strings.Repeat("å", 201)), "more than 200")
	require.ErrorContains(t, Check("tide gull lamp\xff"), "not UTF-8")
}
