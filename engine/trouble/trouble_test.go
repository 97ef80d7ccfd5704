package trouble

import (
	"bytes"
	"errors"
	"log/slog"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatIsTheSameIsSaidOnceAndOnceWhenItIsOver(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	l := New(slog.New(slog.NewTextHandler(&out, nil)))
	l.Worked("reading the tide")
	for range 966 {
		l.Failed("reading the tide", errors.New("no water"), "quay", "north")
	}
	l.Failed("writing it down", errors.New("no pen"))
	l.Worked("reading the tide")
	l.Worked("reading the tide")
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, lines, 3)
	require.Contains(t, lines[0], `msg="reading the tide" err="no water" quay=north`)
	require.Contains(t, lines[2], `msg="reading the tide: over" times=966`)
	l.Failed("reading the tide", errors.New("again"))
	require.Contains(t, out.String(), "err=again", "the next time is said again")
}
