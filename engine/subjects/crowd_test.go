package subjects_test

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

// TestACrowdThatDoesEverythingAtOnce has eight people do all acts at random on
// a few pools at the same time: the service answers each of them, and what
// must always hold does.
func TestACrowdThatDoesEverythingAtOnce(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	one := s.Live("ticket-counters", "back-office")
	versions := []string{
		one, s.Captured("counter-desk", "bm-counter"), s.Captured("counter-desk", "bm-counter"),
		s.Captured("counter-desk", "bm-counter"),
	}
	pools := []string{"ticket-pilot", "ticket-counters", "back-office"}
	hosts := []string{"tp-001", "tc-001", "tc-002", "bo-001"}
	admin := s.As(role.Administrator)
	ctx := t.Context()

	acts := []func(*rand.Rand) error{
		func(r *rand.Rand) error {
			_, err := admin.Stage(ctx, "counter-desk", pick(r, versions), client.Staging{})
			return err
		},
		func(r *rand.Rand) error {
			_, err := admin.Activate(ctx, "counter-desk", pick(r, versions),
				client.Activation{Overrule: true, Reason: "r", Redirect: r.IntN(2) == 0})
			return err
		},
		func(r *rand.Rand) error {
			img, err := admin.Image(ctx, "counter-desk")
			if err != nil {
				return err
			}
			_, err = admin.Rollback(ctx, "counter-desk", client.Rollback{
				Leaves: img.Tracks[1].Version, Reason: "r",
				KeepUsable: r.IntN(4) > 0,
			})
			return err
		},
		func(r *rand.Rand) error { _, err := admin.Bar(ctx, "counter-desk", pick(r, versions), "r"); return err },
		func(r *rand.Rand) error {
			_, err := admin.Retire(ctx, "counter-desk", pick(r, versions), "r")
			return err
		},
		func(r *rand.Rand) error {
			_, err := admin.Capture(ctx, "counter-desk", client.Capture{BuildMachine: "bm-counter"})
			return err
		},
		func(r *rand.Rand) error {
			_, err := admin.Pin(ctx, pick(r, pools), client.Pin{
				Version: pick(r, versions), Reason: "r",
				Overrule: true,
			})
			return err
		},
		func(r *rand.Rand) error { _, err := admin.Unpin(ctx, pick(r, pools), ""); return err },
		func(r *rand.Rand) error {
			some := append([]string(nil), pools...)
			r.Shuffle(len(some), func(i, j int) { some[i], some[j] = some[j], some[i] })
			_, _, err := admin.StartRollovers(ctx, client.StartRollovers{
				Pools:   some[:1+r.IntN(len(some))],
				Options: servicetest.Quick,
			})
			return err
		},
		func(r *rand.Rand) error {
			open, err := admin.Rollovers(ctx, "", "", true, 10)
			if err != nil || len(open) == 0 {
				return err
			}
			_, err = admin.ChangeRollover(ctx, open[r.IntN(len(open))].ID,
				pick(r, []string{"pause", "resume", "stop", "reverse"}), "r")
			return err
		},
		func(r *rand.Rand) error { _, err := admin.DrainHost(ctx, pick(r, hosts), "r"); return err },
		func(r *rand.Rand) error { _, err := admin.ReturnHost(ctx, pick(r, hosts), "r"); return err },
		func(r *rand.Rand) error {
			_, err := admin.RebuildHost(ctx, pick(r, hosts), client.RebuildHost{Reason: "r", VouchEmpty: true})
			return err
		},
		func(r *rand.Rand) error {
			_, err := admin.LoadEstate(ctx, s.EstateFile(servicetest.Estate), r.IntN(2) == 0)
			return err
		},
		func(r *rand.Rand) error {
			v, err := admin.Version(ctx, "counter-desk", pick(r, versions))
			if err != nil {
				return err
			}
			notes := "n"
			_, err = admin.EditVersion(ctx, "counter-desk", v.Number, v.Revision, client.VersionEdit{Notes: &notes})
			return err
		},
		func(r *rand.Rand) error {
			// The newest version is edited while its capture ends.
			list, err := admin.Versions(ctx, "counter-desk")
			if err != nil || len(list) == 0 {
				return err
			}
			tags := []string{pick(r, []string{"a", "b"})}
			_, err = admin.EditVersion(ctx, "counter-desk", list[0].Number, list[0].Revision,
				client.VersionEdit{Tags: &tags})
			return err
		},
		func(r *rand.Rand) error {
			_, err := admin.Unblock(ctx, "counter-desk", pick(r, versions), "r")
			return err
		},
		func(r *rand.Rand) error {
			_, err := admin.Sign(ctx, "counter-desk", pick(r, versions), client.Sign{Yes: r.IntN(2) > 0, Comment: "c"})
			return err
		},
		func(r *rand.Rand) error { _, err := admin.Today(ctx); return err },
	}
	var crowd sync.WaitGroup
	refused := make(chan error, 10_000)
	done := make([]int, len(acts))
	var mu sync.Mutex
	for person := range 8 {
		crowd.Go(func() {
			r := rand.New(rand.NewPCG(uint64(person), 7))
			for range 60 {
				n := r.IntN(len(acts))
				err := acts[n](r)
				var e *client.Error
				switch {
				case err == nil:
					mu.Lock()
					done[n]++
					mu.Unlock()
				case !errors.As(err, &e) || e.Status >= 500:
					refused <- err
				}
			}
		})
	}
	crowd.Go(func() {
		for range 60 {
			rulesHold(t, s)
		}
	})
	crowd.Wait()
	close(refused)
	for err := range refused {
		require.NoError(t, err)
	}
	different := 0
	for _, n := range done {
		if n > 0 {
			different++
		}
	}
	require.Greater(t, different, len(acts)/2, "hardly anything was done: %v", done)
	rulesHold(t, s)
	verdict, err := admin.VerifyTrail(context.WithoutCancel(ctx), "")
	require.NoError(t, err)
	require.Empty(t, verdict.Breaks)
}

