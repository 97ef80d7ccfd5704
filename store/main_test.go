package store_test

import (
	"net/url"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestTheDatabaseLetsNobodyInWithoutItsPassword(t *testing.T) {
	t.Parallel()
	with, err := url.Parse(storetest.URL(t))
	require.NoError(t, err)
	db, err := pgx.Connect(t.Context(), with.String())
	require.NoError(t, err)
	require.NoError(t, db.Close(t.Context()))
	for _, user := range []*url.Userinfo{
		url.User("nimblepane"), url.UserPassword("nimblepane", "guessed"),
		url.User("postgres"),
	} {
		without := *with
		without.User = user
		_, err = pgx.Connect(t.Context(), without.String())
		require.ErrorContains(t, err, "password authentication failed", user)
	}
}
