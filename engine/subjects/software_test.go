package subjects_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/problem"
	"nimblepane/core/provenance"
	"nimblepane/core/role"
	"nimblepane/core/secret"
	"nimblepane/core/software"
	"nimblepane/internal/servicetest"
	"nimblepane/platform"
)

// stocked plays machines with software on them.
const stocked = servicetest.Scenario + `
updates:
  - {name: libtide1, version: 2.8-4+deb12u1, security: true}
software:
  system: {id: debian, version: "12", name: Debian GNU/Linux 12 (bookworm)}
  facts: {arch: x86_64, services: [cron.service], accounts: [{name: root, id: "0", signs: true}]}
  packages:
    - {names: [fare-desk], versions: [6.1-1, 6.2-1], noticed: true, command: /usr/bin/fare-desk}
    - {names: [libtide1, tide-data], source: tide, versions: [2.8-4]}
    - {names: [linux-image], versions: [6.1.55-1, 6.1.76-1], kernel: true}
    - {names: [telnet-quay], versions: [0.17-1, "-"]}
    - {names: ["evil\e[31m<b>_x_"], versions: ["1", "2"]}
    - {names: [quay-fax], origin: folder, path: /opt/quay-fax, versions: [winter, spring]}
`

func TestWhatIsInVersionsIsKeptSearchedAndCompared(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: stocked})
	ctx, c := t.Context(), s.As(role.Operator)
	one, two := s.Captured("counter-desk", "bm-counter"), s.Captured("counter-desk", "bm-counter")

	v, err := c.Version(ctx, "counter-desk", one)
	require.NoError(t, err)
	require.Equal(t, 8, v.Software)
	l, err := c.AllSoftware(ctx, "counter-desk", one, client.SoftwareSearch{})
	require.NoError(t, err)
	require.Len(t, l.Items, 8)
	require.Equal(t, software.System, l.Items[0].Origin)
	require.Equal(t, "nimblepane-practice", l.TakenBy)
	l, err = c.Software(ctx, "counter-desk", one, client.SoftwareSearch{Text: "TIDE", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, []string{"libtide1"}, called(l.Items))
	require.Equal(t, []client.SoftwareCount{{Origin: software.Deb, N: 2}}, l.Counts)
	l, err = c.Software(ctx, "counter-desk", one, client.SoftwareSearch{Text: "TIDE", Limit: 1, Cursor: l.Next})
	require.NoError(t, err)
	require.Equal(t, []string{"tide-data"}, called(l.Items))
	require.Empty(t, l.Next)
	l, err = c.Software(ctx, "counter-desk", one, client.SoftwareSearch{Text: "%_"})
	require.NoError(t, err)
	require.Empty(t, l.Items)
	_, err = c.Software(ctx, "counter-desk", one, client.SoftwareSearch{Cursor: "tides"})
	require.ErrorIs(t, err, problem.InvalidRequest)

	f, err := c.Facts(ctx, "counter-desk", two)
	require.NoError(t, err)
	require.Equal(t, "6.1.76-1", f.Kernel)
	document, err := c.SoftwareDocument(ctx, "counter-desk", two)
	require.NoError(t, err)
	list, about, err := software.Read(document)
	require.NoError(t, err)
	require.Len(t, list.Entries, 7)
	require.Equal(t, "counter-desk "+two, about.Image+" "+about.Number)
	require.Contains(t, string(document), strings.TrimPrefix(digestOf(t, c, two), "sha256:"))

	d, err := c.Compare(ctx, "counter-desk", one, two)
	require.NoError(t, err)
	told := map[string]string{}
	for _, change := range d.Changes {
		told[change.Name] = string(change.What) + " " + string(change.Group)
	}
	require.Equal(t, map[string]string{
		"fare-desk": "updated noticed", "linux-image": "updated rest", "telnet-quay": "removed rest",
		"evil\x1b[31m<b>_x_": "updated rest", "quay-fax": "changed rest",
	}, told)
	require.Equal(t, "kernel", d.Facts[0].What)
	text, err := c.CompareMarkdown(ctx, "counter-desk", one, two)
	require.NoError(t, err)
	require.Contains(t, string(text), `evil\[31m&lt;b>\_x\_`)
	require.NotContains(t, string(text), "\x1b")
	_, err = c.Compare(ctx, "counter-desk", two, two)
	require.ErrorIs(t, err, problem.InvalidRequest)
	_, err = c.Compare(ctx, "counter-desk", "", two)
	require.ErrorIs(t, err, problem.InvalidRequest)
}

