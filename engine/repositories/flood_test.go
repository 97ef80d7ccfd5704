package repositories_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func TestAServerThatSendsReferencesWithoutEndIsNotReadToIt(t *testing.T) {
	t.Parallel()
	var sent atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/x-git-upload-pack-advertisement")
		line := func(text string) { fmt.Fprintf(w, "%04x%s", len(text)+4, text) }
		line("# service=git-upload-pack\n")
		_, _ = w.Write([]byte("0000"))
		for n := 0; r.Context().Err() == nil && n < 5_000_000; n++ {
			text := fmt.Sprintf("%040x refs/heads/%d", n+1, n)
			if n == 0 {
				text += "\x00shallow"
			}
			line(text + "\n")
			sent.Add(int64(len(text)))
		}
	}))
	t.Cleanup(server.Close)
	s := servicetest.Start(t, servicetest.Options{})
	c := s.As(role.Operator)
	_, err := c.FollowRepository(t.Context(), "desk", client.NewRepository{
		Address: server.URL + "/desks", Branch: "main", File: "desk.yaml",
	})
	require.NoError(t, err)
	s.Until("it to be refused", func() bool {
		kept, err := c.Sheet(t.Context(), "desk")
		require.NoError(t, err)
		return strings.Contains(kept.Repository.Why, "sends more than the service takes")
	})
	require.Less(t, sent.Load(), int64(64<<20))
}
