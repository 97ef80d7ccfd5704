package subjects_test

import (
	"bytes"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/machine"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/sheet"
	"nimblepane/internal/servicetest"
)

func TestWhatWasTriedByHandIsWrittenOutAsASheet(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: workshop})
	ctx, c := t.Context(), s.As(role.Operator)
	s.MadeMachine("bm-new")
	text := desk("disk: vendor.qcow2", `
  - name: Tide Tables # of the estuary
    install: {packages: [tide-tables]}
  - {name: wrong, install: {packages: [tide-table]}}
  - {name: only south, restart: {}, when: site == "south-quay"}
  - {name: keep, checkpoint: {}}
  - {name: proxy, ready: {step: proxy, with: {address: "http://x.example"}}}
`, "notes: x")
	try := func(text, step string) error {
		_, err := c.TryStepOnBuildMachine(ctx, "north-quay", "bm-new", client.TryStep{Sheet: text, Step: step})
		return err
	}
	for step, want := range map[string]string{
		"none":       `the sheet has no step "none"`,
		"only south": "is skipped: its condition is not met",
		"keep":       "makes a snapshot",
		"proxy":      "consists of 2 steps",
	} {
		require.ErrorContains(t, try(text, step), want)
	}
	require.ErrorIs(t, try("image: x", "wrong"), problem.InvalidFile)
	_, err := c.MachineSheet(ctx, "north-quay", "bm-new")
	require.ErrorIs(t, err, problem.NotRecorded)
	for _, step := range []string{"wrong", "Tide Tables"} {
		require.NoError(t, try(text, step))
		_, err = c.RunOnBuildMachine(ctx, "north-quay", "bm-new", client.RunProgram{Path: "/bin/ls"})
		require.ErrorIs(t, err, problem.WrongState)
		s.Runs("bm-new")
	}
	tries, err := c.MachineTries(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	require.Len(t, tries, 2)
	require.Equal(t, build.TaskFailed, tries[0].State)
	require.Contains(t, tries[0].Why, "Unable to locate package tide-table")
	require.Equal(t, build.Done, tries[1].State)
	require.Equal(t, sheet.Installs, tries[1].Kind)

	m, err := c.NoteOnBuildMachine(ctx, "north-quay", "bm-new", " Tide Tables 2.9 ")
	require.NoError(t, err)
	require.Equal(t, "Tide Tables 2.9", m.Notes[0].Text)
	require.Equal(t, "operator", m.Notes[0].By)
	_, err = c.NoteOnBuildMachine(ctx, "north-quay", "bm-new", "two\nlines")
	require.ErrorIs(t, err, problem.InvalidRequest)
	out, err := c.MachineSheet(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	require.Contains(t, string(out), "# of the estuary")
	written, err := sheet.Parse([]byte(strings.Replace(string(out), "image:", "image: counter-desk", 1)))
	require.NoError(t, err, string(out))
	require.Len(t, written.Steps, 1, "what failed is not in it")
	require.Equal(t, sheet.Base{Disk: "vendor.qcow2"}, written.Base)
	require.Equal(t, "Tide Tables 2.9\n", written.Version.Notes)

	checked(t, s, "bm-new")
	v, err := c.Capture(ctx, "counter-desk", client.Capture{BuildMachine: "bm-new"})
	require.NoError(t, err)
	require.Equal(t, "Tide Tables 2.9", v.Notes)
}

func TestANoteOnABuildIsInItsVersion(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: workshop})
	ctx, c := t.Context(), s.As(role.Operator)
	begun, err := c.StartBuild(ctx, client.StartBuild{Sheet: desk("disk: vendor.qcow2", `
  - {name: tides, install: {packages: [tide-table]}}
`, "notes: winter"), HoldSeconds: 7200})
	require.NoError(t, err)
	b := failed(s, begun.ID)
	_, err = c.NoteOnBuildMachine(ctx, "north-quay", b.Machine, "the tables have another name")
	require.NoError(t, err)
	_, err = c.GoOn(ctx, b.ID, client.GoOn{Sheet: strings.Replace(b.Sheet, "tide-table]", "tide-tables]", 1)})
	require.NoError(t, err)
	b = built(s, b.ID)
	require.Equal(t, build.Ready, b.State, b.Why)
	v, err := c.Version(ctx, "counter-desk", b.Version)
	require.NoError(t, err)
	require.Equal(t, "winter\nthe tables have another name", v.Notes)
}

func TestApplicationsAreOpenedOnABuildMachine(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: desks})
	ctx, c := t.Context(), s.As(role.Operator)
	s.MadeMachine("bm-new")
	none, err := c.MachineOpening(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	require.Empty(t, none.State)
	_, err = c.OpenOnBuildMachine(ctx, "north-quay", "bm-new", client.OpenApplications{})
	require.ErrorIs(t, err, problem.InvalidRequest)
	text := desk("disk: vendor.qcow2", "\n  - {name: fares, install: {packages: [fare-desk]}}\n", "notes: x")
	_, err = c.OpenOnBuildMachine(ctx, "north-quay", "bm-new", client.OpenApplications{Sheet: text})
	require.ErrorIs(t, err, problem.InvalidRequest)
	begun, err := c.OpenOnBuildMachine(ctx, "north-quay", "bm-new", client.OpenApplications{Sheet: text + `
applications:
  - {name: Tide Tables, command: /usr/bin/tide-tables, opens: {process: tide-tables}}
  - {name: Berth Planner, command: /opt/berth-planner, opens: {process: berths}}
`})
	require.NoError(t, err)
	require.Equal(t, build.UnderWay, begun.State)
	_, err = c.OpenOnBuildMachine(ctx, "north-quay", "bm-new", client.OpenApplications{Sheet: text})
	require.Error(t, err, "one thing at a time")
	var o client.MachineOpening
	s.Until("them to be opened", func() bool {
		o, err = c.MachineOpening(ctx, "north-quay", "bm-new")
		require.NoError(t, err)
		return o.State != build.UnderWay
	})
	require.Equal(t, build.Done, o.State, o.Why)
	require.Empty(t, o.Results[0].Why)
	require.Contains(t, o.Results[1].Why, "it was not so that a process berths runs")
	require.True(t, o.Results[0].Picture)
	picture, err := c.OpeningPicture(ctx, "north-quay", "bm-new", "Tide Tables")
	require.NoError(t, err)
	_, err = png.Decode(bytes.NewReader(picture))
	require.NoError(t, err)
	_, err = c.OpeningPicture(ctx, "north-quay", "bm-new", "Fare Desk")
	require.True(t, client.IsStatus(err, 404), err)
	m, err := c.BuildMachine(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	require.Equal(t, machine.Running, m.State)
}
