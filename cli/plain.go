package cli

import (
	"io"
	"strings"
	"unicode"

	"github.com/charmbracelet/x/ansi"
)

// Plain returns a text that others wrote as it may be shown on a terminal:
// without escape sequences, without control characters but line ends and tabs,
// and without what turns the direction of writing. People's names, checks'
// output and reasons come from machines and guests; a terminal would obey them.
func Plain(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n', r == '\t':
			return r
		case unicode.IsControl(r), unicode.Is(unicode.Bidi_Control, r), r == '\u2028', r == '\u2029':
			return -1
		}
		return r
	}, ansi.Strip(s))
}

// write writes what a machine or a file holds: as it is to programs and files,
// and as a text that may be shown to a terminal.
func write(out io.Writer, content []byte) error {
	if isTerminal(out) {
		content = []byte(Plain(string(content)))
	}
	_, err := out.Write(content)
	return err
}
