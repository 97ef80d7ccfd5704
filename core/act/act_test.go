package act

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestNamesAreAllAndEachOnce(t *testing.T) {
	t.Parallel()
	require.ElementsMatch(t, []Name{Stage, Activate, Rollback, Retire, Pin, Roll}, Names())
	once := map[Name]bool{"": true}
	for _, n := range Names() {
		require.False(t, once[n], n)
		once[n] = true
	}
}
