package gauges_test

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/testutil"
	"github.com/prometheus/common/expfmt"
	"github.com/stretchr/testify/require"

	"nimblepane/core/flaw"
	"nimblepane/engine/gauges"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
	"nimblepane/store"
)

// lived is an estate with something to tell of: hosts that drift, a faulty one, an open rollover, a build, a failed
// copy
// and vulnerabilities.
func lived(t *testing.T) *enginetest.Played {
	t.Helper()
	p := enginetest.Open(t)
	for _, number := range p.Numbers[:2] {
		require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", number,
			versions.Activation{Overrule: true, Reason: "x", LetGo: true}))
	}
	db := p.Store.DB
	for _, change := range []string{
		`update hosts set machine = true, version_id = (select id from versions where number = '2026.11.1')
			where name like 'co-%'`,
		`update hosts set state = 'emptied' where name like 'co-%'`,
		`update hosts set state = 'serving', unserved = false where name like 'co-%'`,
		`update hosts set state = 'faulty' where name = 'co-001'`,
		`update pulses set sessions = '[{"id": "1", "user": "ada"}]' where host_id = (select id from hosts where name = 'co-002')`,
		`insert into builds (image_id, site_id, state, sheet, plan, started_by, started_at)
			select i.id, s.id, 'queued', '', '{}', 'tove', now() from images i, sites s`,
		`update copies set state = 'failed' where version_id = (select id from versions where number = '2026.11.3')`,
	} {
		require.NoError(t, db.Exec(change).Error, change)
	}
	img, err := store.ImageNamed(db, "desk")
	require.NoError(t, err)
	v, err := store.VersionNumbered(db, img, p.Numbers[1])
	require.NoError(t, err)
	require.NoError(t, store.KeepFlawsFound(db, store.FlawsFound{
		VersionID: v.ID, Epoch: 1, NotChecked: store.JSON[[]flaw.Gap]{V: []flaw.Gap{}},
		Found: store.JSON[[]flaw.Found]{V: []flaw.Found{{ID: "A-1", Severity: flaw.High}, {
			ID:       "A-2",
			Severity: flaw.Unknown,
		}, {ID: "A-3", Severity: flaw.Unknown}}},
	}))
	return p
}

func TestTheFiguresAreThoseOfTheEstate(t *testing.T) {
	t.Parallel()
	p := lived(t)
	problems, err := testutil.CollectAndLint(gauges.Of(p.Engine, "1.2.3"))
	require.NoError(t, err)
	require.Empty(t, problems)
	registry := prometheus.NewRegistry()
	registry.MustRegister(gauges.Of(p.Engine, "1.2.3"))
	tells := func(lines ...string) {
		t.Helper()
		families, err := registry.Gather()
		require.NoError(t, err)
		var text strings.Builder
		for _, f := range families {
			_, err := expfmt.MetricFamilyToText(&text, f)
			require.NoError(t, err)
		}
		for _, line := range lines {
			require.Contains(t, text.String(), line+"\n")
		}
	}
	tells(
		`nimblepane_build_info{version="1.2.3"} 1`, `nimblepane_database_up 1`,
		`nimblepane_hosts{pool="counters",state="serving"} 4`, `nimblepane_hosts{pool="counters",state="faulty"} 1`,
		`nimblepane_hosts{pool="office",state="off"} 4`, `nimblepane_hosts{pool="office",state="faulty"} 0`,
		`nimblepane_hosts_drifting{pool="counters"} 5`, `nimblepane_sessions{pool="counters"} 1`,
		`nimblepane_seats{pool="counters"} 16`, `nimblepane_seats_free{pool="counters"} 15`,
		`nimblepane_builds{image="desk",state="queued"} 1`,
		`nimblepane_copies{site="north-quay",state="failed"} 1`, `nimblepane_copies{site="north-quay",state="present"} 3`,
		`nimblepane_copies{site="north-quay",state="delivering"} 0`, `nimblepane_site_up{site="north-quay"} 1`,
		`nimblepane_vulnerabilities{image="desk",severity="high",version="2026.11.2"} 1`,
		`nimblepane_vulnerabilities{image="desk",severity="unknown",version="2026.11.2"} 2`,
	)

	// Without a database the process still tells of itself.
	p.Store.Pool.Close()
	tells(`nimblepane_build_info{version="1.2.3"} 1`, `nimblepane_database_up 0`)
	require.Zero(t, testutil.CollectAndCount(gauges.Of(p.Engine, ""), "nimblepane_hosts"))
}

const rules = "../../packaging/prometheus/nimblepane.rules.yaml"

// TestTheAlertRulesWork has promtool check the rules and play the cases of nimblepane.test.yaml, in which each alert
// fires and stays away.
func TestTheAlertRulesWork(t *testing.T) {
	t.Parallel()
	for _, args := range [][]string{
		{"check", "rules", "--lint=all", "--lint-fatal", rules},
		{"test", "rules", "../../packaging/prometheus/nimblepane.test.yaml"},
	} {
		out, err := exec.CommandContext(t.Context(), "promtool", args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	text, err := os.ReadFile(rules)
	require.NoError(t, err)
	cases, err := os.ReadFile("../../packaging/prometheus/nimblepane.test.yaml")
	require.NoError(t, err)
	descs := make(chan *prometheus.Desc, 100)
	gauges.Of(nil, "").Describe(descs)
	close(descs)
	known := []string{"nimblepane_http_requests_total"} // which package api counts
	for d := range descs {
		known = append(known, regexp.MustCompile(`fqName: "(\w+)"`).FindStringSubmatch(d.String())[1])
	}
	for _, name := range regexp.MustCompile(`nimblepane_\w+`).FindAllString(string(text), -1) {
		require.Contains(t, known, name)
	}
	for _, alert := range regexp.MustCompile(`alert: (\w+)`).FindAllStringSubmatch(string(text), -1) {
		require.Contains(t, string(cases), "alertname: "+alert[1]+"\n")
	}
}
