package role_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/role"
)

func TestEachRoleHasTheRightsOfThoseBeforeIt(t *testing.T) {
	t.Parallel()
	for i, r := range role.Roles() {
		for j, other := range role.Roles() {
			require.Equal(t, i >= j, r.Has(other), "%s, %s", r, other)
		}
		require.False(t, role.Role("guest").Has(r))
		require.True(t, r.Has(""))
	}
}
