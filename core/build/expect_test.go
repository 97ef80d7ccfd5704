package build

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestEarlierBuildsSayHowLongOneTakes(t *testing.T) {
	t.Parallel()
	require.Equal(t, Expectation{}, Expect(nil))
	require.False(t, Expectation{}.Tight(0))
	e := Expect([]Past{
		{30 * time.Minute, time.Hour}, {50 * time.Minute, 2 * time.Hour}, {40 * time.Minute, time.Minute},
	})
	require.Equal(t, Expectation{3, time.Hour, 2 * time.Hour, 50 * time.Minute}, e)
	require.True(t, e.Tight(50*time.Minute-1))
	require.False(t, e.Tight(50*time.Minute))
	e = Expect([]Past{{1, 4}, {2, 8}})
	require.Equal(t, Expectation{2, 8, 8, 2}, e)
}
