package clearance

import (
	"fmt"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/proof"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func cleared() (Settings, Facts) {
	return Settings{Testers: 2, Soak: 24 * time.Hour, Copies: 2}, Facts{
		State: "sealed", PilotSince: now.Add(-25 * time.Hour),
		Verdicts:   []Verdict{{Tester: "wilma", Yes: true}, {Tester: "anton", Yes: true}},
		PilotPools: []PilotPool{{Name: "ticket-pilot", Hosts: 4, Running: 4}},
		Sites:      []SiteCopies{{"north-quay", 2}, {"south-quay", 3}},
		Proof:      proof.Passed,
	}
}

func TestAVersionThatMeetsAllHasClearance(t *testing.T) {
	t.Parallel()
	s, f := cleared()
	require.Equal(t, []Answer{
		{"usable", true, "it is sealed and not barred"},
		{"first-start", true, "it was started once, and all that was tried came up"},
		{"copies", true, "every site has its copies: north-quay has 2, south-quay has 3"},
		{"pilot-hosts", true, "all 4 pilot hosts run it and serve"},
		{"soak", true, "on pilot for 1 d 1 h; 1 d are asked for"},
		{"testers", true, "2 of 2 testers said yes: wilma, anton"},
	}, Evaluate(s, f, now))
	require.Empty(t, Unmet(Evaluate(s, f, now)))
}

func TestWhatIsJustEnoughIsEnough(t *testing.T) {
	t.Parallel()
	s, f := cleared()
	f.PilotSince = now.Add(-s.Soak)
	f.EndOfLife = now.Add(time.Nanosecond)
	f.Sites = nil
	s.Testers, f.Verdicts = 0, nil
	answers := Evaluate(s, f, now)
	require.Empty(t, Unmet(answers))
	require.Equal(t, "no pool follows live, so no site needs a copy", answers[2].Why)
	require.Equal(t, "0 of 0 testers said yes", answers[5].Why)
	for _, none := range []proof.State{"", proof.Over} {
		f.Proof = none
		require.Equal(t, Answer{"first-start", true, "its first start was not proved apart from its hosts"},
			Evaluate(s, f, now)[1])
	}
}

func TestEachRuleCanRefuseAndSaysWhy(t *testing.T) {
	t.Parallel()
	for _, tc := range []struct {
		rule, why string
		change    func(*Settings, *Facts)
	}{
		{"usable", "barred: printers", func(_ *Settings, f *Facts) { f.Barred = "printers" }},
		{
			"usable", "it is capturing; only a sealed version can go live",
			func(_ *Settings, f *Facts) { f.State = "capturing" },
		},
		{"usable", "end-of-life on 2026-11-23", func(_ *Settings, f *Facts) { f.EndOfLife = now }},
		{"first-start", "its first start failed: no window", func(_ *Settings, f *Facts) {
			f.Proof, f.ProofWhy = proof.Failed, "no window"
		}},
		{"first-start", "is being proved", func(_ *Settings, f *Facts) { f.Proof = proof.Trying }},
		{"copies", "south-quay has 1 of 2", func(_ *Settings, f *Facts) { f.Sites[1].Present = 1 }},
		{"pilot-hosts", "3 of 4 pilot hosts run it and serve; not tp-002 (faulty)", func(_ *Settings, f *Facts) {
			f.PilotPools[0].Running, f.PilotPools[0].Missing = 3, []string{"tp-002 (faulty)"}
		}},
		{"pilot-hosts", "8 of 12 pilot hosts run it and serve; not a, b, c, d", func(_ *Settings, f *Facts) {
			f.PilotPools = append(f.PilotPools, PilotPool{Hosts: 8, Running: 4, Missing: []string{"a", "b", "c", "d"}})
		}},
		{"pilot-hosts", "7 of 12 pilot hosts run it and serve; not a, b, c, d and 1 more", func(_ *Settings, f *Facts) {
			f.PilotPools = append(f.PilotPools, PilotPool{
				Hosts: 8, Running: 3,
				Missing: []string{"a", "b", "c", "d", "e"},
			})
		}},
		{
			"pilot-hosts", "no pool follows pilot, so nobody has tried it",
			func(_ *Settings, f *Facts) { f.PilotPools = nil },
		},
		{"pilot-hosts", "have no hosts", func(_ *Settings, f *Facts) { f.PilotPools = []PilotPool{{Name: "p"}} }},
		{
			"soak", "on pilot for 23 h of 1 d; met at 2026-11-23 13:00 UTC",
			func(_ *Settings, f *Facts) { f.PilotSince = now.Add(-23 * time.Hour) },
		},
		{"soak", "stage it first", func(_ *Settings, f *Facts) { f.PilotSince = time.Time{} }},
		{"testers", "1 of 2 testers said yes: anton", func(_ *Settings, f *Facts) { f.Verdicts = f.Verdicts[1:] }},
		{
			"testers", "1 of 2 testers said yes: anton; that of wilma does not count: the same person made the version",
			func(s *Settings, f *Facts) { s.Independent, f.Makers = true, []string{"jonas", "wilma"} },
		},
		{
			"testers", "no from wilma (tickets do not print); 1 of 2 testers said yes: anton",
			func(_ *Settings, f *Facts) { f.Verdicts[0] = Verdict{Tester: "wilma", Comment: "tickets do not print"} },
		},
		{
			"testers", "no from joost; 2 of 2 testers said yes: wilma, anton",
			func(_ *Settings, f *Facts) { f.Verdicts = append(f.Verdicts, Verdict{Tester: "joost"}) },
		},
	} {
		t.Run(tc.why, func(t *testing.T) {
			t.Parallel()
			s, f := cleared()
			tc.change(&s, &f)
			unmet := Unmet(Evaluate(s, f, now))
			require.Len(t, unmet, 1)
			require.Equal(t, tc.rule, unmet[0].Rule)
			require.Regexp(t, regexp.QuoteMeta(tc.why)+"$", unmet[0].Why)
		})
	}
}

