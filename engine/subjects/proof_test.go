package subjects_test

import (
	"bytes"
	"context"
	"fmt"
	"image/png"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/problem"
	"nimblepane/core/proof"
	"nimblepane/core/role"
	"nimblepane/core/sheet"
	"nimblepane/internal/servicetest"
	"nimblepane/platform/practice/world"
)

const desks = workshop + `
  - {holds: berth-planner, exit-code: 1, output: "no berth\n"}
`

const twoApplications = `
applications:
  - {name: Fare Desk, command: /usr/bin/fare-desk, opens: {window: Fares}}
  - {name: Tide Tables, command: /usr/bin/tides, arguments: [--today], opens: {http: "http://127.0.0.1:8080/"}, within: 10s}
`

// proved waits until a proof has ended and its machine is gone.
func proved(t *testing.T, s *servicetest.Service, id int64) (p client.WholeProof) {
	t.Helper()
	s.Until(fmt.Sprintf("proof %d to end", id), func() bool {
		var err error
		p, err = s.As(role.Viewer).Proof(context.Background(), id)
		require.NoError(t, err)
		return p.Settled
	})
	return p
}

func TestABuildProvesTheFirstStartOfItsVersion(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: desks})
	c, ctx := s.As(role.Operator), t.Context()
	begun, err := c.StartBuild(ctx, client.StartBuild{Sheet: desk("disk: vendor.qcow2", `
  - {name: fares, install: {packages: [fare-desk]}}
  - {name: tickets print, proof: true, script: {text: "#!/bin/sh\ncount-tickets"}}
`, "stage: true") + twoApplications})
	require.NoError(t, err)
	b := built(s, begun.ID)
	require.Equal(t, build.Ready, b.State, b.Why)
	require.Equal(t, build.StepLater, b.Steps[1].State)
	require.Zero(t, b.Steps[1].Attempts, "a proof is not run on the build machine")
	v, err := c.Version(ctx, "counter-desk", b.Version)
	require.NoError(t, err)
	require.Equal(t, []string{"Fare Desk", "Tide Tables"}, []string{v.Applications[0].Name, v.Applications[1].Name})
	require.Equal(t, sheet.UsualOpening, v.Applications[0].Within)
	rows, err := c.Proofs(ctx, "counter-desk", b.Version, 10)
	require.NoError(t, err)
	require.Len(t, rows, 1)
	p := proved(t, s, rows[0].ID)
	require.Equal(t, proof.Passed, p.State, p.Why)
	require.Equal(t, b.ID, p.Build)
	require.Positive(t, p.FirstStart)
	var tried []string
	for _, r := range p.Results {
		require.Empty(t, r.Why)
		tried = append(tried, r.Kind+" "+r.Name)
	}
	require.Equal(t, []string{"application Fare Desk", "application Tide Tables", "proof tickets print"}, tried)
	picture, err := c.ProofPicture(ctx, p.ID)
	require.NoError(t, err)
	_, err = png.Decode(bytes.NewReader(picture))
	require.NoError(t, err)
	trial, err := c.Trial(ctx, "counter-desk", b.Version)
	require.NoError(t, err)
	require.Contains(t, trial.Rules, client.Rule{
		Rule: "first-start", Met: true, Why: "it was started once, and all that was tried came up",
	})
}

func TestAFirstStartThatFailsStandsInTheVersion(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: desks})
	c, ctx := s.As(role.Operator), t.Context()
	begun, err := c.StartBuild(ctx, client.StartBuild{Sheet: desk("disk: vendor.qcow2", `
  - {name: fares, install: {packages: [fare-desk]}}
`, "stage: true") + `
applications:
  - {name: Berth Planner, command: /opt/berth-planner, opens: {process: berths}}
`})
	require.NoError(t, err)
	b := built(s, begun.ID)
	require.Equal(t, build.Failed, b.State)
	require.Contains(t, b.Why, "the version is made, and its first start failed: Berth Planner: within 1m it was not "+
		"so that a process berths runs")
	trial, err := c.Trial(ctx, "counter-desk", b.Version)
	require.NoError(t, err)
	require.False(t, trial.Cleared)
	require.Contains(t, fmt.Sprint(trial.Rules), "its first start failed: Berth Planner")
	image, err := c.Image(ctx, "counter-desk")
	require.NoError(t, err)
	require.Empty(t, image.Tracks[0].Version, "it is not staged")
}

// A machine that never starts is thrown away all the same, and so is one that is let go.
func TestAMachineOfAVersionGoesWhateverBecomesOfIt(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: desks})
	c, ctx := s.As(role.Operator), t.Context()
	number := s.Captured("counter-desk", "bm-counter")
	_, err := c.Prove(ctx, "counter-desk", "1999.01.1", "north-quay")
	require.True(t, client.IsStatus(err, 404), "%v", err)
	_, err = c.TryVersion(ctx, "counter-desk", number, client.TryMachine{Site: "north-quay", Seconds: 1})
	require.True(t, client.IsStatus(err, 422), "%v", err)
	_, err = s.As(role.Viewer).Prove(ctx, "counter-desk", number, "north-quay")
	require.True(t, client.IsStatus(err, 403), "%v", err)

	kept, err := c.TryVersion(ctx, "counter-desk", number, client.TryMachine{Site: "south-quay", Seconds: 3600})
	require.NoError(t, err)
	s.Until("the machine to be kept", func() bool {
		kept, err = c.Proof(ctx, kept.ID)
		require.NoError(t, err)
		return kept.State == proof.Kept
	})
	require.WithinDuration(t, kept.AskedAt.Add(time.Hour), *kept.Until, time.Second)
	today, err := c.Today(ctx)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(today), fmt.Sprintf("%s is kept of counter-desk %s for operator", kept.Machine,
		number))
	over := proved(t, s, kept.ID)
	require.Equal(t, proof.Over, over.State)
	require.Equal(t, "its time is over", over.Why)

	knobs, err := s.World.Knobs("north-quay")
	require.NoError(t, err)
	knobs.Faults = []world.Fault{{Hosts: "proof-*", Kind: world.BootFails, Chance: 1}}
	require.NoError(t, s.World.SetKnobs("north-quay", knobs))
	dead, err := c.Prove(ctx, "counter-desk", number, "north-quay")
	require.NoError(t, err)
	gone, err := c.TryVersion(ctx, "counter-desk", number, client.TryMachine{Site: "north-quay", Seconds: 360000})
	require.NoError(t, err)
	gone, err = c.LetGoOfProof(ctx, gone.ID, "the wrong version")
	require.NoError(t, err)
	_, err = c.LetGoOfProof(ctx, gone.ID, "")
	require.ErrorIs(t, err, problem.WrongState)
	require.Equal(t, "operator let it go: the wrong version", proved(t, s, gone.ID).Why)
	failed := proved(t, s, dead.ID)
	require.Equal(t, proof.Failed, failed.State)
	require.Equal(t, "its agent did not speak within 1h40m of its first start", failed.Why)
}
