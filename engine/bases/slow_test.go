package bases_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/base"
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
	require.EqualValues(t, 3, asked.Load())
}
