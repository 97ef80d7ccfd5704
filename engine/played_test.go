package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/estate"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
	"nimblepane/platform"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

// played is an engine without its loops: the test lets time pass, ticks the
// rollovers, ends the works and speaks for the agents.
type played struct {
	*Engine
	t        require.TestingT
	ctx      context.Context
	clock    *stopped
	versions []string
	pools    []string
}

// stopped is a clock that moves when it is moved.
type stopped struct{ at time.Time }

func (s *stopped) Now() time.Time { return s.at }
func (*stopped) Rate() float64    { return 1 }

// roomy is a platform that has room; its works are ended by the test.
type roomy struct{ platform.Platform }

func (roomy) CheckRoom(context.Context, []string, string) error { return nil }
func (roomy) Close()                                            {}

const playedEstate = `
sites:
  - {name: north-quay, platform: practice, address: http://127.0.0.1:1, starts-per-minute: 600, clones-per-copy: 100}
images:
  - {name: desk, machine-class: standard, clearance: {testers: 0, soak: 0s, copies: 1}}
pools:
  - {name: pilot, site: north-quay, image: desk, track: pilot, hosts: 2, host-prefix: pi, seats-per-host: 4, machine-class: standard}
  - {name: counters, site: north-quay, image: desk, track: live, hosts: 5, host-prefix: co, seats-per-host: 4, machine-class: standard}
  - {name: office, site: north-quay, image: desk, track: live, hosts: 4, host-prefix: of, seats-per-host: 4, machine-class: standard}
`

// play returns an estate of three pools with four versions that can be used.
func play(t testing.TB) *played { return playOn(t, storetest.Open(t)) }

