package rollover

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/host"
)

// signOffAgain is how long after a sign-off that did not end the session the order is given again.
const signOffAgain = time.Minute

// Decide says what is to be done now. It is pure: the same arguments get the
// same answer, and neither is changed.
//
// Rules that hold by construction, whatever the snapshot says:
//   - a host is rebuilt only if its agent's last heartbeat is fresh, confirms
//     the drain and names no session; or if it has no machine, or one that
//     never served and names no session; or if a person vouches for it and its
//     agent has been silent since;
//   - a session is signed off only when its own delivered warning is older
//     than the grace period;
//   - a host is taken out of service only if the free seats left are at least
//     the floor, with the people who would have to move there counted in;
//   - no more hosts are cloned or started than the site has left;
//   - a rollover that is paused or stopped takes no host and ends no session,
//     and a stopped one lets go of every host whose disk it has not replaced;
//   - no host is put to service that has no machine, or one that is silent or
//     has not passed its checks.
func Decide(p Plan, s Snapshot, now time.Time) Decision {
	d := decider{plan: p, site: s.Site, listening: s.Listening, now: now}
	switch p.State {
	case Planned, Waiting:
		d.begin(s)
	case Running:
		d.run(s.Hosts)
	case Paused:
		d.finishWiped(s.Hosts)
	case Stopped:
		d.finishWiped(s.Hosts)
		d.putBack(s.Hosts)
	}
	return d.Decision
}

type decider struct {
	Decision
	plan      Plan
	site      Site
	listening time.Time
	now       time.Time

	clonesShort, startsShort int // hosts that wait for the site
}

func (d *decider) act(a Action) { d.Actions = append(d.Actions, a) }

func (d *decider) hold(format string, args ...any) {
	d.Holds = append(d.Holds, fmt.Sprintf(format, args...))
}

func (d *decider) begin(s Snapshot) {
	switch {
	case s.HeldBy != "":
		d.hold("%s has to end first", s.HeldBy)
	case d.now.Before(d.plan.EarliestStart):
		d.hold("starts at %s", d.plan.EarliestStart.UTC().Format("2006-01-02 15:04 MST"))
	default:
		d.act(Action{Kind: Start})
		return
	}
	if d.plan.State == Planned {
		d.act(Action{Kind: Postpone})
	}
}

func (d *decider) run(hosts []Host) {
	failed := 0
	for i := range hosts {
		if hosts[i].Phase == Failed {
			failed++
		}
	}
	for i := range hosts {
		failed += d.advance(&hosts[i])
	}
	if failed-d.plan.Excused > d.plan.Budget {
		// The failures are recorded, and nothing that was about to be done to other hosts is.
		recorded := []ActionKind{Fail, BootHost, CheckHost, Return}
		d.Actions = slices.DeleteFunc(d.Actions, func(a Action) bool {
			return !slices.Contains(recorded, a.Kind)
		})
		d.act(Action{Kind: Pause, Why: fmt.Sprintf("%s failed; the failure budget is %d",
			count(failed-d.plan.Excused, "host"), d.plan.Budget)})
		return
	}
	if d.clonesShort > 0 {
		if d.site.NoCopy != "" {
			d.hold("%s for cloning: %s", waits(d.clonesShort), d.site.NoCopy)
		} else {
			d.hold("%s for a free place to clone at %s", waits(d.clonesShort), d.site.Name)
		}
	}
	if d.startsShort > 0 {
		d.hold("%s for the start stagger of %s", waits(d.startsShort), d.site.Name)
	}
	d.take(hosts)
}

func (d *decider) finishWiped(hosts []Host) {
	for i := range hosts {
		if h := &hosts[i]; h.Phase == Rebuilding || h.Phase == Checking {
			d.advance(h)
		}
	}
}

