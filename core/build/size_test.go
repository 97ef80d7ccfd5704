package build

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestSizesAreAdvisedByWhatWasUsedOfThem(t *testing.T) {
	t.Parallel()
	const GiB = 1 << 30
	small, large := Size{"standard", 0, 0}, Size{"standard", 8, 32 * GiB}
	of := func(s Size, took, cpu time.Duration, memory int64, cores int, has int64) Tried {
		return Tried{
			Size: s, Took: took, Ran: took / 2, Stepped: 10 * time.Minute, CPU: cpu, Memory: memory, HasCores: cores,
			HasMemory: has,
		}
	}
	require.Equal(t, []Advice{{
		Size: large, Builds: 1, Took: 20 * time.Minute, Ran: 10 * time.Minute, Cores: 2, Memory: 4 * GiB, HasCores: 8,
		HasMemory: 32 * GiB, Says: []string{
			"2.0 of its 8 cores were busy: fewer would do",
			"4.0 GiB of its 32 GiB of memory were in use at most: half of it would do",
		},
	}, {
		Size: small, Builds: 3, Took: 40 * time.Minute, Ran: 20 * time.Minute, Cores: 1.8, Memory: 3700 << 20,
		HasCores: 2, HasMemory: 4 * GiB, Says: []string{
			"nearly all of its 2 cores were busy: more would make it faster",
			"3.6 GiB of its 4.0 GiB of memory were in use: give it more",
		},
	}}, Advise([]Tried{
		of(small, 40*time.Minute, 12*time.Minute, 2*GiB, 2, 4*GiB), of(large, 20*time.Minute, 20*time.Minute, 4*GiB, 8,
			32*GiB),
		of(small, 30*time.Minute, 18*time.Minute, 3700<<20, 2, 4*GiB), of(small, 50*time.Minute, 0, 0, 0, 0),
	}))
	require.Empty(t, Advise(nil))
	quiet := Advise([]Tried{of(small, time.Minute, 0, 0, 0, 0)})
	require.Empty(t, quiet[0].Says, "nothing was measured")
	one := Advise([]Tried{of(small, time.Minute, time.Minute, GiB, 1, 2*GiB)})
	require.Empty(t, one[0].Says, "one core cannot become fewer")
}