func called(entries []software.Entry) (list []string) {
	for _, e := range entries {
		list = append(list, e.Name)
	}
	return list
}

func digestOf(t *testing.T, c *client.Client, number string) string {
	v, err := c.Version(t.Context(), "counter-desk", number)
	require.NoError(t, err)
	return v.Digest
}

func TestWhoStillHasSomethingIsAnsweredOverAllVersionsInUse(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: stocked})
	ctx, c := t.Context(), s.As(role.Operator)
	one := s.Live("back-office")
	ask := func(q client.SoftwareQuestion) []client.SoftwareHolder {
		t.Helper()
		h, err := c.WhoHas(ctx, q)
		require.NoError(t, err)
		return h
	}
	two := s.Captured("counter-desk", "bm-counter")
	h := ask(client.SoftwareQuestion{Name: "FARE-*", Below: "6.2-1"})
	require.Len(t, h, 1)
	require.Equal(t, "counter-desk "+one, h[0].Image+" "+h[0].Number)
	require.Equal(t, []string{"pilot", "live"}, h[0].Tracks)
	require.Equal(t, "6.1-1", h[0].Has[0].Version)
	require.Len(t, h[0].Pools, 2)
	require.Equal(t, "back-office", h[0].Pools[0].Pool)
	require.Len(t, h[0].Pools[0].Hosts, 4)

	require.Len(t, ask(client.SoftwareQuestion{Name: "fare-desk"}), 1, "the second is not in use")
	all := ask(client.SoftwareQuestion{Name: "fare-desk", All: true})
	require.Len(t, all, 2)
	require.Equal(t, two, all[0].Number)
	require.Empty(t, all[0].Tracks)
	require.Len(t, ask(client.SoftwareQuestion{Name: "tide"})[0].Has, 2, "by their source")
	require.Empty(t, ask(client.SoftwareQuestion{Name: "fare-desk", Origin: software.RPM}))
	_, err := c.WhoHas(ctx, client.SoftwareQuestion{Name: "fare_desk", All: true})
	require.ErrorIs(t, err, problem.NotFound, "a mistyped name is no all-clear")
	odd := ask(client.SoftwareQuestion{Name: "quay-fax", Below: "summer"})
	require.Contains(t, odd[0].Unordered[0], `quay-fax winter: version "winter" follows none of usual rules`)
	_, err = c.WhoHas(ctx, client.SoftwareQuestion{Name: "*"})
	require.ErrorIs(t, err, problem.InvalidRequest)
}

func TestABuildListsItsApplicationsAndWhatItsStepsBrought(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: stocked})
	ctx, c := t.Context(), s.As(role.Operator)
	b, err := c.StartBuild(ctx, client.StartBuild{Sheet: `
image: counter-desk
base: {disk: vendor.qcow2}
machine: {site: north-quay}
steps:
  - {name: Fares, install: {packages: [fare-desk, new-quay]}}
  - {name: Telnet, remove: {packages: [telnet-quay]}}
  - {name: Updates, update: {}}
  - {name: Paris, locale: {time-zone: Europe/Paris}}
applications:
  - {name: Fare Desk, command: /usr/bin/fare-desk, opens: {exit-code: 0}}
`})
	require.NoError(t, err)
	var done client.WholeBuild
	s.Until("the build to be ready", func() bool {
		done, err = c.Build(ctx, b.ID)
		require.NoError(t, err)
		require.NotEqual(t, build.Failed, done.State, done.Why)
		return done.State == build.Ready
	})
	l, err := c.AllSoftware(ctx, "counter-desk", done.Version, client.SoftwareSearch{})
	require.NoError(t, err)
	has := map[string]string{}
	for _, e := range l.Items {
		has[e.Name] = e.Version
	}
	require.Equal(t, "6.2-1", has["Fare Desk"])
	require.Equal(t, "6.2-1", has["fare-desk"])
	require.Equal(t, "2.8-4+deb12u1", has["tide-data"])
	require.Equal(t, "1.0", has["new-quay"])
	require.NotContains(t, has, "telnet-quay")
	f, err := c.Facts(ctx, "counter-desk", done.Version)
	require.NoError(t, err)
	require.Equal(t, "Europe/Paris", f.TimeZone)

	// By hand there is no sheet, and the application is found all the same.
	byHand := s.Captured("counter-desk", "bm-counter")
	d, err := c.Compare(ctx, "counter-desk", byHand, done.Version)
	require.NoError(t, err)
	require.Equal(t, "Fare Desk", d.Changes[0].Name)
	require.Equal(t, software.Updated, d.Changes[0].What)
	require.Equal(t, "made", d.Settings[0].What)
	require.Positive(t, d.To.BuildSeconds)
}

