package store_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nimblepane/agent"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
	"nimblepane/core/trail"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func record(t *testing.T, st *store.Store, n int) {
	t.Helper()
	for i := range n {
		require.NoError(t, st.Change(t.Context(), "tove", noon, func(tx *store.Tx) error {
			tx.Record(store.Entry{
				Verb: "version.edit", Subject: fmt.Sprintf("version %d", i),
				Detail: map[string]any{"z": 1.5, "a": []string{"x"}},
			})
			return nil
		}))
	}
}

func TestAChangeThatFailsLeavesNoTrace(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	err := st.Change(t.Context(), "tove", noon, func(tx *store.Tx) error {
		require.NoError(t, tx.Create(&store.Site{
			Name: "a", Title: "a", Platform: "practice", StartsPerMinute: 1,
			ClonesPerCopy: 1,
		}).Error)
		tx.Record(store.Entry{Verb: "site.add", Subject: "site a"})
		return errors.New("thought better of it")
	})
	require.ErrorContains(t, err, "thought better of it")
	_, err = store.SiteNamed(st.DB, "a")
	require.ErrorIs(t, err, store.ErrNotFound)
	v, err := st.VerifyTrail(t.Context(), "")
	require.NoError(t, err)
	require.Zero(t, v.Entries)
}

func TestChangesAtOnceMakeOneChain(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	var writers sync.WaitGroup
	for range 8 {
		writers.Go(func() { record(t, st, 10) })
	}
	writers.Wait()
	v, err := st.VerifyTrail(t.Context(), "")
	require.NoError(t, err)
	require.Empty(t, v.Breaks)
	require.EqualValues(t, 80, v.Entries)
	events, err := st.EventsAfter(t.Context(), 0, 1000)
	require.NoError(t, err)
	require.Len(t, events, 80)
}

func TestAnAlteredRowIsFound(t *testing.T) {
	t.Parallel()
	for name, sql := range map[string]string{
		"altered": "update trail set actor = 'guest' where seq = 5",
		"removed": "delete from trail where seq = 5",
		"detail":  `update trail set detail = '{"z": 2}' where seq = 5`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			st := storetest.Open(t)
			record(t, st, 9)
			require.NoError(t, st.DB.Exec(sql).Error)
			v, err := st.VerifyTrail(t.Context(), "")
			require.NoError(t, err)
			require.Len(t, v.Breaks, 1)
			require.Contains(t, []int64{5, 6}, v.Breaks[0].Seq)
		})
	}
}

func TestATrailWhoseEndWasCutOffIsFound(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	record(t, st, 5)
	noted, err := st.VerifyTrail(t.Context(), "")
	require.NoError(t, err)
	record(t, st, 2)
	v, err := st.VerifyTrail(t.Context(), noted.Last)
	require.NoError(t, err)
	require.EqualValues(t, 5, v.Expected)
	require.NoError(t, st.DB.Exec("delete from trail where seq >= 5").Error)
	v, err = st.VerifyTrail(t.Context(), noted.Last)
	require.NoError(t, err)
	require.Empty(t, v.Breaks, "the chain alone does not show it")
	require.Zero(t, v.Expected)
}

func TestTrailFilters(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	add := func(actor, verb, subject, scope string) {
		require.NoError(t, st.Change(t.Context(), actor, noon, func(tx *store.Tx) error {
			tx.Record(store.Entry{Verb: verb, Subject: subject, Scope: scope})
			return nil
		}))
	}
	add("tove", "version.activate", "version counter-desk 2026.11.1", "")
	add("service", "host.drain", "host tc-001", "rollover 1")
	add("service", "host.drained-by-tide", "host tc-002", "rollover 11")
	count := func(f store.TrailFilter) int {
		f.Limit = 10
		rows, err := st.Trail(t.Context(), f)
		require.NoError(t, err)
		return len(rows)
	}
	require.Equal(t, 3, count(store.TrailFilter{}))
	require.Equal(t, 1, count(store.TrailFilter{Actor: "tove"}))
	require.Equal(t, 2, count(store.TrailFilter{Verb: "host"}))
	require.Equal(t, 1, count(store.TrailFilter{Verb: "host.drain"}), "a verb is not a prefix of another")
	require.Equal(t, 1, count(store.TrailFilter{Subject: "counter-desk"}))
	require.Equal(t, 1, count(store.TrailFilter{Scope: "rollover 1"}))
	require.Equal(t, 1, count(store.TrailFilter{Before: 2}))
	require.Equal(t, 0, count(store.TrailFilter{From: noon.Add(time.Second)}))
}

