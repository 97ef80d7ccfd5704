package clearance

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func cleared() (Settings, Facts) {
	return Settings{Testers: 2, Soak: 24 * time.Hour, Copies: 2}, Facts{
		State: "sealed", PilotSince: now.Add(-25 * time.Hour),
		Verdicts:   []Verdict{{Tester: "wilma", Yes: true}, {Tester: "anton", Yes: true}},
		PilotPools: []PilotPool{{Name: "ticket-pilot", Hosts: 4, Running: 4}},
		Sites:      []SiteCopies{{"north-quay", 2}, {"south-quay", 3}},
	}
}

func TestAVersionThatMeetsAllHasClearance(t *testing.T) {
	t.Parallel()
	s, f := cleared()
	require.Empty(t, Unmet(Evaluate(s, f, now)))
}

func TestEachRuleCanRefuseAndSaysWhy(t *testing.T) {
	t.Parallel()
	for _, tc := range []struct {
		rule, why string
		change    func(*Settings, *Facts)
	}{
		{"usable", "barred: printers", func(_ *Settings, f *Facts) { f.Barred = "printers" }},
		{"usable", "it is capturing", func(_ *Settings, f *Facts) { f.State = "capturing" }},
		{"usable", "end-of-life on 2026-11-23", func(_ *Settings, f *Facts) { f.EndOfLife = now }},
		{"copies", "south-quay has 1 of 2", func(_ *Settings, f *Facts) { f.Sites[1].Present = 1 }},
		{"pilot-hosts", "3 of 4 pilot hosts run it and serve; not tp-002 (faulty)", func(_ *Settings, f *Facts) {
			f.PilotPools[0].Running, f.PilotPools[0].Missing = 3, []string{"tp-002 (faulty)"}
		}},
		{"pilot-hosts", "no pool follows pilot", func(_ *Settings, f *Facts) { f.PilotPools = nil }},
		{"pilot-hosts", "have no hosts", func(_ *Settings, f *Facts) { f.PilotPools = []PilotPool{{Name: "p"}} }},
		{"soak", "on pilot for 23 h of 1 d; met at 2026-11-23 13:00 UTC", func(_ *Settings, f *Facts) { f.PilotSince = now.Add(-23 * time.Hour) }},
		{"soak", "stage it first", func(_ *Settings, f *Facts) { f.PilotSince = time.Time{} }},
		{"testers", "1 of 2 testers said yes: anton", func(_ *Settings, f *Facts) { f.Verdicts = f.Verdicts[1:] }},
		{"testers", "no from wilma (tickets do not print)", func(_ *Settings, f *Facts) { f.Verdicts[0] = Verdict{Tester: "wilma", Comment: "tickets do not print"} }},
		{"testers", "no from joost", func(_ *Settings, f *Facts) { f.Verdicts = append(f.Verdicts, Verdict{Tester: "joost"}) }},
	} {
		t.Run(tc.why, func(t *testing.T) {
			t.Parallel()
			s, f := cleared()
			tc.change(&s, &f)
			unmet := Unmet(Evaluate(s, f, now))
			require.Len(t, unmet, 1)
			require.Equal(t, tc.rule, unmet[0].Rule)
			require.Contains(t, unmet[0].Why, tc.why)
		})
	}
}

func TestSpan(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{
		20 * time.Second: "20 s", 35 * time.Minute: "35 min", 2 * time.Hour: "2 h", 90 * time.Minute: "1 h 30 min",
		48 * time.Hour: "2 d", 52 * time.Hour: "2 d 4 h",
	} {
		require.Equal(t, want, Span(d))
	}
}
