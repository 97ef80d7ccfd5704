package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/feed"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

func TestWhatIsWatchedIsOnesAtATimeAndWhoAsksMeanwhileIsNotForgotten(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	ctx := t.Context()
	for _, name := range []string{"estuary", "harbour"} {
		require.NoError(t, s.DB.Create(&store.Feed{Name: name, Address: "http://x", EverySeconds: 60}).Error)
	}
	claim := func() (store.PollClaim, bool) {
		w, is, err := s.ClaimPoll(ctx, store.PollFeeds, time.Minute)
		require.NoError(t, err)
		return w, is
	}
	one, is := claim()
	require.True(t, is)
	two, is := claim()
	require.True(t, is)
	require.NotEqual(t, one.ID, two.ID)
	_, is = claim()
	require.False(t, is, "both are looked at")

	// Somebody asks for the first while it is looked at: it is due again as soon as that is done. The other waits.
	require.NoError(t, store.WatchNow(s.DB, store.PollFeeds, one.ID))
	_, is = claim()
	require.False(t, is)
	require.NoError(t, s.ReleaseWatched(ctx, one, time.Hour))
	require.NoError(t, s.ReleaseWatched(ctx, two, time.Hour))
	again, is := claim()
	require.True(t, is)
	require.Equal(t, one.ID, again.ID)
	_, is = claim()
	require.False(t, is)

	// Whoever was slow keeps and releases nothing that is another's by now.
	require.NoError(t, s.DB.Exec("update feeds set held_until = now() - interval '1 second'").Error)
	others, is := claim()
	require.True(t, is)
	require.Equal(t, again.ID, others.ID)
	mine, err := s.RenewPoll(ctx, again, time.Minute)
	require.NoError(t, err)
	require.False(t, mine)
	require.NoError(t, s.ReleaseWatched(ctx, again, 0))
	_, is = claim()
	require.False(t, is)
	mine, err = s.RenewPoll(ctx, others, time.Minute)
	require.NoError(t, err)
	require.True(t, mine)
	_, _, err = s.ClaimPoll(ctx, "accounts", time.Minute)
	require.ErrorContains(t, err, "has no external sources")
}

func TestTheReleasesOfAFeedAreReplacedAsAWhole(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	f := store.Feed{Name: "estuary", Address: "http://x", EverySeconds: 60}
	require.NoError(t, s.DB.Create(&f).Error)
	replace := func(offers ...feed.Offer) {
		require.NoError(t, s.Change(t.Context(), "mira", noon, func(tx *store.Tx) error {
			return store.ReplaceOffers(tx, f.ID, offers)
		}))
	}
	one, two := feed.Offer{Product: "p", Serial: "1", SHA256: "a"}, feed.Offer{Product: "q", Serial: "1", SHA256: "b"}
	replace(one, two)
	offers, err := store.Offers(s.DB, f.ID, "")
	require.NoError(t, err)
	require.Len(t, offers, 2)
	offers, err = store.Offers(s.DB, f.ID, "q")
	require.NoError(t, err)
	require.Equal(t, []feed.Offer{two}, offers)
	of, o, is, err := store.OfferWith(s.DB, "a")
	require.NoError(t, err)
	require.True(t, is)
	require.Equal(t, "estuary", of)
	require.Equal(t, one, o)
	replace(two)
	counts, err := store.OffersOf(s.DB)
	require.NoError(t, err)
	require.Equal(t, map[int64]int{f.ID: 1}, counts)
	replace()
	_, _, is, err = store.OfferWith(s.DB, "b")
	require.NoError(t, err)
	require.False(t, is)
}
