package subjects_test

import (
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/sheet"
	"nimblepane/internal/servicetest"
	"nimblepane/store"
)

func TestASheetIsKeptChangedAndBuilt(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: workshop})
	ctx, c := t.Context(), s.As(role.Operator)
	draft := "image: counter-desk\nbase: {track: live}\nsteps: [{name: a}]\n"
	kept, err := c.SaveSheet(ctx, "counter-desk", 0, client.SheetText{Text: draft})
	require.NoError(t, err)
	require.Equal(t, 1, kept.Revision)
	require.Len(t, kept.Wrong, 2)
	require.Equal(t, client.SheetProblem{Line: 1, Column: 1, Text: kept.Wrong[0].Text}, kept.Wrong[0])
	require.Empty(t, kept.Explain)
	_, err = c.BuildSheet(ctx, "counter-desk", client.BuildSheet{})
	require.ErrorIs(t, err, problem.InvalidFile)

	text := "parameters: {queue: {about: of tickets, allowed: [office, counter]}}\n" +
		desk("disk: vendor.qcow2", besideSteps, "notes: '{{queue}}', prove: false")
	kept, err = c.SaveSheet(ctx, "counter-desk", 1, client.SheetText{Text: text})
	require.NoError(t, err)
	require.Empty(t, kept.Wrong)
	require.Equal(t, []string{"parameter queue has no value: give it one"}, kept.Unset)
	require.NotEmpty(t, kept.Explain, "it is explained all the same")
	require.Equal(t, []client.SheetParameter{{
		Name: "queue", Type: sheet.TextType, About: "of tickets", Allowed: []string{"office", "counter"},
	}}, kept.Wants)
	require.Contains(t, kept.Names, client.SheetSource{Path: "tides", Folder: true})

	checked, err := c.CheckSheet(ctx, client.SheetText{Text: text, Values: map[string]string{"queue": "office"}})
	require.NoError(t, err)
	require.Len(t, checked.Missing, 3)
	_, err = c.SaveSheet(ctx, "counter-desk", 2, client.SheetText{
		Text: text, Files: map[string]string{"fares.db": strings.Repeat("0", 64)},
	})
	require.ErrorIs(t, err, problem.InvalidRequest)
	of, err := sheet.Parse([]byte(text))
	require.NoError(t, err)
	files, err := c.SendSheetFiles(ctx, besideSheet(), of.Sources(), nil)
	require.NoError(t, err)
	kept, err = c.SaveSheet(ctx, "counter-desk", 2, client.SheetText{Text: text, Files: files})
	require.NoError(t, err)
	require.Equal(t, files, kept.Files)
	require.NoError(t, s.Store.DB.Exec("update sheet_files set used_at = now() - interval '8 days'").Error)
	require.NoError(t, s.Engine.Sweep(ctx))
	var n int64
	require.NoError(t, s.Store.DB.Model(store.SheetFile{}).Count(&n).Error)
	require.EqualValues(t, 3, n, "what a kept sheet names stays")

	begun, err := c.BuildSheet(ctx, "counter-desk", client.BuildSheet{Values: map[string]string{"queue": "office"}})
	require.NoError(t, err)
	require.Equal(t, "counter-desk", begun.SheetName)
	require.Equal(t, build.Ready, built(s, begun.ID).State)
	list, err := c.Sheets(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, begun.ID, list[0].Build)
	require.Equal(t, build.Ready, list[0].BuildState)
	require.NotEmpty(t, list[0].BuildVersion)

	require.ErrorIs(t, c.DeleteSheet(ctx, "counter-desk", 1), problem.ChangedSinceRead)
	require.NoError(t, c.DeleteSheet(ctx, "counter-desk", 3))
	_, err = c.Sheet(ctx, "counter-desk")
	require.True(t, client.IsStatus(err, http.StatusNotFound), err)
	_, err = c.SaveSheet(ctx, "counter-desk", 3, client.SheetText{Text: text})
	require.ErrorIs(t, err, problem.ChangedSinceRead)
}

func TestTwoPeopleWhoChangeOneSheetDoNotLoseWhatTheOtherWrote(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx, c := t.Context(), s.As(role.Operator)
	for revision := range 3 { // made, and then changed
		var saved, refused atomic.Int32
		var wg sync.WaitGroup
		for range 8 {
			wg.Go(func() {
				_, err := c.SaveSheet(ctx, "desk", revision, client.SheetText{Text: "image: counter-desk\n"})
				switch {
				case err == nil:
					saved.Add(1)
				case client.IsStatus(err, http.StatusPreconditionFailed), client.IsStatus(err, http.StatusConflict):
					refused.Add(1)
				default:
					t.Error(err)
				}
			})
		}
		wg.Wait()
		require.EqualValues(t, 1, saved.Load())
		require.EqualValues(t, 7, refused.Load())
		now, err := c.Sheet(ctx, "desk")
		require.NoError(t, err)
		require.Equal(t, revision+1, now.Revision)
	}
	_, err := c.SaveSheet(ctx, "desk", 1, client.SheetText{Text: "image: chart-desk\n"})
	require.ErrorIs(t, err, problem.ChangedSinceRead)
	_, err = c.SaveSheet(ctx, "desk", 0, client.SheetText{Text: "image: chart-desk\n"})
	require.ErrorIs(t, err, problem.ChangedSinceRead)
	_, err = c.SaveSheet(ctx, "Desk 1", 0, client.SheetText{})
	require.ErrorIs(t, err, problem.InvalidRequest)
	_, err = s.As(role.Viewer).SaveSheet(ctx, "desk", 3, client.SheetText{})
	require.True(t, client.IsStatus(err, http.StatusForbidden), err)
}

func TestATokenForAnImageChangesOnlyItsSheets(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx := t.Context()
	made, err := s.As(role.Operator).MakeToken(ctx, client.NewToken{
		Name: "charts", Days: 1, Images: []string{"chart-desk"},
	})
	require.NoError(t, err)
	charts := client.New(s.URL, made.Secret)
	counter, chart := client.SheetText{Text: "image: counter-desk\n"}, client.SheetText{Text: "image: chart-desk\n"}
	_, err = charts.SaveSheet(ctx, "counter", 0, counter)
	require.True(t, client.IsStatus(err, http.StatusForbidden), err)
	_, err = s.As(role.Operator).SaveSheet(ctx, "counter", 0, counter)
	require.NoError(t, err)
	_, err = charts.SaveSheet(ctx, "counter", 1, chart)
	require.True(t, client.IsStatus(err, http.StatusForbidden), "it is not theirs to take: %v", err)
	require.True(t, client.IsStatus(charts.DeleteSheet(ctx, "counter", 1), http.StatusForbidden))
	_, err = charts.SaveSheet(ctx, "chart", 0, chart)
	require.NoError(t, err)
	_, err = charts.SaveSheet(ctx, "chart", 1, counter)
	require.True(t, client.IsStatus(err, http.StatusForbidden), err)
	_, err = charts.BuildSheet(ctx, "counter", client.BuildSheet{})
	require.True(t, client.IsStatus(err, http.StatusForbidden), err)
	require.NoError(t, charts.DeleteSheet(ctx, "chart", 1))
}
