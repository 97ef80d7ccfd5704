// Package enginetest plays an engine without its loops: a test lets time pass,
// has rollovers looked at, ends the works and speaks for the agents. It needs
// no platform, no HTTP and no waiting.
package enginetest

import (
	"context"
	"encoding/json"
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
	"nimblepane/core/problem"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/engine/builds"
	"nimblepane/engine/fleet"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/subjects"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

// Played is an engine without its loops: the test lets time pass, ticks the
// rollovers, ends the works and speaks for the agents.
type Played struct {
	*engine.Engine
	*subjects.Subjects
	Time    *Stopped
	Numbers []string // of the versions that can be used
	Pools   []string

	t   require.TestingT
	ctx context.Context
}

// Stopped is a clock that moves when it is moved.
type Stopped struct{ At time.Time }

func (s *Stopped) Now() time.Time { return s.At }

func (*Stopped) Rate() float64 { return 1 }

// roomy is a platform that has room; its works are ended by the test.
type roomy struct{ platform.Platform }

func (roomy) CheckRoom(context.Context, []string, string) error { return nil }

func (roomy) BuildMachines(context.Context) ([]platform.BuildMachine, error) { return nil, nil }

func (roomy) Close() {}

const Estate = `
sites:
  - {name: north-quay, platform: practice, address: http://127.0.0.1:1, starts-per-minute: 600, clones-per-copy: 100}
images:
  - {name: desk, machine-class: standard, clearance: {testers: 0, soak: 0s, copies: 1}}
pools:
  - {name: pilot, site: north-quay, image: desk, track: pilot, hosts: 2, host-prefix: pi, seats-per-host: 4, machine-class: standard}
  - {name: counters, site: north-quay, image: desk, track: live, hosts: 5, host-prefix: co, seats-per-host: 4, machine-class: standard}
  - {name: office, site: north-quay, image: desk, track: live, hosts: 4, host-prefix: of, seats-per-host: 4, machine-class: standard}
`

// Open returns an estate of three pools with four versions that can be used.
func Open(t testing.TB) *Played { return On(t, storetest.Open(t)) }

// On is Open in a database that is there.
func On(t require.TestingT, st *store.Store) *Played { return OnPlatform(t, st, roomy{}) }

// OnPlatform is On with a platform of the test's own.
func OnPlatform(t require.TestingT, st *store.Store, at platform.Platform) *Played {
	p := &Played{
		t: t, ctx: context.Background(), Time: &Stopped{time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)},
		Pools: []string{"pilot", "counters", "office"},
	}
	opener := func(estate.Site, platform.Environment) (platform.Platform, error) { return at, nil }
	var err error
	p.Engine, err = engine.New(st, p.Time, engine.Options{
		Platforms: map[string]platform.Opener{"practice": opener},
		Log:       slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	require.NoError(t, err)
	p.Subjects = subjects.Add(p.Engine, 0)
	_, err = p.Fleet.LoadEstate(p.ctx, "tove", []byte(Estate), false)
	require.NoError(t, err)
	img, err := store.ImageNamed(st.DB, "desk")
	require.NoError(t, err)
	for n := 1; n <= 4; n++ {
		number := fmt.Sprintf("2026.11.%d", n)
		v := store.Version{
			ImageID: img.ID, Number: number, State: image.Sealed, Digest: "sha256:" + number,
			Source: "north-quay/bm", CreatedAt: p.Time.At,
		}
		require.NoError(t, st.DB.Create(&v).Error)
		require.NoError(t, st.DB.Create(&store.Copy{
			VersionID: v.ID, SiteID: 1, Ordinal: 1,
			State: image.CopyPresent, ReadAt: &p.Time.At,
		}).Error)
		p.Numbers = append(p.Numbers, number)
	}
	return p
}

// Step lets half a minute pass: agents report, works end, rollovers tick.
func (p *Played) Step() {
	p.Time.At = p.Time.At.Add(30 * time.Second)
	db := p.Store.DB
	require.NoError(p.t, db.Exec(`update pulses u set seen_at = ?, drain_confirmed = h.drain_order, checks_order = h.check_order, checks = 'passed', sessions = '[]',
		stamp = 'desk ' || v.number from hosts h join versions v on v.id = h.version_id where u.host_id = h.id and h.machine`, p.Time.At).Error)
	var works []store.Work
	require.NoError(p.t, db.Where("state in ('asked', 'under way')").Find(&works).Error)
	for _, w := range works {
		if strings.HasSuffix(string(w.Kind), "-machine") || w.Kind == store.WorkCopyHost {
			// The disk of the one host cannot be read.
			end := platform.Progress{State: platform.Succeeded, Output: platform.CopyHost.Output(platform.Nothing{})}
			if w.Kind == store.WorkCopyHost && p.copiesFrom(w) == "of-001" {
				end = platform.Progress{State: platform.Failed, Why: "read error"}
			}
			require.NoError(p.t, p.WorkEnded(p.ctx, w.Key, end))
			continue
		}
		if w.Kind == store.WorkReadCopy {
			require.NoError(p.t, p.WorkEnded(p.ctx, w.Key, platform.Progress{
				State: platform.Succeeded, Output: platform.ReadCopy.Output(platform.Read{}),
			}))
			continue
		}
		var of struct{ Version int64 }
		require.NoError(p.t, json.Unmarshal(w.Input, &of))
		v, err := store.VersionByID(db, of.Version)
		require.NoError(p.t, err)
		output := platform.RebuildHost.Output(platform.Made{Digest: v.Digest})
		if w.Kind == store.WorkDeleteCopy || w.Kind == store.WorkDeleteDisk {
			output = platform.DeleteCopy.Output(platform.Nothing{})
		}
		require.NoError(p.t, p.WorkEnded(p.ctx, w.Key, platform.Progress{State: platform.Succeeded, Output: output}))
	}
	var open []int64
	require.NoError(p.t, db.Raw("select id from rollovers where not settled order by id").Scan(&open).Error)
	for _, id := range open {
		require.NoError(p.t, p.Tick(p.ctx, store.RolloverTicks, id))
	}
	require.NoError(p.t, p.Sweep(p.ctx))
	require.NoError(p.t, p.Builds.FollowWaiting(p.ctx))
}

// copiesFrom is the host whose disk a work copies.
func (p *Played) copiesFrom(w store.Work) string {
	var in struct{ Machine int64 }
	require.NoError(p.t, json.Unmarshal(w.Input, &in))
	m, err := store.MachineByID(p.Store.DB, in.Machine)
	require.NoError(p.t, err)
	return m.FromHost
}

// Settle goes on until no rollover is open; paused ones are resumed.
func (p *Played) Settle() {
	for range 300 {
		var open []store.Rollover
		require.NoError(p.t, p.Store.DB.Where("not settled").Find(&open).Error)
		if len(open) == 0 {
			return
		}
		for _, r := range open {
			if r.State == rollover.Paused {
				require.NoError(p.t, p.Rollovers.Resume(p.ctx, "tove", r.ID, ""))
			}
		}
		p.Step()
	}
	require.Fail(p.t, "the rollovers did not end")
}

// Retain gives the image a rule, as somebody does who was shown what goes by it.
func (p *Played) Retain(rule image.Retention) error {
	img, err := store.ImageNamed(p.Store.DB, "desk")
	require.NoError(p.t, err)
	all, err := versions.Retention(p.Store.DB, img, rule, p.Time.At)
	require.NoError(p.t, err)
	return p.Versions.SetRetention(p.ctx, "jonas", "desk", rule, versions.Going(all))
}

// Image is the estate's image.
func (p *Played) Image() store.Image {
	img, err := store.ImageNamed(p.Store.DB, "desk")
	require.NoError(p.t, err)
	return img
}

// Names returns the number of the version that a track names, "" if it names none.
func (p *Played) Names(track string) string {
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

// Lost lists hosts of pools that follow live and neither run what they should nor are on their way to it.
func (p *Played) Lost() (out []string) {
	require.NoError(p.t, p.Store.DB.Raw(`
		select h.name || ' ' || h.state || ' ' || coalesce(v.number, '-') from hosts h join pools p on p.id = h.pool_id
		join pool_targets t on t.pool_id = p.id left join versions v on v.id = h.version_id
		where p.track = 'live' and p.pinned_id is null and t.version_id is not null and h.drained_by = ''
		  and not (h.version_id is not distinct from t.version_id and h.state = 'serving')
		  and not exists (select from rollover_hosts m join rollovers r on r.id = m.rollover_id
		    where m.host_id = h.id and r.target_id = t.version_id and r.state <> 'stopped' and not r.settled and m.phase not in ('done', 'failed', 'left'))`).Scan(&out).Error)
	return out
}

// Act does one thing that people do, by chance. It returns the error, which is a Problem or nothing.
func (p *Played) Act(t *rapid.T) (what string, err error) {
	version := rapid.SampledFrom(p.Numbers).Draw(t, "version")
	pool := rapid.SampledFrom(p.Pools).Draw(t, "pool")
	var last int64
	require.NoError(t, p.Store.DB.Raw("select coalesce(max(r.id), 0) from rollovers r join pools p on p.id = "+
		"r.pool_id where p.name = ?", pool).Scan(&last).Error)
	host := map[string]string{"pilot": "pi-001", "counters": "co-001", "office": "of-001"}[pool]
	what = rapid.SampledFrom([]string{
		"stage", "activate", "rollback", "rollback to", "pin", "unpin", "start", "start", "start", "stop", "pause",
		"resume", "reverse",
		"drain", "return", "rebuild", "copy", "discard", "retain", "step", "step", "step",
	}).Draw(t, "act")
	switch what {
	case "stage":
		err = p.Versions.Stage(p.ctx, "jonas", "desk", version, versions.Staging{})
	case "activate":
		err = p.Versions.Activate(p.ctx, "tove", "desk", version, versions.Activation{Overrule: true, Reason: "now"})
	case "rollback":
		_, err = p.Rollovers.Rollback(p.ctx, "tove", rollovers.RollbackRequest{
			Image:  "desk",
			Leaves: p.Names(image.Live), Reason: "bad", KeepUsable: rapid.Bool().Draw(t, "keep"),
		})
	case "rollback to":
		_, err = p.Rollovers.Rollback(p.ctx, "tove", rollovers.RollbackRequest{
			Image:  "desk",
			Leaves: p.Names(image.Live), To: version, Reason: "bad", KeepUsable: rapid.Bool().Draw(t, "keep"),
		})
	case "pin":
		err = p.Fleet.Pin(p.ctx, "tove", pool, version, fleet.Pinning{Reason: "stays", Approved: true, Overrule: true})
	case "unpin":
		err = p.Fleet.Unpin(p.ctx, "tove", pool, "")
	case "start":
		o := rollover.DefaultOptions
		o.Batch, o.Floor = rollover.Share{Value: rapid.SampledFrom([]int{20, 50, 100}).Draw(t, "batch"), Percent: true},
			rollover.Share{}
		_, _, err = p.Rollovers.Start(p.ctx, "jonas", rollovers.StartRequest{Pools: []string{pool}, Options: o})
	case "stop":
		err = p.Rollovers.Stop(p.ctx, "jonas", last, "")
	case "pause":
		err = p.Rollovers.Pause(p.ctx, "jonas", last, "")
	case "resume":
		err = p.Rollovers.Resume(p.ctx, "jonas", last, "")
	case "reverse":
		_, err = p.Rollovers.Reverse(p.ctx, "jonas", last, "back")
	case "drain":
		err = p.Fleet.Drain(p.ctx, "jonas", host, "")
	case "return":
		err = p.Fleet.Return(p.ctx, "jonas", host, "")
	case "rebuild":
		_, err = p.Rollovers.Rebuild(p.ctx, "jonas", rollovers.RebuildRequest{Host: host})
	case "copy":
		_, err = p.Builds.CreateMachine(p.ctx, "jonas", builds.MachineRequest{
			Site: "north-quay", Name: "bm-" + host, Host: host,
		})
	case "discard":
		_, err = p.Builds.DiscardMachine(p.ctx, "jonas", "north-quay", "bm-"+host)
	case "retain":
		err = p.Retain(image.Retention{Keep: rapid.IntRange(2, 4).Draw(t, "keep")})
	case "step":
		p.Step()
	}
	var known *problem.Problem
	if err != nil && !errors.As(err, &known) && !errors.Is(err, store.ErrNotFound) {
		require.NoError(t, err, what)
	}
	return what, err
}