func TestSpan(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{
		20 * time.Second: "20 s", 35 * time.Minute: "35 min", 2 * time.Hour: "2 h", 90 * time.Minute: "1 h 30 min",
		48 * time.Hour: "2 d", 52 * time.Hour: "2 d 4 h", 73 * time.Hour: "3 d 1 h", 47*time.Hour +
			59*time.Minute: "1 d 23 h",
		time.Minute: "1 min", time.Hour: "1 h", time.Hour + time.Minute: "1 h 1 min", time.Hour + 59*time.Second: "1 h",
		24 * time.Hour: "1 d", 24*time.Hour + 59*time.Minute: "1 d", 0: "0 s", 59*time.Second +
			999*time.Millisecond: "59 s",
	} {
		require.Equal(t, want, Span(d))
	}
}

func TestTheSoftwareIsHeldAgainstTheVersionInUseIfThatIsAskedFor(t *testing.T) {
	t.Parallel()
	asked := Settings{KeepApplications: true, NoDowngrades: true}
	answers := func(s Software) map[string]string {
		out := map[string]string{}
		for _, a := range Evaluate(asked, Facts{Software: s}, time.Time{}) {
			out[a.Rule] = fmt.Sprint(a.Met, " ", a.Why)
		}
		return out
	}
	older := []Downgrade{{"card-reader", "1.9", "1.8"}, {"viewer", "2", "1"}}
	for _, c := range []struct {
		software                 Software
		applications, downgrades string
	}{
		{Software{}, "true live names no other version", "true live names no other version"},
		{
			Software{With: "desk 1", Unknown: "desk 1 has no software list"},
			"false it cannot be held against desk 1: desk 1 has no software list",
			"false it cannot be held against desk 1",
		},
		{
			Software{With: "desk 1"},
			"true it has all applications that desk 1 has",
			"true nothing is older than in desk 1",
		},
		{
			Software{With: "desk 1", Missing: []string{"Fare Desk", "Tide Tables"}, Downgraded: older},
			"false desk 1 has Fare Desk and Tide Tables, which it lacks",
			"false older than in desk 1: card-reader (1.8, and 1.9 before), viewer (1, and 2 before)",
		},
		{
			Software{With: "desk 1", Downgraded: older, Waived: map[string]string{"viewer": "it crashed (tove)"}},
			"true it has all", "false older than in desk 1: card-reader (1.8, and 1.9 before)",
		},
		{
			Software{With: "desk 1", Downgraded: older[1:], Waived: map[string]string{"viewer": "it crashed (tove)"}},
			"true it has all", "true nothing else is older than in desk 1; viewer is older, passed over: it " +
				"crashed (tove)",
		},
		{
			Software{With: "desk 1", Downgraded: append(append(older, older...), older...)},
			"true it has all", "false older than in desk 1: card-reader (1.8, and 1.9 before), viewer (1, and 2 " +
				"before), card-reader (1.8, and 1.9 before), viewer (1, and 2 before), card-reader (1.8, and 1.9 " +
				"before) and 1 more",
		},
	} {
		got := answers(c.software)
		require.Contains(t, got["applications"], c.applications)
		require.Contains(t, got["downgrades"], c.downgrades)
	}
	asked = Settings{}
	require.NotContains(t, answers(Software{}), "applications")
}
