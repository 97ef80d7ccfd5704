package flaws_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// resident is the memory of this process, in bytes.
func resident(t *testing.T) int64 {
	t.Helper()
	text, err := os.ReadFile("/proc/self/status")
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		if f := strings.Fields(line); f[0] == "VmHWM:" {
			n, err := strconv.ParseInt(f[1], 10, 64)
			require.NoError(t, err)
			return n << 10
		}
	}
	return 0
}

func TestAListThatUnpacksToAllMemoryTakesNone(t *testing.T) {
	s := servicetest.Start(t, servicetest.Options{})
	c := s.As(role.Operator)
	// Each record has 900,000 versions, which take much more memory than text.
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	for n := range 2 {
		w, err := z.Create(fmt.Sprintf("%d.json", n))
		require.NoError(t, err)
		_, err = fmt.Fprintf(w, `{"id":"QUAY-%d","modified":"2026-11-20T08:00:00Z","affected":[{"package":{"ecosystem":`+
			`"Debian","name":"tide"},"versions":[%s"1"]}]}`, n, strings.Repeat(`"1",`, 900_000))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.Less(t, packed.Len(), 2<<20)
	before := resident(t)
	_, err := c.LoadFlaws(t.Context(), "bomb", packed.Bytes())
	require.True(t, client.IsStatus(err, 422), "%v", err)
	require.ErrorContains(t, err, "it names more than 50000 versions")
	require.Less(t, resident(t)-before, int64(600<<20))
	lists, err := c.FlawLists(t.Context())
	require.NoError(t, err)
	require.Empty(t, lists)
}

func TestAListAsLargeAsPromisedIsTaken(t *testing.T) {
	s := servicetest.Start(t, servicetest.Options{})
	c := s.As(role.Operator)
	var list bytes.Buffer
	list.WriteString("[")
	for n := range 3_000 {
		fmt.Fprintf(&list, `{"id":"QUAY-%d","modified":"2026-11-20T08:00:00Z","details":%q,"affected":[{"package":`+
			`{"ecosystem":"Debian","name":"tide-%[1]d"},"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"}]}]}]},`,
			n, strings.Repeat("high water ", 100))
	}
	list.Truncate(list.Len() - 1)
	list.WriteString("]")
	require.Greater(t, list.Len(), 3<<20)
	l, err := c.LoadFlaws(t.Context(), "debian", list.Bytes())
	require.NoError(t, err)
	require.Equal(t, 3_000, l.Records)
}
