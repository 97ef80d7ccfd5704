package versions_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
)

func TestNothingFallsBackToWhatWasRetired(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	for _, v := range p.Numbers[:3] {
		require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", v,
			versions.Activation{Overrule: true, Reason: "next"}))
	}
	require.NoError(t, p.Versions.Retire(t.Context(), "tove", "desk", p.Numbers[0], "two versions ago"))
	_, err := p.Rollovers.Rollback(t.Context(), "tove",
		rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[2], Reason: "bad"})
	require.NoError(t, err)
	require.Equal(t, p.Numbers[1], p.Names(image.Live))
	_, err = p.Rollovers.Rollback(t.Context(), "tove",
		rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[1], Reason: "bad, too"})
	require.ErrorIs(t, err, problem.NoFallback)
}