// tampering has a capture end with another list.
type tampering struct {
	platform.Platform
	with *atomic.Pointer[[]byte]
}

func (p tampering) Ask(ctx context.Context, key string) (platform.Progress, error) {
	progress, err := p.Platform.Ask(ctx, key)
	var made platform.Captured
	if packed := p.with.Load(); packed != nil && err == nil && json.Unmarshal(progress.Output, &made) == nil &&
		len(made.Software) > 0 {
		made.Software = *packed
		progress.Output = platform.CaptureMachine.Output(made)
	}
	return progress, err
}

func TestAVersionIsNoneTheWorseForAListThatCannotBeTaken(t *testing.T) {
	t.Parallel()
	with := &atomic.Pointer[[]byte]{}
	s := servicetest.Start(t, servicetest.Options{
		Scenario: stocked,
		Over:     func(p platform.Platform) platform.Platform { return tampering{p, with} },
	})
	ctx, c := t.Context(), s.As(role.Operator)
	good := s.Captured("counter-desk", "bm-counter")
	number := ""
	for _, tried := range []struct {
		packed []byte
		why    string
	}{
		{[]byte("tides"), "the list that its site sent cannot be read: it is not packed by gzip"},
		{software.Pack([]byte("{}")), "it is no CycloneDX"},
		{software.Pack(make([]byte, 100<<20)), "it has more than 67108864 bytes when it is unpacked"},
		{[]byte{}, "its site sent no list"},
	} {
		with.Store(&tried.packed)
		number = s.Captured("counter-desk", "bm-counter")
		v, err := c.Version(ctx, "counter-desk", number)
		require.NoError(t, err)
		require.Contains(t, v.Unlisted, tried.why)
		require.Zero(t, v.Software)
	}
	for _, ask := range []func() error{
		func() error { _, err := c.Facts(ctx, "counter-desk", number); return err },
		func() error { _, err := c.Compare(ctx, "counter-desk", number, good); return err },
		func() error { _, err := c.SoftwareDocument(ctx, "counter-desk", number); return err },
	} {
		err := ask()
		require.True(t, client.IsStatus(err, http.StatusConflict), "%v", err)
		require.ErrorIs(t, err, problem.NotRecorded)
	}

	// Somebody brings one that was made elsewhere.
	elsewhere := func(components string) []byte {
		return fmt.Appendf(nil, `{"bomFormat": "CycloneDX", "specVersion": "1.4", "components": [%s]}`, components)
	}
	for text, why := range map[string]string{
		"tides": "it is no JSON", string(elsewhere("")): "it lists no components", "{}": "it is no CycloneDX",
	} {
		_, err := c.BringSoftware(ctx, "counter-desk", number, []byte(text))
		require.True(t, client.IsStatus(err, http.StatusUnprocessableEntity), "%v", err)
		require.ErrorContains(t, err, why)
	}
	_, err := c.BringSoftware(ctx, "counter-desk", number, elsewhere(strings.Repeat(" ", 70<<20)))
	require.True(t, client.IsStatus(err, http.StatusRequestEntityTooLarge), "%v", err)
	_, err = s.As(role.Viewer).BringSoftware(ctx, "counter-desk", number, elsewhere(`{"name": "bash"}`))
	require.True(t, client.IsStatus(err, http.StatusForbidden), "%v", err)
	many := strings.Repeat(`{"name": "bash\u0000", "version": "1", "purl": "pkg:deb/debian/bash@1?arch=amd64"},`, 3)
	v, err := c.BringSoftware(ctx, "counter-desk", number, elsewhere(strings.TrimSuffix(many, ",")))
	require.NoError(t, err)
	require.Equal(t, 1, v.Software)
	require.Empty(t, v.Unlisted)
	_, err = c.BringSoftware(ctx, "counter-desk", number, elsewhere(`{"name": "bash"}`))
	require.ErrorIs(t, err, problem.WrongState)
	l, err := c.Software(ctx, "counter-desk", number, client.SoftwareSearch{})
	require.NoError(t, err)
	require.Equal(t, "operator", l.BroughtBy)
	require.Equal(t, software.Deb, l.Items[0].Origin)
	require.WithinDuration(t, l.TakenAt, *v.SealedAt, 24*time.Hour)

	k, err := s.World.Knobs("north-quay")
	require.NoError(t, err)
	k.Unlisted = "pane-agent 0.9 does not list it"
	require.NoError(t, s.World.SetKnobs("north-quay", k))
	with.Store(nil)
	number = s.Captured("counter-desk", "bm-counter")
	v, err = c.Version(ctx, "counter-desk", number)
	require.NoError(t, err)
	require.Equal(t, "pane-agent 0.9 does not list it", v.Unlisted)
}

