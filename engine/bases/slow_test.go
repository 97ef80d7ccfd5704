package bases_test

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/base"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestAnAddressThatSendsNothingAnyMoreIsAskedAgain(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	s.Subjects.Bases.HavePatience(200 * time.Millisecond)
	content, err := os.ReadFile("../../demo/saltmarsh/harbour/harbour-13-20260804.vmdk")
	require.NoError(t, err)
	var asked atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch asked.Add(1) {
		case 1: // says nothing at all
			<-r.Context().Done()
		case 2: // stops in the middle
			w.Header().Set("Content-Length", strconv.Itoa(len(content)))
			_, _ = w.Write(content[:len(content)/2])
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		default:
			s.Subjects.Bases.HavePatience(time.Minute) // a busy machine sends it slowly
			http.ServeFile(w, r, "../../demo/saltmarsh/harbour/harbour-13-20260804.vmdk")
		}
	}))
	t.Cleanup(server.Close)
	c := s.As(role.Operator)
	_, err = c.BringBase(t.Context(), client.NewBase{Name: "harbour-13", Address: server.URL + "/harbour-13.vmdk"})
	require.NoError(t, err)
	var b client.Base
	s.Until("all of it to come", func() bool {
		b, err = c.Base(t.Context(), "harbour-13")
		require.NoError(t, err)
		return !b.State.Coming()
	})
	require.Equal(t, base.Ready, b.State, b.Why)
	require.GreaterOrEqual(t, asked.Load(), int32(3), "a busy machine may ask once more")
}

// bomb is a small qcow2 file with a disk of 256 MiB that is all written.
func bomb(t *testing.T) []byte {
	t.Helper()
	raw, packed := filepath.Join(t.TempDir(), "raw"), filepath.Join(t.TempDir(), "bomb.qcow2")
	require.NoError(t, os.WriteFile(raw, bytes.Repeat([]byte{'x'}, 256<<20), 0o600))
	out, err := exec.CommandContext(t.Context(), "qemu-img", "convert", "-f", "raw", "-O", "qcow2", "-c", "-o",
		"cluster_size=2M,compression_type=zstd", raw, packed).CombinedOutput()
	require.NoError(t, err, "%s", out)
	content, err := os.ReadFile(packed)
	require.NoError(t, err)
	require.Less(t, len(content), 16<<20)
	return content
}

func TestABaseThatUnpacksToMoreThanThereIsRoomForIsRefusedOnce(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	c, content := s.As(role.Operator), bomb(t)
	s.Subjects.Bases.HaveRoom(t, 128<<20)
	_, err := c.SendBase(t.Context(), client.NewBase{Name: "bomb"}, bytes.NewReader(content), func(client.Base) {})
	require.NoError(t, err)
	var refused client.Base
	s.Until("it to be refused", func() bool {
		refused, err = c.Base(t.Context(), "bomb")
		require.NoError(t, err)
		return !refused.State.Coming()
	})
	require.Equal(t, base.Failed, refused.State)
	require.Contains(t, refused.Why, "it would take 256 MiB, and the folder of bases has room")
	left, err := os.ReadDir(s.Engine.Bases)
	require.NoError(t, err)
	require.Empty(t, left)

	// Its reservation counts for the next one.
	s.Subjects.Bases.HaveRoom(t, 100<<20)
	_, err = c.BringBase(t.Context(), client.NewBase{Name: "first", Size: 40 << 20})
	require.NoError(t, err)
	_, err = c.BringBase(t.Context(), client.NewBase{Name: "second", Size: 40 << 20})
	require.ErrorIs(t, err, problem.NoSpace)

	// An address that does not say how much it sends ends when the folder is full.
	s.Subjects.Bases.HaveRoom(t, 64<<20)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for piece := make([]byte, 1<<20); r.Context().Err() == nil; {
			_, _ = w.Write(piece)
		}
	}))
	t.Cleanup(server.Close)
	_, err = c.BringBase(t.Context(), client.NewBase{Name: "endless", Address: server.URL + "/x"})
	require.NoError(t, err)
	s.Subjects.Bases.HaveRoom(t, -1)
	s.Until("it to end", func() bool {
		b, err := c.Base(t.Context(), "endless")
		require.NoError(t, err)
		return b.State == base.Failed && strings.Contains(b.Why, "folder of bases is full")
	})
}
