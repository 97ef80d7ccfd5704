package journal_test

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/platform"
	"nimblepane/platform/journal"
)

var (
	quiet = slog.New(slog.DiscardHandler)
	some  = platform.DeleteCopy.Of(platform.Named{Name: "c"})
)

func ended(t *testing.T, r *journal.Runner, key string) (p platform.Progress) {
	require.Eventually(t, func() bool {
		var err error
		p, err = r.Ask(t.Context(), key)
		require.NoError(t, err)
		return p.State != platform.UnderWay
	}, 10*time.Second, 5*time.Millisecond)
	return p
}

func TestAnOperationIsDoneOnceHoweverOftenItIsStarted(t *testing.T) {
	t.Parallel()
	var done atomic.Int32
	release := make(chan struct{})
	r := journal.New(journal.NewMemory(), "s", time.Millisecond, quiet,
		func(context.Context, string, platform.Operation, func(platform.Progress)) (json.RawMessage, error) {
			done.Add(1)
			<-release
			return json.RawMessage(`{"digest":"d"}`), nil
		})
	defer r.Close()
	_, err := r.Ask(t.Context(), "k")
	require.ErrorIs(t, err, platform.ErrUnknown)
	for range 5 {
		require.NoError(t, r.Start(t.Context(), "k", some))
	}
	close(release)
	require.Equal(t, platform.Progress{
		State: platform.Succeeded, Percent: 100,
		Output: json.RawMessage(`{"digest":"d"}`),
	}, ended(t, r, "k"))
	require.NoError(t, r.Start(t.Context(), "k", some))
	ended(t, r, "k")
	require.EqualValues(t, 1, done.Load())
}

func TestWhatMayPassIsTriedAgainAndARefusalIsNot(t *testing.T) {
	t.Parallel()
	var tries atomic.Int32
	half := platform.Transfer{Stage: platform.Sending, Lacking: 20, Sent: 10}
	r := journal.New(journal.NewMemory(), "s", time.Millisecond, quiet,
		func(_ context.Context, key string, _ platform.Operation, report func(platform.Progress)) (json.RawMessage,
			error,
		) {
			report(platform.Progress{Percent: 40, Transfer: &half})
			if tries.Add(1) < 3 {
				return nil, errors.New("the hypervisor does not answer")
			}
			return nil, &platform.Refusal{Why: "there is no room"}
		})
	defer r.Close()
	require.NoError(t, r.Start(t.Context(), "k", some))
	require.Equal(t, platform.Progress{
		State: platform.Failed, Percent: 40, Why: "there is no room", Transfer: &half,
	}, ended(t, r, "k"))
	require.EqualValues(t, 3, tries.Load())
}

// TestAnotherProcessTakesUpWhatOneLeft has a process stop in the middle, and two
// others asked about it, of which one goes on.
func TestAnotherProcessTakesUpWhatOneLeft(t *testing.T) {
	t.Parallel()
	shared := journal.NewMemory()
	begun := make(chan struct{})
	first := journal.New(shared, "s", time.Millisecond, quiet,
		func(ctx context.Context, _ string, _ platform.Operation, _ func(platform.Progress)) (json.RawMessage, error) {
			close(begun)
			<-ctx.Done()
			return nil, ctx.Err()
		})
	require.NoError(t, first.Start(t.Context(), "k", some))
	<-begun
	var others atomic.Int32
	work := func(_ context.Context, _ string, op platform.Operation, _ func(platform.Progress)) (json.RawMessage,
		error,
	) {
		require.Equal(t, some, op)
		others.Add(1)
		return json.RawMessage(`{"digest":"d"}`), nil
	}
	second, third := journal.New(shared, "s", time.Millisecond, quiet, work),
		journal.New(shared, "s", time.Millisecond, quiet, work)
	defer second.Close()
	defer third.Close()
	p, err := second.Ask(t.Context(), "k")
	require.NoError(t, err)
	require.Equal(t, platform.UnderWay, p.State)
	require.Zero(t, others.Load(), "the first one holds it")
	first.Close()
	for _, r := range []*journal.Runner{second, third} {
		require.JSONEq(t, `{"digest":"d"}`, string(ended(t, r, "k").Output))
	}
	require.EqualValues(t, 1, others.Load())
}