func TestHowAVersionWasMadeIsSignedAndAnyChangeIsSeen(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{
		Scenario: stocked + `scripts: [{holds: no-fonts, exit-code: 3, output: "no fonts"}]`,
		Secrets:  secret.In(func(string) (string, bool) { return "LICENCE_KEY", true }, nil),
	})
	ctx, c := t.Context(), s.As(role.Operator)
	first := s.Captured("counter-desk", "bm-counter")
	b, err := c.StartBuild(ctx, client.StartBuild{Sheet: `
image: counter-desk
base: {version: ` + first + `}
machine: {site: north-quay}
parameters: {queue: {default: counter}}
secrets: {licence: {environment: LICENCE}}
seal-checks: {waive: {updates-pending: next month}}
steps:
  - {name: Fares, install: {packages: [fare-desk]}}
  - name: Table
    fetch: {from: "https://files.example/fares.db", sha256: ` + strings.Repeat("ab", 32) + `, to: /var/fares.db}
  - {name: Fonts, script: {text: "#!/bin/sh\nno-fonts"}, on-failure: {do: go-on}}
`, Values: map[string]string{"queue": "office"}})
	require.NoError(t, err)
	var done client.WholeBuild
	s.Until("the build to be ready", func() bool {
		done, err = c.Build(ctx, b.ID)
		require.NoError(t, err)
		require.NotEqual(t, build.Failed, done.State, done.Why)
		return done.State == build.Ready
	})
	p, err := c.Provenance(ctx, "counter-desk", done.Version)
	require.NoError(t, err)
	require.Empty(t, p.Wrong)
	require.True(t, p.BySheet)
	require.False(t, p.Manual)
	require.Equal(t, fmt.Sprint("build ", b.ID), p.Run)
	require.Equal(t, "counter-desk "+first, p.From[0].Name)
	require.Equal(t, strings.TrimPrefix(digestOf(t, c, first), "sha256:"), p.From[0].SHA256)
	require.Equal(t, "https://files.example/fares.db", p.From[1].URI)
	require.Equal(t, "software list", p.Brought[0].Name)
	require.Equal(t, map[string]any{"queue": "office"}, p.Told["parameters"])
	require.Equal(t, []any{"licence"}, p.Told["secrets"])
	require.Equal(t, "next month", p.Did["seal_checks"].([]any)[0].(map[string]any)["waived"])
	require.Len(t, p.Did["steps"], 3)
	fonts := p.Did["steps"].([]any)[2].(map[string]any)
	require.Equal(t, "failed and tolerated", fonts["result"])
	require.Contains(t, fonts["failure"], "exit code 3, and last it wrote: no fonts")

	byHand, err := c.Provenance(ctx, "counter-desk", first)
	require.NoError(t, err)
	require.False(t, byHand.BySheet)
	require.Equal(t, p.KeyID, byHand.KeyID, "there is one key")

	// Elsewhere, from what was kept.
	envelope, err := c.ProvenanceDocument(ctx, "counter-desk", done.Version)
	require.NoError(t, err)
	require.NotContains(t, string(envelope), "LICENCE_KEY")
	text, err := c.SigningKeys(ctx)
	require.NoError(t, err)
	keys, err := provenance.PublicKeys(text)
	require.NoError(t, err)
	v, err := provenance.Verify(envelope, keys)
	require.NoError(t, err)
	require.Equal(t, "counter-desk "+done.Version, v.Version.Name)
	require.NotContains(t, string(v.Statement), "LICENCE_KEY")

	// Whoever changes the records behind the service's back is found out.
	change := func(statement string, wrong string) {
		t.Helper()
		require.NoError(t, s.Store.DB.Exec(statement).Error)
		p, err := c.Provenance(ctx, "counter-desk", done.Version)
		require.NoError(t, err)
		require.Len(t, p.Wrong, 1)
		require.Contains(t, p.Wrong[0], wrong)
	}
	change("update versions set digest = 'sha256:0' where number = '"+done.Version+"'", "and the records say 0")
	change("update versions set digest = 'sha256:"+v.Version.SHA256+"'; update software_lists l set document = "+
		"o.document "+
		"from software_lists o where l.version_id <> o.version_id", "the software list is not the one")
	change("update provenances set envelope = '{}'", "it is an envelope of")
}