func pick(r *rand.Rand, list []string) string { return list[r.IntN(len(list))] }

// rulesHold asserts rules 2, 8 and 9, and that hosts in service have machines,
// each in one look at the database.
func rulesHold(t *testing.T, s *servicetest.Service) {
	t.Helper()
	for rule, query := range map[string]string{
		"a version that was sealed stays so, with its digest": `select v.number from versions v join images i on i.id = v.image_id
			where exists (select from trail t where t.verb = 'version.seal' and t.subject = 'version ' || i.name || ' ' || v.number)
			and (v.state not in ('sealed', 'retired') or v.digest = '')`,
		"a track names only what can be used": `select t.name || ' ' || v.number from tracks t join versions v on v.id = t.version_id
			where v.state <> 'sealed' or v.barred <> '' or v.image_id <> t.image_id`,
		"a pool is pinned only to what can be used": `select p.name || ' ' || v.number from pools p join versions v on v.id = p.pinned_id where v.state <> 'sealed' or v.barred <> ''`,
		"what a track names, or live falls back to, is kept": `select t.name || ' ' || v.number from versions v
			join tracks t on v.id = t.version_id or t.name = 'live' and v.id = t.fallback_id where v.state = 'retired'`,
		"what hosts run is kept":                 `select h.name || ' ' || v.number from versions v join hosts h on h.version_id = v.id where v.state = 'retired'`,
		"what a rollover takes hosts to is kept": `select v.number from versions v join rollovers r on r.target_id = v.id where v.state = 'retired' and not r.settled`,
		"a rollover that takes hosts goes to what can be used": `select r.id::text from rollovers r join versions v on v.id = r.target_id
			where r.state not in ('stopped', 'finished') and (v.state <> 'sealed' or v.barred <> '')`,
		// A rebuild that was ordered before its version was barred is finished: the old disk is gone.
		"a host is made only from what could be used": `select w.key from works w join versions v on v.id = (w.input->>'version')::bigint
			where w.kind = 'rebuild' and w.state in ('asked', 'under way') and (v.state <> 'sealed' or v.barred <> '' and v.barred_at < w.asked_at)`,
		"a host goes only to what a rollover of its pool was told to": `select w.key from works w join hosts h on h.id = (w.input->>'host')::bigint join rollovers r on r.id = (w.input->>'rollover')::bigint
			where w.kind = 'rebuild' and (r.pool_id <> h.pool_id or r.target_id <> (w.input->>'version')::bigint)`,
		"one rollover takes hosts of a pool": `select pool_id::text from rollovers where not settled and state <> 'stopped' group by pool_id having count(*) > 1`,
		"a host in service has a machine":    `select name from hosts where state = 'serving' and (not machine or unserved)`,
		"a host is in one rollover's hands": `select m.host_id::text from rollover_hosts m join rollovers r on r.id = m.rollover_id
			where not r.settled and m.phase in ('draining', 'warned', 'emptied', 'rebuilding', 'checking') group by 1 having count(*) > 1`,
	} {
		var broken []string
		require.NoError(t, s.Store.DB.Raw(query).Scan(&broken).Error)
		require.Empty(t, broken, rule)
	}
}