func (d *decider) putBack(hosts []Host) {
	flying := 0
	for i := range hosts {
		switch h := &hosts[i]; h.Phase {
		case Queued:
			d.act(Action{Kind: Leave, Host: h.ID, Why: "the rollover was stopped before its turn"})
		case Draining, Warned, Emptied:
			d.act(Action{Kind: Release, Host: h.ID, Rest: d.rest(h), Why: "the rollover was stopped; " +
				restText(d.rest(h))})
		case Rebuilding, Checking:
			flying++
		}
	}
	if flying > 0 {
		d.hold("finishing %s whose disk was gone already", count(flying, "host"))
	} else if len(d.Actions) == 0 {
		d.act(Action{Kind: Settle})
	}
}

// advance decides what the host needs to get on from its phase, and returns 1 if that is to fail.
func (d *decider) advance(h *Host) int {
	switch h.Phase {
	case Draining, Warned:
		return d.drain(h)
	case Emptied:
		return d.rebuild(h)
	case Rebuilding:
		return d.rebuilding(h)
	case Checking:
		return d.checking(h)
	}
	return 0
}

// fresh says that what the agent reported still stands.
func (d *decider) fresh(h *Host) bool { return d.now.Sub(h.Seen) <= d.plan.Limits.Silent }

// silent says that the agent could have been heard for long enough, and was not.
func (d *decider) silent(h *Host) bool {
	return !d.fresh(h) && d.now.Sub(d.listening) > d.plan.Limits.Silent
}

// empty is the only way in which a host counts as having nobody on it.
func (d *decider) empty(h *Host) bool {
	switch {
	case !h.Machine:
		return true
	case d.fresh(h):
		return len(h.Sessions) == 0 && (h.Confirmed || h.Unserved)
	case h.Unserved:
		return len(h.Sessions) == 0
	}
	return vouched(h)
}

// vouched says that a person's word stands: the agent has said nothing since.
func vouched(h *Host) bool { return h.Vouched.After(h.Seen) }

// rest is the state in which a host is let go of that keeps what it has.
func (d *decider) rest(h *Host) host.State {
	switch {
	case !h.Machine:
		return host.Off
	case h.Unserved || vouched(h) || d.silent(h):
		return host.Faulty
	}
	return host.Serving
}

// restText describes the state of a host that keeps its old disk.
func restText(rest host.State) string {
	switch rest {
	case host.Off:
		return "it has no machine yet"
	case host.Faulty:
		return "it is as faulty as it was"
	}
	return "back to service on its old disk"
}

// fail gives a host up that has its old disk still.
func (d *decider) fail(h *Host, format string, args ...any) int {
	return d.failAs(h, d.rest(h), format, args...)
}

// wiped gives a host up whose old disk is gone.
func (d *decider) wiped(h *Host, format string, args ...any) int {
	return d.failAs(h, host.Faulty, format, args...)
}

func (d *decider) failAs(h *Host, rest host.State, format string, args ...any) int {
	d.act(Action{Kind: Fail, Host: h.ID, Rest: rest, Why: fmt.Sprintf(format, args...)})
	return 1
}

func (d *decider) drain(h *Host) int {
	switch {
	case d.empty(h):
		d.act(Action{Kind: EmptyHost, Host: h.ID, Batch: h.Batch})
		return 0
	case d.silent(h):
		return d.fail(h, "its agent fell silent while it drained (last heard %s); silence proves nothing about its "+
			"sessions, so its disk was left alone", clock(h.Seen))
	case !d.fresh(h):
		return 0
	case !h.Confirmed:
		// Give up only on an agent that speaks: the order is in every answer it gets.
		if h.Phase == Draining && d.now.Sub(h.Since) > d.plan.Limits.Confirm {
			return d.fail(h, "its agent did not confirm the drain within %s", d.plan.Limits.Confirm)
		}
		return 0
	}
	warns := d.plan.LogOff == Warn || d.plan.Deadline > 0 &&
		(h.Phase == Warned || d.now.Sub(h.Since) >= d.plan.Deadline)
	if !warns {
		return 0
	}
	var warn, remind, end []string
	for _, s := range h.Sessions {
		asked := !s.Asked.IsZero() && !s.Asked.Before(d.plan.ResumedAt)
		told := asked && !s.Warned.Before(s.Asked)
		over := s.Warned.Add(d.plan.Grace)
		switch {
		case !asked:
			warn = append(warn, s.Key)
		case !told:
			// The agent has the notice in its orders and has not confirmed it yet.
		case d.now.Before(over):
			if d.plan.LastNotice < d.plan.Grace && s.Reminded.Before(s.Warned) &&
				!d.now.Before(over.Add(-d.plan.LastNotice)) {
				remind = append(remind, s.Key)
			}
		case !s.SignOffFirst.Before(s.Warned) && d.now.Sub(s.SignOffFirst) > d.plan.Limits.SignOff:
			return d.fail(h, "the session of %s could not be ended: signed off at %s, still there %s later", s.Person,
				clock(s.SignOffFirst), d.plan.Limits.SignOff)
		case d.now.Sub(s.SignOffLast) >= signOffAgain:
			end = append(end, s.Key)
		}
	}
	if len(warn) > 0 {
		d.act(Action{Kind: WarnHost, Host: h.ID, Sessions: warn})
	}
	if len(remind) > 0 {
		d.act(Action{Kind: Remind, Host: h.ID, Sessions: remind})
	}
	if len(end) > 0 {
		d.act(Action{Kind: SignOff, Host: h.ID, Sessions: end})
	}
	return 0
}

