package builds

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/secret"
)

func TestLinesAreTakenWhenTheyAreWhole(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		text  string
		last  bool
		lines []string
		taken int
	}{
		{"", true, nil, 0},
		{"one\ntw", false, []string{"one"}, 4},
		{"one\ntw", true, []string{"one", "tw"}, 6},
		{"tw", false, nil, 0},
		{"\n\n", false, []string{"", ""}, 2},
		{"a\r\nb\n", false, []string{"a", "b"}, 5},
		{" 10%\r 50%\r100%\r\n", false, []string{"100%"}, 16},
		{"\x1b[31mred\x1b[0m\x07 \ttide\n", false, []string{"red \ttide"}, 20},
		{"caf\xe9\n", false, []string{"caf\uFFFD"}, 5},
		{
			strings.Repeat("x", longestLine) + "y\n", false,
			[]string{strings.Repeat("x", longestLine), "y"},
			longestLine + 2,
		},
		{strings.Repeat("x", longestLine-1), false, nil, 0},
	} {
		lines, taken := linesOf([]byte(c.text), c.last, nil)
		require.Equal(t, c.lines, lines, "%.40q", c.text)
		require.Equal(t, c.taken, taken, "%.40q", c.text)
	}
}

func TestASecretIsHiddenHoweverItsLineIsCut(t *testing.T) {
	t.Parallel()
	values := secret.Values{"tide": "spring tide"}
	lines, taken := linesOf([]byte("it is spring tide\nspring \x1b[1mtide\x1b[0m\n"), false, values)
	require.Equal(t, []string{"it is [secret tide]", "[secret tide]"}, lines)
	require.Equal(t, 38, taken)
	long := strings.Repeat("x", longestLine-4) + "spring tide"
	lines, taken = linesOf([]byte(long), false, values)
	require.Empty(t, lines, "what follows may be part of a secret")
	require.Zero(t, taken)
	lines, _ = linesOf([]byte(long+"yyyyyy"), false, values)
	require.Equal(t, []string{strings.Repeat("x", longestLine-4)}, lines)
	lines, _ = linesOf([]byte(long), true, values)
	require.Equal(t, []string{strings.Repeat("x", longestLine-4), "[secret tide]"}, lines)
}

func TestHoweverATextComesItHasTheSameLines(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringOfN(rapid.RuneFrom([]rune("ab\n")), 0, 200, -1).Draw(t, "text")
		whole, taken := linesOf([]byte(text), true, nil)
		require.Equal(t, len(text), taken)
		var got []string
		for consumed, arrived := 0, 0; consumed < len(text); {
			arrived = min(len(text), arrived+rapid.IntRange(0, 20).Draw(t, "arrives"))
			lines, n := linesOf([]byte(text[consumed:arrived]), arrived == len(text), nil)
			got, consumed = append(got, lines...), consumed+n
		}
		require.Equal(t, whole, got)
	})
}

func TestWhatAStepWritesIsNotReadAllTheTime(t *testing.T) {
	t.Parallel()
	r := reading{last: map[string]time.Time{}}
	require.True(t, r.due("a", false))
	require.False(t, r.due("a", false))
	require.True(t, r.due("b", false))
	require.True(t, r.due("a", true), "when it is over it is read")
	require.NotContains(t, r.last, "a")
	r.last["b"] = time.Now().Add(-readEvery)
	require.True(t, r.due("b", false))
}
