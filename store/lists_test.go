package store_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/host"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

// names of the hosts that a filter selects, read page by page.
func hostNames(t *testing.T, st *store.Store, f store.HostFilter) (out []string) {
	for range 100 {
		rows, err := store.HostRows(st.DB, f)
		require.NoError(t, err)
		for _, r := range rows {
			out = append(out, r.Name)
		}
		if f.Limit == 0 || len(rows) < f.Limit {
			return out
		}
		f.After = rows[len(rows)-1].Name
	}
	require.Fail(t, "the pages do not end")
	return out
}

func TestListsOfHostsAreNarrowedAndPaged(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	pool := hosts(t, st, 7)
	all := hostNames(t, st, store.HostFilter{})
	require.Len(t, all, 7)
	require.IsIncreasing(t, all)
	for _, limit := range []int{1, 2, 3, 7, 8} {
		require.Equal(t, all, hostNames(t, st, store.HostFilter{Limit: limit}), "by %d", limit)
	}
	require.Equal(t, all, hostNames(t, st, store.HostFilter{Pool: pool.Name, Limit: 2}))
	require.Empty(t, hostNames(t, st, store.HostFilter{Pool: "another"}))
	require.Empty(t, hostNames(t, st, store.HostFilter{Site: "another"}))
	require.Empty(t, hostNames(t, st, store.HostFilter{Image: "another"}))
	require.Empty(t, hostNames(t, st, store.HostFilter{Version: "2031.01.1"}))
	require.Empty(t, hostNames(t, st, store.HostFilter{State: host.Faulty}))

	require.NoError(t, st.DB.Exec("alter table hosts disable trigger host_changes_state").Error)
	require.NoError(t, st.DB.Exec("update hosts set state = 'faulty', why = 'no disk' where name = ?", all[3]).Error)
	require.Equal(t, all[3:4], hostNames(t, st, store.HostFilter{State: host.Faulty, Limit: 1}))
	require.Equal(t, all[4:5], hostNames(t, st, store.HostFilter{Find: all[4][1:]}))
	require.Equal(t, all, hostNames(t, st, store.HostFilter{Find: "-", Limit: 3}), "a part that all have")
	for _, none := range []string{"%", "_", `\`, "'", all[0] + "%"} {
		require.Empty(t, hostNames(t, st, store.HostFilter{Find: none}), "%q is looked for as it is", none)
	}
}

func TestListsOfSessionsAreNarrowedAndPaged(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	hosts(t, st, 3)
	names := hostNames(t, st, store.HostFilter{})
	for i, name := range names {
		sessions := "["
		for k := range 3 {
			if k > 0 {
				sessions += ","
			}
			sessions += fmt.Sprintf(`{"key": "s%d", "person": "Person %c%d", "state": "%s", "since": "2026-11-23T06:00:00Z"}`,
				k, 'A'+i, k, []string{"active", "idle", "disconnected"}[k])
		}
		require.NoError(t, st.DB.Exec("update pulses set sessions = ?, seen_at = ? where host_id = "+
			"(select id from hosts where name = ?)", sessions+"]", noon, name).Error)
	}
	read := func(f store.SessionFilter) (out []string) {
		for range 100 {
			rows, err := store.SessionRows(st.DB, f)
			require.NoError(t, err)
			for _, r := range rows {
				out = append(out, r.Host+"/"+r.Key)
			}
			if f.Limit == 0 || len(rows) < f.Limit {
				return out
			}
			f.After = out[len(out)-1]
		}
		return out
	}
	all := read(store.SessionFilter{})
	require.Len(t, all, 9)
	for _, limit := range []int{1, 2, 4, 9, 10} {
		require.Equal(t, all, read(store.SessionFilter{Limit: limit}), "by %d", limit)
	}
	require.Len(t, read(store.SessionFilter{State: "idle"}), 3)
	require.Equal(t, all[3:6], read(store.SessionFilter{Host: names[1], Limit: 2}))
	require.Equal(t, []string{names[2] + "/s1"}, read(store.SessionFilter{Find: "person c1"}))
	require.Equal(t, all[6:9], read(store.SessionFilter{Find: names[2]}))
	require.Equal(t, []string{names[0] + "/s2"}, read(store.SessionFilter{Person: "Person A2"}))
	require.Empty(t, read(store.SessionFilter{HostState: host.Draining}))
	require.Empty(t, read(store.SessionFilter{Find: "%"}))
}

// A work that is claimed is given to nobody else until it is let go of, or
// whoever claimed it is dead for as long as the lease.
func TestWhatIsClaimedIsClaimedByOne(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	pool := hosts(t, st, 1)
	ask := func(subject string, attempt int) error {
		return st.Change(t.Context(), "tove", noon, func(tx *store.Tx) error {
			return tx.Ask(store.Work{
				Kind: store.WorkDeliver, Subject: subject, Attempt: attempt, SiteID: pool.SiteID, Input: []byte("{}"),
			})
		})
	}
	for n := range 5 {
		require.NoError(t, ask(fmt.Sprint("copy ", n), 1))
	}
	require.Error(t, ask("copy 1", 1), "an attempt is asked for once")
	require.NoError(t, ask("copy 1", 2))
	last, err := store.LastAttempt(st.DB, store.WorkDeliver, "copy 1")
	require.NoError(t, err)
	require.Equal(t, 2, last)

	claim := func(lease time.Duration, share int) []store.Claim {
		claims, err := st.ClaimWorks(t.Context(), lease, share)
		require.NoError(t, err)
		return claims
	}
	first := claim(time.Hour, 4)
	require.Len(t, first, 4, "no more than the site's share")
	require.Empty(t, claim(time.Hour, 4), "its share is taken")
	second := claim(time.Hour, 100)
	require.Len(t, second, 2)
	seen := map[string]bool{}
	for _, c := range append(first, second...) {
		require.False(t, seen[c.Work], c.Work)
		seen[c.Work] = true
	}

	require.NoError(t, st.ReleaseClaim(t.Context(), first[0], 0))
	again := claim(0, 100) // a lease that ends at once
	require.Len(t, again, 1)
	require.Equal(t, first[0].Work, again[0].Work)
	kept, err := st.RenewClaim(t.Context(), first[0], time.Hour)
	require.NoError(t, err)
	require.False(t, kept, "it is another's by now")
	require.NoError(t, st.ReleaseClaim(t.Context(), first[0], time.Hour), "who comes late changes nothing")
	taken := claim(time.Hour, 100)
	require.Len(t, taken, 1, "the lease of the second has ended")
	kept, err = st.RenewClaim(t.Context(), taken[0], time.Hour)
	require.NoError(t, err)
	require.True(t, kept)

	// A site that did not answer is asked one thing at a time, and none before its turn.
	require.NoError(t, st.DB.Exec("update works set held_until = '-infinity'").Error)
	require.NoError(t, st.DB.Exec("update sites set failures = 3, retry_at = now() + interval '1 hour'").Error)
	require.Empty(t, claim(time.Hour, 100))
	require.NoError(t, st.DB.Exec("update sites set retry_at = now()").Error)
	require.Len(t, claim(time.Hour, 100), 1)
	require.Empty(t, claim(time.Hour, 100))
	_, err = st.ClaimTicks(t.Context(), "accounts", time.Hour)
	require.ErrorContains(t, err, `"accounts"`)
}
