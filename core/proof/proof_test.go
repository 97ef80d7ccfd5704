package proof

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/build"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestAFirstStartIsProved(t *testing.T) {
	t.Parallel()
	done, underWay := build.Task{State: build.Done, EndedAt: noon}, build.Task{State: build.UnderWay}
	broken := build.Task{State: build.TaskFailed, Why: "broken", EndedAt: noon}
	s := Snapshot{State: Making, Stamp: "desk 1", Limits: UsualLimits}
	is := func(state State, why string, actions ...Action) {
		t.Helper()
		d := Decide(s, noon)
		require.Equal(t, state, d.State)
		require.Equal(t, why, d.Why)
		require.Equal(t, actions, d.Actions)
	}
	is(Waiting, "")
	s.Version = broken
	is(Failed, "the version was not made: broken", Action{Kind: Settle})
	s.Version = done
	is(Waiting, "", Action{Kind: DeliverCopy})
	s.Copy = underWay
	is(Waiting, "")
	s.Copy = broken
	is(Failed, "it has no copy at the site to start it from: broken", Action{Kind: Settle})
	s.Copy = done
	is(Making, "", Action{Kind: MakeMachine})
	s.Machine = underWay
	is(Making, "")
	s.Machine = broken
	is(Failed, "its machine could not be made: broken", Action{Kind: DiscardMachine, Attempt: 1})
	s.Machine = done
	is(Starting, "")
	s.Machine.EndedAt = noon.Add(-UsualLimits.FirstStart)
	is(Failed, "its agent did not speak within 20m of its first start", Action{Kind: DiscardMachine, Attempt: 1})
	s.SpokeAt, s.Says = noon, "desk 2"
	is(Failed, `its agent says that it runs "desk 2", and not "desk 1"`, Action{Kind: DiscardMachine, Attempt: 1})
	s.Says = "desk 1"
	is(Trying, "")
	s.Checks = broken
	is(Failed, "the machine's checks failed: broken", Action{Kind: DiscardMachine, Attempt: 1})
	s.Checks, s.SpokeAt = underWay, noon.Add(-UsualLimits.Checks)
	is(Failed, "the machine's checks did not end within 15m", Action{Kind: DiscardMachine, Attempt: 1})
	s.Checks = done
	is(Trying, "", Action{Kind: Try})
	s.Tried = underWay
	is(Trying, "")
	s.LetGo = "barred"
	is(Over, "barred")
	s.LetGo, s.Tried = "", broken
	is(Failed, "what is on it could not be tried: broken", Action{Kind: DiscardMachine, Attempt: 1})
	s.Tried, s.Results = done, []Result{{Name: "Fare Desk", Why: "it did not open"}, {Name: "Tides"}}
	is(Failed, "Fare Desk: it did not open", Action{Kind: DiscardMachine, Attempt: 1})
	s.Results = s.Results[1:]
	is(Passed, "", Action{Kind: DiscardMachine, Attempt: 1})
	s.State, s.Discards = Passed, []build.Task{underWay}
	is(Passed, "")
	s.Discards = []build.Task{broken}
	is(Passed, "")
	s.Discards[0].EndedAt = noon.Add(-discardAgain)
	is(Passed, "", Action{Kind: DiscardMachine, Attempt: 2})
	s.Discards = append(s.Discards, done)
	is(Passed, "", Action{Kind: Settle})
}

func TestAMachineToLookAtIsKeptUntilItsTimeIsOver(t *testing.T) {
	t.Parallel()
	s := Snapshot{
		State: Starting, Stamp: "desk 1", Until: noon.Add(time.Hour), SpokeAt: noon, Says: "desk 1",
		Machine: build.Task{State: build.Done, EndedAt: noon},
	}
	require.Equal(t, Decision{State: Kept}, Decide(s, noon))
	require.Equal(t, Decision{State: Over, Why: "its time is over", Actions: []Action{{DiscardMachine, 1}}},
		Decide(s, s.Until))
	require.Len(t, States(), 8)
}

// Whatever happens, a proof ends, and leaves no machine.
func TestEveryProofEndsAndLeavesNoMachine(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		s, now := Snapshot{
			State: Waiting, Stamp: "desk 1", Limits: UsualLimits, Version: build.Task{State: build.UnderWay},
		}, noon
		happens := func(n int, what string) bool { return rapid.IntRange(1, n).Draw(t, what) == 1 }
		proceed := func(task *build.Task, what string) {
			if task.State != build.UnderWay || happens(2, what+" goes on") {
				return
			}
			*task = build.Task{State: build.Done, EndedAt: now}
			if happens(5, what+" fails") {
				*task = build.Task{State: build.TaskFailed, Why: what, EndedAt: now}
			}
		}
		if happens(3, "for a person") {
			s.Until = now.Add(time.Hour)
		}
		seen := map[Action]bool{}
		for range 2000 {
			d := Decide(s, now)
			if s.State.Ended() {
				require.Equal(t, s.State, d.State)
			}
			s.State = d.State
			for _, a := range d.Actions {
				require.False(t, seen[a], "%v once", a)
				seen[a] = true
				switch a.Kind {
				case DeliverCopy:
					s.Copy = build.Task{State: build.UnderWay}
				case MakeMachine:
					require.Equal(t, build.Done, s.Copy.State)
					s.Machine = build.Task{State: build.UnderWay}
				case Try:
					s.Tried = build.Task{State: build.UnderWay}
				case DiscardMachine:
					require.NotEqual(t, build.UnderWay, s.Machine.State)
					require.True(t, s.State.Ended())
					s.Discards = append(s.Discards, build.Task{State: build.UnderWay})
				case Settle:
					if s.Machine.State != build.Unasked {
						require.Equal(t, build.Done, s.Discards[len(s.Discards)-1].State)
					}
					return
				}
			}
			now = now.Add(time.Duration(rapid.IntRange(1, 120).Draw(t, "passes")) * time.Second)
			proceed(&s.Version, "capture")
			proceed(&s.Copy, "copy")
			proceed(&s.Machine, "making")
			if s.Machine.State == build.Done && s.SpokeAt.IsZero() && happens(4, "speaks") {
				s.SpokeAt, s.Says, s.Checks = now, "desk 1", build.Task{State: build.UnderWay}
			}
			proceed(&s.Checks, "checks")
			proceed(&s.Tried, "trying")
			if happens(80, "let go") {
				s.LetGo = "barred"
			}
			for i := range s.Discards {
				proceed(&s.Discards[i], "discard")
			}
		}
		require.Fail(t, "the proof does not end")
	})
}