func (d *decider) rebuild(h *Host) int {
	if !d.empty(h) {
		if d.fresh(h) && len(h.Sessions) > 0 {
			d.act(Action{Kind: Refill, Host: h.ID, Why: "its agent reports a session again"})
			return 0
		}
		if d.silent(h) {
			return d.fail(h, "its agent fell silent before its disk could be replaced (last heard %s)", clock(h.Seen))
		}
		if d.fresh(h) && d.now.Sub(h.Since) > d.plan.Limits.Confirm {
			return d.fail(h, "its agent speaks and did not confirm the drain within %s", d.plan.Limits.Confirm)
		}
		return 0
	}
	switch {
	case h.State != host.Emptied:
		// It was silent and is heard again: it is emptied once more before its disk goes.
		d.act(Action{Kind: EmptyHost, Host: h.ID, Batch: h.Batch})
	case d.site.ClonesLeft <= 0:
		d.clonesShort++
	case d.site.StartsLeft <= 0:
		d.startsShort++
	default:
		d.site.ClonesLeft--
		d.site.StartsLeft--
		d.act(Action{Kind: Rebuild, Host: h.ID})
	}
	return 0
}

func (d *decider) rebuilding(h *Host) int {
	switch {
	case h.Rebuild.State == Succeeded:
		d.act(Action{Kind: BootHost, Host: h.ID})
	case h.Rebuild.State == Broken:
		return d.wiped(h, "its new disk could not be made: %s", h.Rebuild.Why)
	case d.now.Sub(h.Since) > d.plan.Limits.Rebuild:
		return d.wiped(h, "its new disk was not ready within %s", d.plan.Limits.Rebuild)
	}
	return 0
}

func (d *decider) checking(h *Host) int {
	switch {
	case h.Stamp != 0 && h.Stamp != d.plan.Target:
		return d.wiped(h, "it came back with another version than it was made from")
	case h.Checks.State == Broken:
		return d.wiped(h, "its checks failed: %s", h.Checks.Why)
	case h.State == host.Starting && !h.Seen.IsZero():
		d.act(Action{Kind: CheckHost, Host: h.ID})
	case h.Checks.State == Succeeded && h.Stamp == d.plan.Target && d.fresh(h):
		d.act(Action{Kind: Return, Host: h.ID})
	case d.now.Sub(h.Since) <= d.plan.Limits.Check:
	case h.Seen.IsZero():
		return d.wiped(h, "its agent did not report within %s of its start", d.plan.Limits.Check)
	default:
		return d.wiped(h, "its checks did not end within %s", d.plan.Limits.Check)
	}
	return 0
}