// hosts makes a pool with n hosts that are enrolled, each with its number as token and credential.
func hosts(t testing.TB, st *store.Store, n int) store.Pool {
	t.Helper()
	var pool store.Pool
	require.NoError(t, st.Change(context.Background(), "test", noon, func(tx *store.Tx) error {
		site := store.Site{Name: "a", Title: "a", Platform: "practice", StartsPerMinute: 1, ClonesPerCopy: 1}
		img := store.Image{Name: "i", Title: "i", Numbering: "calendar", MachineClass: "standard"}
		require.NoError(t, tx.Create(&site).Error)
		require.NoError(t, tx.Create(&img).Error)
		require.NoError(t, tx.Create(&store.Track{ImageID: img.ID, Name: "live"}).Error)
		pool = store.Pool{
			Name: "p", Title: "p", SiteID: site.ID, ImageID: img.ID, Track: "live", HostCount: n,
			HostPrefix: "h", SeatsPerHost: 4, MachineClass: "standard",
		}
		require.NoError(t, tx.Create(&pool).Error)
		var rows []store.Host
		for i := range n {
			rows = append(rows, store.Host{
				Name: fmt.Sprintf("h-%05d", i), PoolID: pool.ID, State: host.Serving,
				Since: noon, Machine: true,
			})
		}
		require.NoError(t, tx.CreateInBatches(&rows, 1000).Error)
		return tx.Exec("insert into pulses (host_id, credential) select id, convert_to(name, 'UTF8') from hosts").Error
	}))
	return pool
}

func beat(host int, sessions string) store.Beat {
	return store.Beat{Credential: fmt.Appendf(nil, "h-%05d", host), Stamp: "i 1", Sessions: []byte(sessions)}
}

func TestHeartbeatsAreWrittenAndAnsweredInOrder(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	hosts(t, st, 3)
	require.NoError(t, st.DB.Exec("update hosts set drain_order = 7 where name = 'h-00001'").Error)
	require.NoError(t, st.DB.Exec("insert into orders (host_id, kind, session_key, text, created_at) select id, "+
		"'tell', 's1', 'hello', now() from hosts where name = 'h-00001'").Error)
	person := `[{"key":"s1","person":"Ida Strand","state":"active","since":"2026-11-23T11:00:00Z"}]`
	replies, err := st.SaveBeats(t.Context(), noon,
		[]store.Beat{beat(2, "[]"), {Credential: []byte("nobody"), Sessions: []byte("[]")}, beat(1, person)})
	require.NoError(t, err)
	require.Equal(t, []bool{true, false, true}, []bool{replies[0].Known, replies[1].Known, replies[2].Known})
	require.EqualValues(t, 7, replies[2].DrainOrder)
	require.Equal(t, "hello", replies[2].Orders[0].Text)
	require.Empty(t, replies[0].Orders)

	rows, err := store.SessionRows(st.DB, store.SessionFilter{Person: "Ida Strand"})
	require.NoError(t, err)
	require.Len(t, rows, 1)
	require.Equal(t, "h-00001", rows[0].Host)

	// Another host cannot confirm the order; its own can, and then it is not repeated.
	id := replies[2].Orders[0].ID
	thief, owner := beat(2, "[]"), beat(1, "[]")
	thief.Done, owner.Done = []int64{id}, nil
	_, err = st.SaveBeats(t.Context(), noon, []store.Beat{thief})
	require.NoError(t, err)
	replies, err = st.SaveBeats(t.Context(), noon, []store.Beat{owner})
	require.NoError(t, err)
	require.Len(t, replies[0].Orders, 1)
	owner.Done = []int64{id}
	replies, err = st.SaveBeats(t.Context(), noon, []store.Beat{owner})
	require.NoError(t, err)
	require.Empty(t, replies[0].Orders)
}

