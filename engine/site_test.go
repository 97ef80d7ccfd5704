package engine_test

import (
	"context"
	"errors"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/engine"
	"nimblepane/internal/enginetest"
	"nimblepane/platform"
	"nimblepane/store"
)

// What a site answered is what is taken, however late the asker gets to it.
func TestAnAnswerThatCameIsTaken(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	site, err := store.SiteNamed(p.Store.DB, "north-quay")
	require.NoError(t, err)
	var all sync.WaitGroup
	wrong := make(chan error, 64)
	for range 64 {
		all.Go(func() {
			for range 2000 {
				n, err := engine.Ask(t.Context(), p.Engine, site,
					func(context.Context, platform.Platform) (int, error) {
						return 42, nil
					})
				if err != nil || n != 42 {
					wrong <- errors.Join(err, errors.New("the answer was lost"))
					return
				}
			}
		})
	}
	all.Wait()
	close(wrong)
	require.NoError(t, <-wrong)
}

// That nobody waits any more says nothing of the site.
func TestAnAskerWhoGoesAwayDoesNotBlameTheSite(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	site, err := store.SiteNamed(p.Store.DB, "north-quay")
	require.NoError(t, err)
	ctx, leave := context.WithCancel(t.Context())
	asked, hangs := make(chan struct{}, 100), make(chan struct{})
	t.Cleanup(func() { close(hangs) })
	const many = 40 // more than a site has places
	errs := make(chan error, many)
	for range many {
		go func() {
			errs <- p.AskTo(ctx, site, func(context.Context, platform.Platform) error {
				asked <- struct{}{}
				<-hangs
				return nil
			})
		}()
	}
	<-asked
	leave()
	for range many {
		require.ErrorIs(t, <-errs, context.Canceled)
	}
}
