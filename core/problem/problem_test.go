package problem_test

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/problem"
)

func TestTypesAreComparedByErrorsIs(t *testing.T) {
	t.Parallel()
	err := fmt.Errorf("start: %w", problem.Busy.Errorf("build %d is running", 7))
	require.EqualError(t, err, "start: build 7 is running")
	require.ErrorIs(t, err, problem.Busy)
	require.NotErrorIs(t, err, problem.InUse)
	require.Equal(t, problem.Busy, problem.Of(err))
	require.Empty(t, problem.Of(errors.New("x")))
	require.EqualError(t, &problem.Problem{Detail: "invalid", Reasons: []string{"a", "b"}}, "invalid: a; b")
}

func TestEveryTypeIsDescribedOnce(t *testing.T) {
	t.Parallel()
	seen := map[problem.Type]bool{}
	for _, e := range problem.All {
		require.False(t, seen[e.Type], e.Type)
		seen[e.Type] = true
		require.Regexp(t, `^[a-z]+(-[a-z]+)*$`, string(e.Type))
		require.True(t, e.Status >= 400 && e.Status < 600, e.Type)
		for _, text := range []string{e.Title, e.Meaning, e.Remedy} {
			require.NotEmpty(t, text, e.Type)
		}
		require.Equal(t, e, e.Type.Entry())
		found, known := problem.FromURI("https://pane.example" + e.Type.URI())
		require.True(t, known)
		require.Equal(t, e.Type, found)
	}
	require.True(t, slices.IsSortedFunc(problem.All, func(a, b problem.Entry) int { return a.Status - b.Status }))
	_, known := problem.FromURI("about:blank")
	require.False(t, known)
	general, known := problem.OfStatus(409)
	require.True(t, known)
	require.Equal(t, problem.WrongState, general)
}