func TestOrdersAreWithdrawnAndForgotten(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	pool := hosts(t, st, 2)
	v := store.Version{ImageID: pool.ImageID, Number: "2026.11.1", State: image.Sealed, CreatedAt: noon}
	require.NoError(t, st.DB.Create(&v).Error)
	open := store.Rollover{PoolID: pool.ID, TargetID: v.ID, State: rollover.Running, CreatedAt: noon}
	over := open
	over.State, over.Settled = rollover.Finished, true
	require.NoError(t, st.DB.Create(&open).Error)
	require.NoError(t, st.DB.Create(&over).Error)
	order := func(text string, host, rollover int64, created time.Time, done bool) {
		o := store.Order{HostID: host, Kind: agent.ShowText, SessionKey: "s", Text: text, CreatedAt: created}
		if rollover != 0 {
			o.RolloverID = &rollover
		}
		if done {
			o.DoneAt = &noon
		}
		require.NoError(t, st.DB.Create(&o).Error)
	}
	order("told by the open rollover", 1, open.ID, noon.Add(-48*time.Hour), true)
	order("ordered by the open rollover", 1, open.ID, noon, false)
	order("the same of another host", 2, open.ID, noon, false)
	order("ordered by one that is over", 1, over.ID, noon, false)
	order("told by a person", 1, 0, noon, true)
	order("ordered by a person", 1, 0, noon, false)
	order("ordered by a person two days ago", 1, 0, noon.Add(-48*time.Hour), false)
	left := func(what func(tx *store.Tx) error) (texts []string) {
		require.NoError(t, st.Change(t.Context(), "test", noon, what))
		require.NoError(t, st.DB.Raw("select text from orders order by id").Scan(&texts).Error)
		return texts
	}
	require.Equal(t, []string{
		"told by the open rollover", "ordered by the open rollover", "the same of another host",
		"ordered by a person",
	},
		left(func(tx *store.Tx) error { return store.PruneOrders(tx, 24*time.Hour) }))
	require.Equal(t, []string{"told by the open rollover", "the same of another host", "ordered by a person"},
		left(func(tx *store.Tx) error {
			return tx.TakeSteps(open, []store.Step{{
				Host: 1, Kind: rollover.Refill, From: host.Serving,
				To: host.Draining,
			}})
		}))
	require.Equal(t, []string{"told by the open rollover", "the same of another host"},
		left(func(tx *store.Tx) error {
			return errors.Join(
				tx.TakeSteps(open, []store.Step{{
					Host: 1, Kind: rollover.EmptyHost, From: host.Draining,
					To: host.Emptied,
				}}),
				tx.TakeSteps(open, []store.Step{{
					Host: 1, Kind: rollover.Rebuild, From: host.Emptied,
					To: host.Rebuilding,
				}}))
		}), "a new machine is told nothing that was meant for the old one's people")
}

// running is a rollover of the pool to a version that is made for it.
func running(t *testing.T, st *store.Store, pool store.Pool) store.Rollover {
	t.Helper()
	v := store.Version{ImageID: pool.ImageID, Number: "2026.11.1", State: image.Sealed, CreatedAt: noon}
	require.NoError(t, st.DB.Create(&v).Error)
	r := store.Rollover{PoolID: pool.ID, TargetID: v.ID, State: rollover.Running, CreatedAt: noon}
	require.NoError(t, st.DB.Create(&r).Error)
	return r
}

