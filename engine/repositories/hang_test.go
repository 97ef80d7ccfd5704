package repositories_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"net"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/core/secret"
	"nimblepane/internal/servicetest"
)

func TestAServerThatTakesConnectionsAndSaysNothingIsGivenUp(t *testing.T) {
	t.Parallel()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var taken []net.Conn
	over := make(chan struct{})
	go func() {
		defer close(over)
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			taken = append(taken, c)
		}
	}()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	key, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	host, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	s := servicetest.Start(t, servicetest.Options{
		Secrets: secret.In(func(string) (string, bool) { return "", false }, fstest.MapFS{
			"key":   {Data: pem.EncodeToMemory(key)},
			"known": {Data: []byte(knownhosts.Line([]string{listener.Addr().String()}, host))},
		}),
	})
	s.Subjects.Repositories.HavePatience(200 * time.Millisecond)
	ctx, c := t.Context(), s.As(role.Operator)
	_, err = c.FollowRepository(ctx, "desk", client.NewRepository{
		Address: "ssh://git@" + listener.Addr().String() + "/desks", File: "desk.yaml",
		Key: &secret.Source{File: "key"}, KnownHosts: &secret.Source{File: "known"},
	})
	require.NoError(t, err)
	until := func(why string) {
		s.Until("the repository to be given up: "+why, func() bool {
			kept, err := c.Sheet(ctx, "desk")
			require.NoError(t, err)
			return strings.Contains(kept.Repository.Why, why)
		})
	}
	until("it says nothing for 200ms")
	require.NoError(t, c.LookAtRepository(ctx, "desk"))
	until("it says nothing: what it was asked before hangs still")

	require.NoError(t, listener.Close())
	<-over
	require.Len(t, taken, 1, "it was asked once")
	require.NoError(t, taken[0].Close())
	s.Until("what hung to end", func() bool {
		require.NoError(t, c.LookAtRepository(ctx, "desk"))
		kept, err := c.Sheet(ctx, "desk")
		require.NoError(t, err)
		return strings.Contains(kept.Repository.Why, "connection refused")
	})
}
