package store_test

import (
	"encoding/json"
	"fmt"
	"os"
	"testing"

	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/require"

	"nimblepane/core/estate"
	"nimblepane/core/machine"
	"nimblepane/platform"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

// A database of the schema before works were kept by subject keeps what is
// under way in it: works, and the operations that platforms took on.
func TestWorksOfAnEarlierSchemaGoOn(t *testing.T) {
	t.Parallel()
	url := storetest.URL(t)
	st, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	pool := hosts(t, st, 2)
	db := stdlib.OpenDBFromPool(st.Pool)
	schema, err := goose.NewProvider(goose.DialectPostgres, db, os.DirFS("migrations"))
	require.NoError(t, err)
	_, err = schema.DownTo(t.Context(), 5)
	require.NoError(t, err)
	for _, statement := range []string{
		`insert into versions (image_id, number, state, digest, source, captured_by, created_at) select id, '1', 'sealed', 'sha256:1', 'a/bm', 'jonas', now() from images`,
		`insert into copies (version_id, site_id, ordinal, state) select v.id, s.id, 1, 'delivering' from versions v, sites s`,
		fmt.Sprintf(`insert into rollovers (pool_id, target_id, state, options, plan, created_by, created_at)
			select %d, id, 'running', '{}', '{}', 'jonas', now() from versions`, pool.ID),
		`insert into works (key, kind, site_id, version_id, copy_id, host_id, rollover_id, state, progress, asked_at)
			select k.key, k.kind, s.id, v.id, case when k.copy then c.id end, case when k.host then h.id end,
			  case when k.host then r.id end, k.state, k.progress, now() + k.after * interval '1 second'
			from (values ('capture-1', 'capture', false, false, 'succeeded', 100, 0), ('deliver-1', 'deliver', true, false, 'failed', 0, 1),
			  ('deliver-1-2', 'deliver', true, false, 'under way', 40, 2), ('rebuild-1-1', 'rebuild', false, true, 'under way', 60, 3))
			  k (key, kind, copy, host, state, progress, after),
			  sites s, versions v, copies c, rollovers r, (select min(id) as id from hosts) h`,
		`insert into operations (key, site, operation, progress) values
			('deliver-1-2', 'a', '{"deliver": {"source": "a", "disk": "i-1", "digest": "sha256:1", "copy": "i-1-copy-1", "machine_class": "standard"}}',
			  '{"state": "under way", "percent": 40, "why": "", "digest": "", "size": 0}'),
			('rebuild-1-1', 'a', '{"rebuild": {"host": "h-00000", "copies": ["i-1-copy-1"], "digest": "sha256:1"}}',
			  '{"state": "succeeded", "percent": 100, "why": "", "digest": "sha256:1", "size": 0}')`,
	} {
		_, err := db.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
	st.Close()

	st, err = store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	var works []store.Work
	require.NoError(t, st.DB.Order("asked_at").Find(&works).Error)
	type what struct {
		Key, Subject string
		Attempt      int
		Open         bool
		Input        string
	}
	var got []what
	for _, w := range works {
		got = append(got, what{w.Key, w.Subject, w.Attempt, w.Open(), string(w.Input)})
	}
	require.Equal(t, []what{
		{"capture-1", "version 1", 1, false, `{"version": 1}`},
		{"deliver-1", "copy 1", 1, false, `{"copy": 1, "version": 1}`},
		{"deliver-1-2", "copy 1", 2, true, `{"copy": 1, "version": 1}`},
		{"rebuild-1-1", store.RebuildSubject(1, 1), 1, true, `{"host": 1, "version": 1, "rollover": 1}`},
	}, got)

	var operations []struct{ Operation, Progress []byte }
	require.NoError(t, st.DB.Raw("select operation, progress from operations order by key").Scan(&operations).Error)
	var op platform.Operation
	require.NoError(t, json.Unmarshal(operations[0].Operation, &op))
	deliver, err := platform.DeliverCopy.Input(op)
	require.NoError(t, err)
	require.Equal(t, platform.Deliver{
		Source: "a", Disk: "i-1", Digest: "sha256:1", Copy: "i-1-copy-1", MachineClass: "standard",
	}, deliver)
	var progress platform.Progress
	require.NoError(t, json.Unmarshal(operations[1].Progress, &progress))
	made, err := platform.RebuildHost.Outcome(progress)
	require.NoError(t, err)
	require.Equal(t, platform.Made{Digest: "sha256:1"}, made)
	claims, err := st.ClaimWorks(t.Context(), 0, 10)
	require.NoError(t, err)
	require.Len(t, claims, 2, "what is open is seen to")
}

// Builds of the schema before machines were records go on with their machines.
func TestMachinesOfBuildsGetTheirRecords(t *testing.T) {
	t.Parallel()
	url := storetest.URL(t)
	st, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	hosts(t, st, 1)
	db := stdlib.OpenDBFromPool(st.Pool)
	schema, err := goose.NewProvider(goose.DialectPostgres, db, os.DirFS("migrations"))
	require.NoError(t, err)
	_, err = schema.DownTo(t.Context(), 7)
	require.NoError(t, err)
	for _, statement := range []string{
		`insert into builds (image_id, site_id, state, settled, sheet, plan, started_by, started_at, ended_at)
			select i.id, s.id, k.state, k.settled, '', '{"base": {"disk": "vendor.qcow2"}}', 'jonas', now(), k.ended
			from (values (1, 'working', false, null::timestamptz), (2, 'sealing', false, null), (3, 'failed', true, now()), (4, 'queued', false, null))
			  k (n, state, settled, ended), images i, sites s order by k.n`,
		`insert into works (key, kind, subject, attempt, site_id, input, state, progress, asked_at)
			select k.kind || '-build-' || b.id, k.kind, 'build ' || b.id, 1, b.site_id, jsonb_build_object('build', b.id), 'succeeded', 100, now()
			from builds b, (values ('make-machine'), ('discard-machine')) k (kind) where b.state <> 'queued'`,
	} {
		_, err := db.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
	st.Close()

	st, err = store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	rows, err := store.MachineRows(st.DB, store.MachineFilter{Gone: true})
	require.NoError(t, err)
	require.Len(t, rows, 3, "a build that is queued has none yet")
	require.Equal(t, []machine.State{machine.Gone, machine.Running, machine.Running},
		[]machine.State{rows[0].State, rows[1].State, rows[2].State})
	working := rows[2]
	require.Equal(t, "build-1", working.Name)
	require.Equal(t, "disk vendor.qcow2", working.Base)
	require.Equal(t, "jonas", working.Owner)
	w, err := store.WorkByKey(st.DB, "make-machine-build-1")
	require.NoError(t, err)
	require.JSONEq(t, fmt.Sprintf(`{"machine": %d}`, working.ID), string(w.Input))
	sealing, err := store.BuildByID(st.DB, 2)
	require.NoError(t, err)
	require.Contains(t, sealing.Cancel, "the service was upgraded while its machine was sealed")
	terms, err := store.Workshop(st.DB)
	require.NoError(t, err)
	require.Equal(t, estate.UsualWorkshop, terms)
}