func TestAVersionWithOlderSoftwareHasNoClearanceUntilThatIsPassedOver(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{
		Scenario: strings.Replace(stocked, "versions: [6.1-1, 6.2-1]", "versions: [6.1-1, 6.0-1]", 1),
		Estate: strings.Replace(servicetest.Estate, "soak: 0s, copies: 2}",
			"soak: 0s, copies: 2, no-downgrades: true, "+
				"keep-applications: true}", 1),
	})
	ctx, approver := t.Context(), s.As(role.Approver)
	s.Live("back-office")
	two := s.Captured("counter-desk", "bm-counter")
	rule := func(name string) client.Rule {
		t.Helper()
		trial, err := approver.Trial(ctx, "counter-desk", two)
		require.NoError(t, err)
		for _, r := range trial.Rules {
			if r.Rule == name {
				return r
			}
		}
		require.Fail(t, "there is no rule "+name)
		return client.Rule{}
	}
	require.True(t, rule("applications").Met)
	require.Contains(t, rule("downgrades").Why, "fare-desk (6.0-1, and 6.1-1 before)")
	_, err := s.As(role.Operator).Waive(ctx, "counter-desk", two, client.Waiver{Software: "fare-desk", Reason: "x"})
	require.True(t, client.IsStatus(err, http.StatusForbidden), "%v", err)
	_, err = approver.Waive(ctx, "counter-desk", two, client.Waiver{Software: "fare-desk"})
	require.ErrorIs(t, err, problem.ReasonRequired)
	_, err = approver.Waive(ctx, "counter-desk", two, client.Waiver{Software: "bash", Reason: "x"})
	require.ErrorIs(t, err, problem.WrongState)
	_, err = approver.Waive(ctx, "counter-desk", two, client.Waiver{Software: "fare-desk", Withdraw: true})
	require.ErrorIs(t, err, problem.WrongState)
	_, err = approver.Waive(ctx, "counter-desk", two, client.Waiver{Software: "fare-desk", Reason: "6.1 loses fares"})
	require.NoError(t, err)
	require.True(t, rule("downgrades").Met)
	require.Contains(t, rule("downgrades").Why, "6.1 loses fares (approver)")
	v, err := approver.Version(ctx, "counter-desk", two)
	require.NoError(t, err)
	require.Equal(t, map[string]string{"fare-desk": "6.1 loses fares (approver)"}, v.Waived)
	_, err = approver.Waive(ctx, "counter-desk", two, client.Waiver{Software: "fare-desk", Withdraw: true})
	require.NoError(t, err)
	require.False(t, rule("downgrades").Met)
}
