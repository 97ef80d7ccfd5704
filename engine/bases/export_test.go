package bases

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// HavePatience says how long an address may send nothing.
func (bs *Bases) HavePatience(d time.Duration) { bs.patience.Store(int64(d)) }

// HaveRoom has the folder of bases take only so many bytes more.
func (bs *Bases) HaveRoom(t *testing.T, size int64) {
	t.Helper()
	bs.reserve.Store(0)
	free, err := bs.free()
	require.NoError(t, err)
	bs.reserve.Store(free - size)
}
