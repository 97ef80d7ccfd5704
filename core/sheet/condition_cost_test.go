package sheet

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// hostile are conditions that a compiler or an evaluation could take long for.
func hostile() map[string]Condition {
	wide := func(open, item, end string, n int) string { return open + strings.Repeat(item, n) + end }
	return map[string]Condition{
		"lists in lists":  Condition(strings.Repeat("[", 200) + strings.Repeat("]", 200) + "==[]"),
		"lists, just few": Condition(strings.Repeat("[", mostNested) + strings.Repeat("]", mostNested) + "==[]"),
		"maps in maps": Condition(strings.Repeat("{1:", mostNested) + "1" + strings.Repeat("}",
			mostNested) + "=={}"),
		"many lists":       Condition(wide("", "[[[[[1]]]]]==[]&&", "true", 50)),
		"a ternary":        Condition(wide("", "true?true:", "true", 90)),
		"not":              Condition(wide("", "!", "true", 900)),
		"minus":            Condition(wide("1==", "-", "1", 900)),
		"and":              Condition(wide("", "true&&", "true", 150)),
		"a chain":          Condition(wide("values", ".a", "", 450)),
		"indexes":          Condition(wide("values", "[1]", "==1", 300)),
		"loops in loops":   "[1,2,3].all(a,[1,2,3].all(b,[1,2,3].all(c,[1,2,3].all(d,a==b&&c==d))))",
		"a text of itself": Condition("[" + strings.Repeat("'x'+", 200) + "'x'].exists(a,a.matches('(x+x+)+y'))"),
		"a long " +
			"list": Condition("[" + strings.Repeat("1,",
			450) + "1].map(a,[a,a]).map(a,[a,a]).map(a,[a,a]).size()>1"),
	}
}

func TestAHostileConditionIsRefusedOrCheap(t *testing.T) {
	t.Parallel()
	for name, c := range hostile() {
		a, err := c.compiled()
		if err == nil {
			require.NotNil(t, a, name)
			_, _ = c.met(Sheet{Image: "desk"})
		}
	}
	_, err := hostile()["lists in lists"].compiled()
	require.ErrorContains(t, err, "brackets in brackets, more than 12 deep")
}

func TestACheckEndsWhenNobodyWaitsForIt(t *testing.T) {
	t.Parallel()
	var cancelled error
	done := func() error { return cancelled }
	text := []byte("image: desk\nbase: {disk: x}\nmachine: {site: a}\nsteps: [{name: a, when: \"[[[[[1]]]]]==[]\", " +
		"restart: {}}]\n")
	_, err := ParseUntil(done, text)
	require.NoError(t, err)
	cancelled = errors.New("cancelled")
	_, err = ParseUntil(done, text)
	require.ErrorIs(t, err, cancelled)
}

func BenchmarkHostileCondition(b *testing.B) {
	for name, c := range hostile() {
		b.Run(strings.ReplaceAll(name, " ", "-"), func(b *testing.B) {
			for b.Loop() {
				if _, err := c.compiled(); err == nil {
					_, _ = c.met(Sheet{Image: "desk"})
				}
			}
		})
	}
}