func TestStepsAreTakenTogetherOrNotAtAll(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	pool := hosts(t, st, 4)
	r := running(t, st, pool)
	for id := range int64(4) {
		require.NoError(t, st.DB.Create(&store.RolloverHost{
			RolloverID: r.ID, HostID: id + 1, Phase: rollover.Queued,
			Since: noon,
		}).Error)
	}
	take := func(steps ...store.Step) error {
		return st.Change(t.Context(), "test", noon.Add(time.Hour),
			func(tx *store.Tx) error { return tx.TakeSteps(r, steps) })
	}
	drain := func(id int64) store.Step {
		return store.Step{
			Host: id, Kind: rollover.DrainHost, From: host.Serving, To: host.Draining,
			Phase: rollover.Draining, Batch: 1,
		}
	}
	states := func() (out []string) {
		require.NoError(t, st.DB.Raw(`select h.state || ' ' || m.phase || ' ' || m.batch || ' ' || m.why from hosts h join rollover_hosts m on m.host_id = h.id order by h.id`).Scan(&out).Error)
		return out
	}
	require.NoError(t, take(drain(1), drain(2), store.Step{
		Host: 3, Kind: rollover.Leave, Phase: rollover.Left,
		Why: "it runs the version already",
	}))
	now := []string{
		"draining draining 1 ", "draining draining 1 ", "serving left 0 it runs the version already",
		"serving queued 0 ",
	}
	require.Equal(t, now, states())
	var drains []int64
	require.NoError(t, st.DB.Raw("select drain_order from hosts order by id").Scan(&drains).Error)
	require.NotEqual(t, drains[0], drains[1], "each has an order of its own")
	require.Zero(t, drains[2]+drains[3])

	// One of them was drained by a person meanwhile: nothing is done to any.
	require.ErrorIs(t, take(drain(4), drain(1)), store.ErrMoved)
	require.Equal(t, now, states())

	// A host that fails keeps its disk, or has none any more.
	empty := func(id int64) store.Step {
		return store.Step{
			Host: id, Kind: rollover.EmptyHost, From: host.Draining, To: host.Emptied,
			Phase: rollover.Emptied, Batch: 1,
		}
	}
	require.NoError(t, take(empty(1), empty(2)))
	require.NoError(t, take(
		store.Step{
			Host: 1, Kind: rollover.Rebuild, From: host.Emptied, To: host.Rebuilding,
			Phase: rollover.Rebuilding,
		},
		store.Step{
			Host: 2, Kind: rollover.Fail, From: host.Emptied, To: host.Serving, Phase: rollover.Failed,
			Why: "would not end",
		},
		store.Step{Host: 4, Kind: rollover.WarnHost, Phase: rollover.Warned},
	))
	require.Equal(t, []string{
		"rebuilding rebuilding 1 ", "serving failed 1 would not end",
		"serving left 0 it runs the version already", "serving warned 0 ",
	}, states())
	type kept struct {
		Machine, Unserved bool
		DrainOrder        int64
		Why               string
	}
	var two []kept
	require.NoError(t, st.DB.Raw("select machine, unserved, drain_order, why from hosts where id < 3 order by id").Scan(
		&two).Error)
	require.Equal(t, []kept{{false, true, drains[0], ""}, {true, false, 0, ""}}, two)
	require.NoError(t, take(store.Step{
		Host: 1, Kind: rollover.Fail, From: host.Rebuilding, To: host.Faulty,
		Phase: rollover.Failed, Why: "no space",
	}))
	require.NoError(t, st.DB.Raw("select machine, unserved, drain_order, why from hosts where id = 1").Scan(&two).Error)
	require.Equal(t, []kept{{false, true, drains[0], "no space"}}, two)
	var wiped []int64
	require.NoError(t, st.DB.Raw("select host_id from rollover_hosts where wiped").Scan(&wiped).Error)
	require.Equal(t, []int64{1}, wiped)
}

