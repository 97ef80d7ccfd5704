package host_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/host"
)

func TestAHostDriftsForAReason(t *testing.T) {
	t.Parallel()
	for want, d := range map[string]host.Drift{
		"waits in rollover 7":           {State: host.Serving, Rollover: 7, Open: true, Queued: true},
		"rollover 7 is rolling it over": {State: host.Draining, Rollover: 7, Open: true},
		"has no machine yet":            {State: host.Off},
		"faulty: its agent is silent":   {State: host.Faulty, Why: "its agent is silent", DrainedBy: "mira"},
		"drained by mira":               {State: host.Draining, DrainedBy: "mira", Rollover: 6, Missed: true},
		"skipped by rollover 6: drained by jonas": {
			State: host.Serving, Rollover: 6, Missed: true,
			Note: "drained by jonas",
		},
		"skipped by rollover 7: its pool has 1 host": {
			State: host.Serving, Rollover: 7, Open: true, Missed: true, Note: "its pool has 1 host",
		},
		"its pool is pinned, and was not rolled over yet": {State: host.Serving, Pinned: true},
		"not rolled over yet":                             {State: host.Serving},
	} {
		require.Equal(t, want, d.Reason())
	}
}
