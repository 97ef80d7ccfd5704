package matter

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestKindsAreAllAndEachOnce(t *testing.T) {
	t.Parallel()
	require.ElementsMatch(t,
		[]Kind{
			Site, Rollover, Build, Machine, Proof, Faulty, Drained, Drift, Trial, Cleared, Copy, EndOfLife, Flaw,
			Readiness, Crash,
		},
		Kinds())
	once := map[Kind]bool{"": true}
	for _, k := range Kinds() {
		require.False(t, once[k], k)
		once[k] = true
	}
}