func TestAnEnrolmentTokenIsGoodUntilItsCredentialIsUsed(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	hosts(t, st, 1)
	require.NoError(t, st.DB.Exec("insert into enrolments (token, host_id, created_at) select 'secret', id, now() "+
		"from hosts").Error)
	h, err := st.Enrol(t.Context(), []byte("secret"), []byte("credential"), noon)
	require.NoError(t, err)
	require.Equal(t, "h-00000", h.Name)
	_, err = st.Enrol(t.Context(), []byte("secret"), []byte("after a lost answer"), noon)
	require.NoError(t, err)
	require.NoError(t, st.DB.Exec("update pulses set seen_at = now()").Error)
	_, err = st.Enrol(t.Context(), []byte("secret"), []byte("another"), noon)
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = st.Enrol(t.Context(), []byte("guess"), []byte("another"), noon)
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestATestMachineEnrolsWithTheTokenOfAnyAttempt(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	hosts(t, st, 1)
	var id int64
	require.NoError(t, st.DB.Raw("with v as (insert into versions (image_id, number, state, source, captured_by, "+
		"created_at) "+
		"select id, '1', 'sealed', 'x', 'ida', now() from images limit 1 returning id) insert into proofs "+
		"(version_id, "+
		"site_id, "+
		"state, asked_by, asked_at) select v.id, s.id, 'starting', 'ida', now() from v, sites s limit 1 returning id").
		Scan(&id).Error)
	for _, token := range []string{"whose answer was lost", "of the next attempt"} {
		require.NoError(t, store.AddProofToken(st.DB, id, []byte(token)))
	}
	for _, credential := range []string{"lost as well", "kept"} {
		p, err := st.EnrolProof(t.Context(), []byte("whose answer was lost"), []byte(credential), noon)
		require.NoError(t, err)
		require.Equal(t, id, p.ID)
	}
	_, err := st.SaveProofBeat(t.Context(), []byte("lost as well"), agent.Heartbeat{}, noon)
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = st.SaveProofBeat(t.Context(), []byte("kept"), agent.Heartbeat{}, noon)
	require.NoError(t, err)
	_, err = st.EnrolProof(t.Context(), []byte("whose answer was lost"), []byte("another"), noon)
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestTheDatabaseKeepsOneRolloverAPool(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	pool := hosts(t, st, 1)
	v := store.Version{ImageID: pool.ImageID, Number: "2026.11.1", State: image.Sealed, CreatedAt: noon}
	require.NoError(t, st.DB.Create(&v).Error)
	one := store.Rollover{PoolID: pool.ID, TargetID: v.ID, State: rollover.Waiting, CreatedAt: noon}
	two := one
	require.NoError(t, st.DB.Create(&one).Error)
	require.ErrorContains(t, st.DB.Create(&two).Error, "one_rollover_a_pool")
}

func TestOpeningTwiceIsOpeningOnce(t *testing.T) {
	t.Parallel()
	url := storetest.URL(t)
	var openers sync.WaitGroup
	for range 4 {
		openers.Go(func() {
			st, err := store.Open(t.Context(), url)
			if err == nil {
				st.Close()
			}
			require.NoError(t, err)
		})
	}
	openers.Wait()
	_, err := store.Open(t.Context(), "postgres://127.0.0.1:1/nothing?connect_timeout=1")
	require.Error(t, err)
}

func TestExportedEntriesVerifyElsewhere(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	record(t, st, 5)
	var v trail.Verifier
	require.NoError(t, st.EachTrail(t.Context(), store.TrailFilter{}, v.Next))
}

// BenchmarkHeartbeats writes batches of a thousand.
func BenchmarkHeartbeats(b *testing.B) {
	st := storetest.Open(b)
	hosts(b, st, 10_000)
	batch := make([]store.Beat, 1000)
	b.ResetTimer()
	n := 0
	for b.Loop() {
		for i := range batch {
			batch[i] = beat((n*1000+i)%10_000, `[{"key":"s1","person":"Ida Strand","state":"active","since":"2026-11-23T11:00:00Z"}]`)
		}
		n++
		_, err := st.SaveBeats(context.Background(), noon, batch)
		require.NoError(b, err)
	}
	b.ReportMetric(float64(n*1000)/b.Elapsed().Seconds(), "beats/s")
}

// BenchmarkHostPage reads a page of 200 out of 10,000 hosts.
func BenchmarkHostPage(b *testing.B) {
	st := storetest.Open(b)
	hosts(b, st, 10_000)
	require.NoError(b, st.DB.Exec("analyze").Error)
	b.ResetTimer()
	for b.Loop() {
		rows, err := store.HostRows(st.DB, store.HostFilter{Pool: "p", After: "h-05000", Limit: 200})
		require.NoError(b, err)
		require.Len(b, rows, 200)
	}
}

func TestTriesAtOnceAreCountedAndNoneWaitsBeforeItsTime(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	const free, tries = 20, 40
	address := store.Trier{Key: "address 192.0.2.1", Free: free, Most: time.Hour}
	waits := make(chan time.Duration, tries)
	for i := range tries {
		go func() {
			wait, err := st.CountTry(context.Background(),
				store.Trier{Key: fmt.Sprintf("name %d", i), Free: free, Most: time.Minute}, address)
			if !assert.NoError(t, err) {
				wait = -1
			}
			waits <- wait
		}()
	}
	let := 0
	for range tries {
		if <-waits == 0 {
			let++
		}
	}
	require.Equal(t, free, let)
}

func TestTheDatabaseRefusesWhatTheTableOfHostsDoesNotKnow(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	hosts(t, st, 1)
	for _, from := range host.States() {
		for _, to := range host.States() {
			// What a state asks of its host is not what this is about.
			require.NoError(t, st.DB.Exec("alter table hosts disable trigger host_changes_state").Error)
			require.NoError(t, st.DB.Exec("update hosts set state = ?, machine = true, unserved = false, vouched_at "+
				"= null", from).Error)
			require.NoError(t, st.DB.Exec("alter table hosts enable trigger host_changes_state").Error)
			err := st.DB.Exec("update hosts set state = ?", to).Error
			if from.CanBecome(to) {
				require.NoError(t, err, "%s to %s", from, to)
			} else {
				require.ErrorContains(t, err, fmt.Sprintf("is %s: it cannot become %s", from, to))
				require.True(t, store.IsRefusal(err))
			}
		}
	}
	require.NoError(t, st.DB.Exec("update hosts set state = 'faulty'").Error)
	err := st.Change(t.Context(), "test", noon, func(tx *store.Tx) error {
		h, err := store.HostByID(tx.DB, 1)
		if err != nil {
			return err
		}
		return tx.MoveHost(&h, host.Rebuilding)
	})
	require.ErrorContains(t, err, "is faulty: it cannot become rebuilding")
}

func TestAnErrorOfTheDatabaseSaysWhatWasAsked(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	db := st.DB.WithContext(gone)
	_, err := store.Images(db)
	require.ErrorContains(t, err, "store.Images: ")
	require.ErrorIs(t, err, context.Canceled)
	_, err = store.ImageNamed(db, "counter-desk") // by way of what all of its kind share
	require.ErrorContains(t, err, "store.ImageNamed: ")
	_, err = store.RebuildsAt(db, 1, store.Rollover{}, noon)
	require.ErrorContains(t, err, "store.RebuildsAt: ")

	require.NoError(t, st.DB.Exec("drop table enrolments cascade").Error)
	_, err = st.Enrol(t.Context(), []byte("a"), []byte("b"), noon)
	require.ErrorContains(t, err, `store.Enrol: ERROR: relation "enrolments" does not exist`)
	require.ErrorContains(t, st.DB.Exec("select from nothing").Error, "ERROR: relation") // nobody of the store asked
	require.NotContains(t, st.DB.Exec("select from nothing").Error.Error(), "store.")
}

func TestARolloverIsChangedByOneAtATime(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	pool := hosts(t, st, 1)
	r := running(t, st, pool)
	take := func(ctx context.Context, patience string) error {
		return st.Change(ctx, "tove", noon, func(tx *store.Tx) error {
			if err := tx.Exec("set local lock_timeout = '" + patience + "'").Error; err != nil {
				return err
			}
			_, err := store.LockRollover(tx.DB, r.ID)
			return err
		})
	}
	for what, hold := range map[string]func(*store.Tx) error{
		"by itself": func(tx *store.Tx) error { _, err := store.LockRollover(tx.DB, r.ID); return err },
		"with the pool's others": func(tx *store.Tx) error {
			open, err := store.LockOpenRollovers(tx.DB, pool.ID)
			require.Len(t, open, 1)
			return err
		},
	} {
		require.NoError(t, st.Change(t.Context(), "ida", noon, func(tx *store.Tx) error {
			require.NoError(t, hold(tx), what)
			require.ErrorContains(t, take(t.Context(), "20ms"), "lock timeout", what)
			return nil
		}))
		require.NoError(t, take(t.Context(), "10s"), what)
	}
	_, err := store.LockRollover(st.DB, 1<<40)
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestWhatTheDatabaseWouldNotHaveIsUndoneByItself(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	err := s.Change(t.Context(), "tove", time.Now(), func(tx *store.Tx) error {
		err := tx.Try(func(tx *store.Tx) error {
			if err := tx.Create(&store.Image{Name: "half", Numbering: image.Calendar}).Error; err != nil {
				return err
			}
			return tx.Exec("select * from json_to_recordset('null') r(a text)").Error
		})
		require.True(t, store.IsOfData(err), "%v", err)
		require.False(t, store.IsOfData(errors.New("the connection was lost")))
		return tx.Create(&store.Image{Name: "whole", Numbering: image.Calendar}).Error
	})
	require.NoError(t, err)
	images, err := store.Images(s.DB)
	require.NoError(t, err)
	require.Len(t, images, 1)
	require.Equal(t, "whole", images[0].Name)
}
