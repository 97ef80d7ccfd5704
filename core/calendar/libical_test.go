package calendar

import (
	"bytes"
	"encoding/json"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// expand has libical, of Debian's package libical3, expand rules from an instant in UTC.
const expand = `
import ctypes, json, sys
expand = ctypes.CDLL("libical.so.3").icalrecur_expand_recurrence
expand.argtypes = [ctypes.c_char_p, ctypes.c_long, ctypes.c_int, ctypes.POINTER(ctypes.c_long)]
asked = json.load(sys.stdin)
out = []
for rule in asked["rules"]:
    times = (ctypes.c_long * asked["most"])()
    expand(rule.encode(), asked["begins"], asked["most"], times)
    out.append([t for t in times if t])
json.dump(out, sys.stdout)
`

func TestRulesComeAsLibicalHasThem(t *testing.T) {
	t.Parallel()
	const python = "/usr/bin/python3" // Debian's own
	begins := on(t, "2026-11-20T03:30:00Z")
	var rules []string
	for freq, bys := range map[string][]string{
		"DAILY": {
			"", ";INTERVAL=3", ";BYMONTH=2,12", ";BYMONTHDAY=1,15", ";BYDAY=MO,FR", ";BYHOUR=1,13;BYMINUTE=0,30",
			";INTERVAL=10;COUNT=4", ";UNTIL=20261125T033000Z",
		},
		"WEEKLY": {
			"", ";BYDAY=TU,SU", ";INTERVAL=2;BYDAY=MO,SU;WKST=SU", ";INTERVAL=2;BYDAY=MO,SU;WKST=MO",
			";BYMONTH=1;BYDAY=WE",
		},
		"MONTHLY": {
			"", ";BYDAY=1MO", ";BYDAY=-1FR", ";BYDAY=TU,4MO", ";BYDAY=MO,2TU,-1WE", ";BYMONTHDAY=31", ";BYMONTHDAY=-2",
			";BYMONTHDAY=13;BYDAY=FR", ";INTERVAL=5;BYDAY=3TH", ";BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", ";BYDAY=5SU",
			";BYMONTH=3,6;BYDAY=2SA", ";BYMONTHDAY=8,9,10,11,12,13,14;BYDAY=TU",
		},
		"YEARLY": {
			"", ";BYMONTH=6,7", ";BYMONTH=2;BYMONTHDAY=29", ";BYDAY=20MO", ";BYDAY=-1SU", ";BYMONTH=11;BYDAY=4TH",
			";BYWEEKNO=20;BYDAY=MO", ";BYWEEKNO=20,30;BYDAY=MO,SU", ";BYYEARDAY=1,100,-1", ";BYMONTH=1;BYDAY=MO,2TU",
			";INTERVAL=4;BYMONTH=11;BYDAY=TU",
			";BYMONTH=10;BYDAY=-1SU;COUNT=3", ";INTERVAL=20",
		},
	} {
		for _, by := range bys {
			rules = append(rules, "FREQ="+freq+by)
		}
	}
	const most = 12
	asked, err := json.Marshal(map[string]any{"rules": rules, "begins": begins.Unix(), "most": most})
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), python, "-c", expand)
	cmd.Stdin = bytes.NewReader(asked)
	text, err := cmd.Output()
	require.NoError(t, err, "apt install libical3 python3")
	var theirs [][]int64
	require.NoError(t, json.Unmarshal(text, &theirs))
	for i, rule := range rules {
		r, err := Parse(rule, "UTC", begins)
		require.NoError(t, err, rule)
		var ours, want []string
		for _, at := range r.Next(begins.Add(-time.Second), most) {
			ours = append(ours, at.Format(time.RFC3339))
		}
		for _, at := range theirs[i] {
			want = append(want, time.Unix(at, 0).UTC().Format(time.RFC3339))
		}
		n := min(len(ours), len(want)) // libical stops in 2037
		require.NotZero(t, n, rule)
		require.Equal(t, want[:n], ours[:n], rule)
	}
}