// take opens the next batch, or fills up the one that was opened, as far as the floor lets it.
func (d *decider) take(hosts []Host) {
	var (
		queue            []*Host
		batch, size      int // the newest batch and how many hosts it has
		flying, settled  int // in flight at all; settled of the newest batch
		lastSettled      time.Time
		free, displaced  int
		waitingForOthers int
		blocked          []*Host // queued hosts that cannot be taken as they are
	)
	warns := d.plan.LogOff == Warn || d.plan.Deadline > 0
	for i := range hosts {
		batch = max(batch, hosts[i].Batch)
	}
	for i := range hosts {
		h := &hosts[i]
		if h.State == host.Serving && d.fresh(h) {
			free += max(0, h.Seats-len(h.Sessions))
		}
		if warns && (h.Phase == Draining || h.Phase == Warned) {
			displaced += len(h.Sessions)
		}
		if h.Phase.InFlight() {
			flying++
		}
		if h.Batch == batch {
			size++
			if h.Phase.Settled() {
				settled++
				if h.Since.After(lastSettled) {
					lastSettled = h.Since
				}
			}
		}
		if h.Phase != Queued {
			continue
		}
		switch {
		case h.Version == d.plan.Target && !d.plan.Forced && h.State == host.Serving:
			d.act(Action{Kind: Leave, Host: h.ID, Why: "it runs the version already"})
		case (h.State == host.Off || h.State == host.Faulty) && d.empty(h), h.State == host.Serving && d.fresh(h):
			queue = append(queue, h)
		case h.State == host.Serving && !d.silent(h), h.State == host.Starting || h.State == host.Checking ||
			h.State == host.Rebuilding:
			waitingForOthers++
		default:
			blocked = append(blocked, h)
		}
	}
	if len(queue) == 0 {
		if flying == 0 && waitingForOthers == 0 {
			for _, h := range blocked {
				d.act(Action{Kind: Leave, Host: h.ID, Why: d.whyBlocked(h)})
			}
			if !slices.ContainsFunc(d.Actions, func(a Action) bool { return a.Host != 0 }) {
				d.act(Action{Kind: Finish})
			}
		}
		return
	}

	room := d.plan.BatchSize
	switch {
	case flying > 0 && settled > 0:
		d.hold("%s of batch %d not done yet", count(flying, "host"), batch)
		return
	case flying > 0:
		room -= size
	case batch > 0 && d.now.Before(lastSettled.Add(d.plan.Observe)):
		d.hold("observing batch %d until %s", batch, clock(lastSettled.Add(d.plan.Observe)))
		return
	default:
		batch++
	}

	// Those with the fewest people first: they are done soonest and disturb least.
	slices.SortStableFunc(queue, func(a, b *Host) int {
		return cmp.Or(cmp.Compare(len(a.Sessions), len(b.Sessions)), cmp.Compare(a.Name, b.Name))
	})
	taken, held := 0, false
	for _, h := range queue {
		if taken >= room {
			return
		}
		if h.State != host.Serving {
			// There is no machine, or nobody can be on it: nothing to drain and no seat to lose.
			d.act(Action{Kind: EmptyHost, Host: h.ID, Batch: batch})
			taken++
			continue
		}
		after := free - max(0, h.Seats-len(h.Sessions))
		moving := 0
		if warns {
			moving = displaced + len(h.Sessions)
		}
		if after-moving < d.plan.Floor {
			if taken == 0 && flying == 0 && !held {
				held = true
				d.hold("taking %s would leave %s (%d of people who would have to move); the floor is %d", h.Name,
					count(after, "free seat"), moving, d.plan.Floor)
			}
			// A host with fewer seats may still fit.
			continue
		}
		free, displaced = after, moving
		d.act(Action{Kind: DrainHost, Host: h.ID, Batch: batch})
		taken++
	}
}

func (d *decider) whyBlocked(h *Host) string {
	switch {
	case h.DrainedBy != "":
		return fmt.Sprintf("%s had drained it by hand; return it to service, then roll it over", h.DrainedBy)
	case h.State == host.Faulty, h.State == host.Serving:
		return fmt.Sprintf("its agent was silent (last heard %s), and silence proves nothing about its sessions",
			clock(h.Seen))
	}
	return fmt.Sprintf("it was %s when its turn came", h.State)
}

func clock(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.UTC().Format("15:04:05 MST")
}

func count(n int, noun string) string { return english.Plural(n, noun, "") }

func waits(n int) string { return english.Plural(n, "host waits", "hosts wait") }