func playOn(t require.TestingT, st *store.Store) *played {
	p := &played{t: t, ctx: context.Background(), clock: &stopped{time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)}, pools: []string{"pilot", "counters", "office"}}
	opener := func(estate.Site, platform.Environment) (platform.Platform, error) { return roomy{}, nil }
	var err error
	p.Engine, err = New(st, p.clock, Options{Platforms: map[string]platform.Opener{"practice": opener}, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	require.NoError(t, err)
	_, err = p.LoadEstate(p.ctx, "tove", []byte(playedEstate), false)
	require.NoError(t, err)
	img, err := store.ImageNamed(st.DB, "desk")
	require.NoError(t, err)
	for n := 1; n <= 4; n++ {
		number := fmt.Sprintf("2026.11.%d", n)
		v := store.Version{ImageID: img.ID, Number: number, State: store.Sealed, Digest: "sha256:" + number, Source: "north-quay/bm", CreatedAt: p.clock.at}
		require.NoError(t, st.DB.Create(&v).Error)
		require.NoError(t, st.DB.Create(&store.Copy{VersionID: v.ID, SiteID: 1, Ordinal: 1, State: "present"}).Error)
		p.versions = append(p.versions, number)
	}
	return p
}

// step lets half a minute pass: agents report, works end, rollovers tick.
func (p *played) step() {
	p.clock.at = p.clock.at.Add(30 * time.Second)
	db := p.Store.DB
	require.NoError(p.t, db.Exec(`update pulses u set seen_at = ?, drain_confirmed = h.drain_order, checks_order = h.check_order, checks = 'passed', sessions = '[]',
		stamp = 'desk ' || v.number from hosts h join versions v on v.id = h.version_id where u.host_id = h.id and h.machine`, p.clock.at).Error)
	var works []store.Work
	require.NoError(p.t, db.Where("state in ('asked', 'under way')").Find(&works).Error)
	for _, w := range works {
		v, err := store.VersionByID(db, w.VersionID)
		require.NoError(p.t, err)
		require.NoError(p.t, p.workEnded(p.ctx, w, platform.Progress{State: platform.Succeeded, Digest: v.Digest}))
	}
	var open []int64
	require.NoError(p.t, db.Raw("select id from rollovers where not settled order by id").Scan(&open).Error)
	for _, id := range open {
		require.NoError(p.t, p.tick(p.ctx, id))
	}
	require.NoError(p.t, p.sweep(p.ctx))
}

// settle goes on until no rollover is open; paused ones are resumed.
func (p *played) settle() {
	for range 300 {
		var open []store.Rollover
		require.NoError(p.t, p.Store.DB.Where("not settled").Find(&open).Error)
		if len(open) == 0 {
			return
		}
		for _, r := range open {
			if r.State == rollover.Paused {
				require.NoError(p.t, p.ResumeRollover(p.ctx, "tove", r.ID, ""))
			}
		}
		p.step()
	}
	require.Fail(p.t, "the rollovers did not end")
}

// names returns the number of the version that a track names, "" if it names none.
func (p *played) names(track string) string {
	img, err := store.ImageNamed(p.Store.DB, "desk")
	require.NoError(p.t, err)
	row, err := store.TrackNamed(p.Store.DB, img, track)
	require.NoError(p.t, err)
	if row.VersionID == nil {
		return ""
	}
	v, err := store.VersionByID(p.Store.DB, *row.VersionID)
	require.NoError(p.t, err)
	return v.Number
}

// lost lists hosts of pools that follow live and neither run what they should nor are on their way to it.
func (p *played) lost() (out []string) {
	require.NoError(p.t, p.Store.DB.Raw(`
		select h.name || ' ' || h.state || ' ' || coalesce(v.number, '-') from hosts h join pools p on p.id = h.pool_id
		join pool_targets t on t.pool_id = p.id left join versions v on v.id = h.version_id
		where p.track = 'live' and p.pinned_id is null and t.version_id is not null and h.drained_by = ''
		  and not (h.version_id is not distinct from t.version_id and h.state = 'serving')
		  and not exists (select from rollover_hosts m join rollovers r on r.id = m.rollover_id
		    where m.host_id = h.id and r.target_id = t.version_id and r.state <> 'stopped' and not r.settled and m.phase not in ('done', 'failed', 'left'))`).Scan(&out).Error)
	return out
}

// act does one thing that people do, by chance. It returns the error, which is a Problem or nothing.
func (p *played) act(t *rapid.T) (what string, err error) {
	version := rapid.SampledFrom(p.versions).Draw(t, "version")
	pool := rapid.SampledFrom(p.pools).Draw(t, "pool")
	var last int64
	require.NoError(t, p.Store.DB.Raw("select coalesce(max(r.id), 0) from rollovers r join pools p on p.id = r.pool_id where p.name = ?", pool).Scan(&last).Error)
	host := map[string]string{"pilot": "pi-001", "counters": "co-001", "office": "of-001"}[pool]
	what = rapid.SampledFrom([]string{
		"stage", "activate", "rollback", "rollback to", "pin", "unpin", "start", "start", "start", "stop", "pause", "resume", "reverse",
		"drain", "return", "rebuild", "step", "step", "step",
	}).Draw(t, "act")
	switch what {
	case "stage":
		err = p.Stage(p.ctx, "jonas", "desk", version, Staging{})
	case "activate":
		err = p.Activate(p.ctx, "tove", "desk", version, Activation{Overrule: true, Reason: "now"})
	case "rollback":
		_, err = p.Rollback(p.ctx, "tove", RollbackRequest{Image: "desk", Leaves: p.names(image.Live), Reason: "bad", KeepUsable: rapid.Bool().Draw(t, "keep")})
	case "rollback to":
		_, err = p.Rollback(p.ctx, "tove", RollbackRequest{Image: "desk", Leaves: p.names(image.Live), To: version, Reason: "bad", KeepUsable: rapid.Bool().Draw(t, "keep")})
	case "pin":
		err = p.Pin(p.ctx, "tove", pool, version, Pinning{Reason: "stays", Approved: true, Overrule: true})
	case "unpin":
		err = p.Unpin(p.ctx, "tove", pool, "")
	case "start":
		o := rollover.DefaultOptions
		o.Batch, o.Floor = rollover.Share{Value: rapid.SampledFrom([]int{20, 50, 100}).Draw(t, "batch"), Percent: true}, rollover.Share{}
		_, err = p.StartRollovers(p.ctx, "jonas", StartRequest{Pools: []string{pool}, Options: o})
	case "stop":
		err = p.StopRollover(p.ctx, "jonas", last, "")
	case "pause":
		err = p.PauseRollover(p.ctx, "jonas", last, "")
	case "resume":
		err = p.ResumeRollover(p.ctx, "jonas", last, "")
	case "reverse":
		_, err = p.ReverseRollover(p.ctx, "jonas", last, "back")
	case "drain":
		err = p.Drain(p.ctx, "jonas", host, "")
	case "return":
		err = p.Return(p.ctx, "jonas", host, "")
	case "rebuild":
		_, err = p.Rebuild(p.ctx, "jonas", RebuildRequest{Host: host})
	case "step":
		p.step()
	}
	var known *Problem
	if err != nil && !errors.As(err, &known) && !errors.Is(err, store.ErrNotFound) {
		require.NoError(t, err, what)
	}
	return what, err
}

func TestAfterARollbackEveryHostIsOnItsWayToWhatItShouldRun(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	rapid.Check(t, func(rt *rapid.T) {
		require.NoError(rt, st.DB.Exec("truncate sites, images, trail, events restart identity cascade").Error)
		p := playOn(rt, st)
		require.NoError(rt, p.Activate(p.ctx, "tove", "desk", p.versions[0], Activation{Overrule: true, Reason: "first"}))
		require.NoError(rt, p.Stage(p.ctx, "tove", "desk", p.versions[0], Staging{}))
		for range rapid.IntRange(5, 30).Draw(rt, "acts") {
			what, err := p.act(rt)
			if err == nil && strings.HasPrefix(what, "rollback") {
				require.Empty(rt, p.lost(), "after a rollback")
			}
		}
		for _, pool := range p.pools {
			_ = p.Unpin(p.ctx, "tove", pool, "")
		}
		for _, host := range []string{"pi-001", "co-001", "of-001"} {
			_ = p.Return(p.ctx, "jonas", host, "")
		}
		p.settle()
		if _, err := p.Rollback(p.ctx, "tove", RollbackRequest{Image: "desk", Leaves: p.names(image.Live), Reason: "bad"}); err != nil {
			return // nothing to go back to
		}
		p.settle()
		require.Empty(rt, p.lost())
		var ghosts int64
		require.NoError(rt, p.Store.DB.Model(&store.Host{}).Where("state not in ('serving', 'off')").Count(&ghosts).Error)
		require.Zero(rt, ghosts)
	})
}

func TestTwoWhoRollBackAtOnceGoBackOneStep(t *testing.T) {
	t.Parallel()
	p := play(t)
	for _, v := range p.versions[:3] {
		require.NoError(t, p.Activate(p.ctx, "tove", "desk", v, Activation{Overrule: true, Reason: "next"}))
	}
	errs := make(chan error, 2)
	for range 2 {
		go func() {
			_, err := p.Rollback(p.ctx, "tove", RollbackRequest{Image: "desk", Leaves: p.versions[2], Reason: "bad"})
			errs <- err
		}()
	}
	first, second := <-errs, <-errs
	require.True(t, (first == nil) != (second == nil), "%v, %v", first, second)
	require.ErrorContains(t, errors.Join(first, second), "track live of desk names 2026.11.2, and not 2026.11.3: somebody moved it since you looked")
	require.Equal(t, p.versions[1], p.names(image.Live))
	moved := p.versions[0]
	err := p.Activate(p.ctx, "tove", "desk", p.versions[3], Activation{Overrule: true, Reason: "r", Leaves: &moved})
	require.ErrorContains(t, err, "names 2026.11.2, and not 2026.11.1")
}

func TestAStoppedRolloverOfAGrownPoolLeavesNoGhosts(t *testing.T) {
	t.Parallel()
	p := play(t)
	require.NoError(t, p.Activate(p.ctx, "tove", "desk", p.versions[0], Activation{Overrule: true, Reason: "first"}))
	o := rollover.DefaultOptions
	o.Batch, o.Floor = rollover.Share{Value: 100, Percent: true}, rollover.Share{}
	start := func() int64 {
		rows, err := p.StartRollovers(p.ctx, "jonas", StartRequest{Pools: []string{"counters"}, Options: o})
		require.NoError(t, err)
		return rows[0].ID
	}
	start()
	p.settle()
	_, err := p.LoadEstate(p.ctx, "tove", []byte(strings.Replace(playedEstate, "hosts: 5", "hosts: 29", 1)), false)
	require.NoError(t, err)
	id := start()
	require.NoError(t, p.tick(p.ctx, id))
	require.NoError(t, p.tick(p.ctx, id))
	require.NoError(t, p.StopRollover(p.ctx, "jonas", id, "not now"))
	p.settle()
	var states []string
	require.NoError(t, p.Store.DB.Raw("select distinct state || ' ' || machine from hosts where pool_id = (select id from pools where name = 'counters') order by 1").Scan(&states).Error)
	require.Equal(t, []string{"off false", "serving true"}, states)
}

func TestAWordThatAHostIsEmptyEndsWithItsRollover(t *testing.T) {
	t.Parallel()
	p := play(t)
	require.NoError(t, p.Activate(p.ctx, "tove", "desk", p.versions[0], Activation{Overrule: true, Reason: "first"}))
	o := rollover.DefaultOptions
	o.Batch, o.Floor = rollover.Share{Value: 100, Percent: true}, rollover.Share{}
	_, err := p.StartRollovers(p.ctx, "jonas", StartRequest{Pools: []string{"counters"}, Options: o})
	require.NoError(t, err)
	p.settle()
	p.listening = p.clock.at
	p.clock.at = p.clock.at.Add(10 * time.Minute)
	require.NoError(t, p.sweep(p.ctx))
	host := func() store.Host {
		h, err := store.HostNamed(p.Store.DB, "co-001")
		require.NoError(t, err)
		return h
	}
	require.Equal(t, rollover.HostFaulty, host().State)
	require.NoError(t, p.Store.DB.Exec("update copies set state = 'failed'").Error) // it has to wait for a clone
	r, err := p.Rebuild(p.ctx, "jonas", RebuildRequest{Host: "co-001", Vouched: true, Reason: "I stood before it"})
	require.NoError(t, err)
	require.NoError(t, p.tick(p.ctx, r.ID))
	require.NoError(t, p.tick(p.ctx, r.ID))
	require.Equal(t, rollover.HostEmptied, host().State)
	require.NoError(t, p.sweep(p.ctx))
	require.Equal(t, rollover.HostEmptied, host().State, "that it is silent is known")
	require.NoError(t, p.StopRollover(p.ctx, "jonas", r.ID, "not now"))
	require.NoError(t, p.tick(p.ctx, r.ID))
	h := host()
	require.Equal(t, rollover.HostFaulty, h.State)
	require.True(t, h.Silent, "it comes back when it is heard")
	require.Nil(t, h.VouchedAt)
	p.step()
	require.Equal(t, rollover.HostServing, host().State)
	require.EqualValues(t, 0, host().DrainOrder)
}

func TestPinningProductionNeedsWhatActivatingNeeds(t *testing.T) {
	t.Parallel()
	p := play(t)
	require.NoError(t, p.Activate(p.ctx, "tove", "desk", p.versions[0], Activation{Overrule: true, Reason: "first"}))
	pin := func(pool, version string, how Pinning) error {
		how.Reason = "stays"
		return p.Pin(p.ctx, "jonas", pool, version, how)
	}
	require.ErrorContains(t, pin("counters", p.versions[1], Pinning{}), "was never live: pinning production to it needs the role that activating needs")
	require.ErrorContains(t, pin("counters", p.versions[1], Pinning{Approved: true}), "has no clearance")
	require.NoError(t, pin("counters", p.versions[0], Pinning{}), "live named it")
	require.NoError(t, pin("pilot", p.versions[1], Pinning{}), "pilot is for trying")
	require.NoError(t, pin("office", p.versions[1], Pinning{Approved: true, Overrule: true}))
	var verb string
	require.NoError(t, p.Store.DB.Raw("select verb from trail order by seq desc limit 1").Scan(&verb).Error)
	require.Equal(t, "pool.overrule", verb)

	// Barring and pinning one version at the same time: one of them is refused.
	for range 10 {
		_ = p.Unpin(p.ctx, "jonas", "pilot", "")
		errs := make(chan error, 2)
		go func() { errs <- pin("pilot", p.versions[2], Pinning{}) }()
		go func() { errs <- p.Bar(p.ctx, "tove", "desk", p.versions[2], "bad") }()
		first, second := <-errs, <-errs
		require.False(t, first == nil && second == nil)
		require.NoError(t, p.Store.DB.Exec("update versions set barred = ''").Error)
	}
	require.ErrorContains(t, func() error {
		require.NoError(t, p.Activate(p.ctx, "tove", "desk", p.versions[1], Activation{Overrule: true, Reason: "next"}))
		_, err := p.Rollback(p.ctx, "tove", RollbackRequest{Image: "desk", Leaves: p.versions[1], Reason: "bad"})
		return err
	}(), "pool office is pinned to desk 2026.11.2, which rolling back bars")
}

func TestABatchOfHeartbeatsIsTakenApartForTheOneThatCannotBeKept(t *testing.T) {
	t.Parallel()
	p := play(t)
	var batch []waiting
	for n := 1; n <= 5; n++ {
		name := fmt.Sprintf("co-%03d", n)
		require.NoError(t, p.Store.DB.Exec("update pulses set credential = ? where host_id = (select id from hosts where name = ?)", []byte(name), name).Error)
		w := waiting{beat: store.Beat{Credential: []byte(name), Sessions: []byte("[]")}, reply: make(chan answered, 1)}
		if n == 3 {
			w.beat.Stamp = "what passes the door by mistake\x00"
		}
		batch = append(batch, w)
	}
	waiters := append([]waiting(nil), batch...)
	p.ingest.take(p.ctx, batch)
	for n, w := range waiters {
		a := <-w.reply
		if n == 2 {
			require.ErrorContains(t, a.err, "what the database cannot keep")
		} else {
			require.NoError(t, a.err)
			require.True(t, a.reply.Known)
		}
	}
}

func TestADryRunOfALargeEstateWritesNothing(t *testing.T) {
	t.Parallel()
	p := play(t)
	large := strings.Replace(playedEstate, "hosts: 5", "hosts: 100000", 1) +
		"  - {name: more, site: north-quay, image: desk, track: live, hosts: 5, host-prefix: mo, seats-per-host: 4, machine-class: standard}\n"
	r, err := p.LoadEstate(p.ctx, "tove", []byte(large), true)
	require.NoError(t, err)
	require.Equal(t, []string{"pool counters: hosts from 5 to 100000", "pool more: new, with 5 hosts following live of desk"}, r.Changes)
	var hosts int64
	require.NoError(t, p.Store.DB.Raw("select last_value from hosts_id_seq").Scan(&hosts).Error)
	require.EqualValues(t, 11, hosts, "not even a number is used up")
	new := strings.NewReplacer("north-quay", "east-quay", "name: desk", "name: bench", "image: desk", "image: bench", "name: pilot", "name: p2", "name: counters", "name: c2", "name: office", "name: o2", "prefix: pi", "prefix: p", "prefix: co", "prefix: c", "prefix: of", "prefix: o").Replace(playedEstate)
	r, err = p.LoadEstate(p.ctx, "tove", []byte(new), true)
	require.NoError(t, err)
	require.Len(t, r.Changes, 5)
}

func TestNothingFallsBackToWhatWasRetired(t *testing.T) {
	t.Parallel()
	p := play(t)
	for _, v := range p.versions[:3] {
		require.NoError(t, p.Activate(p.ctx, "tove", "desk", v, Activation{Overrule: true, Reason: "next"}))
	}
	require.NoError(t, p.Retire(p.ctx, "tove", "desk", p.versions[0], "two versions ago"))
	_, err := p.Rollback(p.ctx, "tove", RollbackRequest{Image: "desk", Leaves: p.versions[2], Reason: "bad"})
	require.NoError(t, err)
	require.Equal(t, p.versions[1], p.names(image.Live))
	_, err = p.Rollback(p.ctx, "tove", RollbackRequest{Image: "desk", Leaves: p.versions[1], Reason: "bad, too"})
	require.ErrorContains(t, err, "has no fallback")
}

// TestAPreviewSaysWhatTheActComesTo has every act previewed before it is done.
func TestAPreviewSaysWhatTheActComesTo(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	rapid.Check(t, func(rt *rapid.T) {
		require.NoError(rt, st.DB.Exec("truncate sites, images, trail, events restart identity cascade").Error)
		p := playOn(rt, st)
		entries := func() (n int64) {
			require.NoError(rt, st.DB.Raw("select count(*) from trail").Scan(&n).Error)
			return n
		}
		o := rollover.DefaultOptions
		o.Floor = rollover.Share{}
		for range 12 {
			r := PreviewRequest{Image: "desk", Number: rapid.SampledFrom(p.versions).Draw(rt, "version"), Pools: []string{rapid.SampledFrom(p.pools).Draw(rt, "pool")}, Options: o, Overrule: rapid.Bool().Draw(rt, "overrule"), Approved: true}
			r.Act = rapid.SampledFrom([]string{"stage", "activate", "activate", "rollback", "retire", "pin", "roll"}).Draw(rt, "act")
			before := entries()
			preview, err := p.Preview(p.ctx, "tove", r)
			require.NoError(rt, err)
			require.Equal(rt, before, entries(), "a preview changed something")
			switch r.Act {
			case "stage":
				err = p.Stage(p.ctx, "tove", "desk", r.Number, Staging{Leaves: &preview.Leaves})
			case "activate":
				err = p.Activate(p.ctx, "tove", "desk", r.Number, Activation{Overrule: r.Overrule, Reason: "r", Leaves: &preview.Leaves})
			case "rollback":
				_, err = p.Rollback(p.ctx, "tove", RollbackRequest{Image: "desk", To: r.Number, Reason: "r", Leaves: preview.Leaves})
			case "retire":
				err = p.Retire(p.ctx, "tove", "desk", r.Number, "r")
			case "pin":
				err = p.Pin(p.ctx, "tove", r.Pools[0], r.Number, Pinning{Reason: "r", Approved: true, Overrule: r.Overrule})
			case "roll":
				_, err = p.StartRollovers(p.ctx, "tove", StartRequest{Pools: r.Pools, Options: o})
			}
			if preview.Refused == nil {
				require.NoError(rt, err, "the preview of %s saw nothing against it", r.Act)
				require.NotEmpty(rt, preview.Will)
			} else {
				require.EqualError(rt, err, preview.Refused.Error())
			}
			p.step()
		}
	})
}

func TestPreviewsAreReadable(t *testing.T) {
	t.Parallel()
	p := play(t)
	preview := func(r PreviewRequest) Preview {
		r.Image, r.Options, r.Approved = "desk", rollover.DefaultOptions, true
		out, err := p.Preview(p.ctx, "tove", r)
		require.NoError(t, err)
		return out
	}
	require.NoError(t, p.Activate(p.ctx, "tove", "desk", p.versions[0], Activation{Overrule: true, Reason: "first"}))
	require.Equal(t, []string{
		"Track pilot of desk goes from nothing to 2026.11.2.",
		"2 hosts in 1 pool that follow pilot run another version: they drift until they are rolled over. Nobody's session changes now.",
		"Production does not change.",
	}, preview(PreviewRequest{Act: "stage", Number: p.versions[1]}).Will)
	a := preview(PreviewRequest{Act: "activate", Number: p.versions[1]})
	require.Equal(t, "2026.11.1", a.Leaves)
	require.Contains(t, a.Refused.Error(), "has no clearance")
	require.Contains(t, strings.Join(a.Will, " "), "2026.11.1 is kept as the fallback.")
	require.Equal(t, []string{"Pool counters: 5 hosts are taken to 2026.11.1 in batches of 1; 2 seats stay free and in service.", "Nobody is signed in there now."},
		preview(PreviewRequest{Act: "roll", Pools: []string{"counters"}}).Will)
	require.NoError(t, p.Activate(p.ctx, "tove", "desk", p.versions[1], Activation{Overrule: true, Reason: "next"}))
	require.Equal(t, "live of desk goes from 2026.11.2 back to 2026.11.1. 2026.11.2 is barred with your reason, for good.",
		strings.Join(preview(PreviewRequest{Act: "rollback"}).Will[:2], " "))
	_, err := p.Preview(p.ctx, "tove", PreviewRequest{Act: "fly"})
	require.ErrorContains(t, err, "use stage, activate, rollback, retire, pin or roll")
}
