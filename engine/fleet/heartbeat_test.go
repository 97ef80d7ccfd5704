package fleet

import (
	"fmt"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/estate"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/platform"
	"nimblepane/platform/practice"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

func TestABatchOfHeartbeatsIsTakenApartForTheOneThatCannotBeKept(t *testing.T) {
	t.Parallel()
	e, err := engine.New(storetest.Open(t), engine.RealClock{},
		engine.Options{
			Log:       slog.New(slog.DiscardHandler),
			Platforms: map[string]platform.Opener{estate.Practice: practice.Open},
		})
	require.NoError(t, err)
	fl := New(e, 0)
	_, err = fl.LoadEstate(t.Context(), "tove", []byte(`
sites:
  - {name: north-quay, platform: practice, address: "http://127.0.0.1:1", starts-per-minute: 600, clones-per-copy: 100}
images:
  - {name: desk, machine-class: standard, clearance: {testers: 0, soak: 0s, copies: 1}}
pools:
  - {name: counters, site: north-quay, image: desk, track: live, hosts: 5, host-prefix: co, seats-per-host: 4, machine-class: standard}
`), false)
	require.NoError(t, err)
	var batch []waiting
	for n := 1; n <= 5; n++ {
		name := fmt.Sprintf("co-%03d", n)
		require.NoError(t, e.Store.DB.Exec("update pulses set credential = ? where host_id = (select id from hosts "+
			"where name = ?)", []byte(name), name).Error)
		w := waiting{beat: store.Beat{Credential: []byte(name), Sessions: []byte("[]")}, reply: make(chan answered, 1)}
		if n == 3 {
			w.beat.Stamp = "what passes the door by mistake\x00"
		}
		batch = append(batch, w)
	}
	waiters := append([]waiting(nil), batch...)
	fl.ingest.take(t.Context(), batch)
	for n, w := range waiters {
		a := <-w.reply
		if n == 2 {
			require.ErrorIs(t, a.err, problem.InvalidRequest)
		} else {
			require.NoError(t, a.err)
			require.True(t, a.reply.Known)
		}
	}
}
