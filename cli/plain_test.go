package cli

import (
	"testing"
	"unicode"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestPlainTakesOutWhatWouldSteerATerminal(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{
		"Ida Strånd 😀": "Ida Strånd 😀",
		"two\n\tlines": "two\n\tlines",
		"\x1b]8;;http://evil\x07click\x1b]8;;\x07": "click", // OSC 8
		"\x1b]0;owned\x07title":                    "title",
		"\x1b[2J\x1b[31mred":                       "red",
		"serving\rfaulty":                          "servingfaulty",
		"a\u202eb\u2066c":                          "abc",
		"\u009b31mx":                               "31mx",
		"bell\a, back\b, del\x7f":                  "bell, back, del",
		"a\u2028b":                                 "ab",
	} {
		require.Equal(t, want, Plain(in), "%q", in)
	}
	rapid.Check(t, func(t *rapid.T) {
		for _, r := range Plain(rapid.String().Draw(t, "text")) {
			require.False(t, unicode.IsControl(r) && r != '\n' && r != '\t')
		}
	})
}
