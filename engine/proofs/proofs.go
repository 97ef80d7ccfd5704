// Package proofs makes machines from versions that are looked at and thrown
// away: to prove that a version starts and that what people use on it comes up,
// or for a person to try it. core/proof decides about them.
package proofs

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/agent"
	"nimblepane/core/build"
	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/problem"
	"nimblepane/core/proof"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// Proofs are the acts on proofs. They are safe for concurrent use.
type Proofs struct {
	engine   *engine.Engine
	versions *versions.Versions

	makings  engine.Work[ofProof, platform.Rebuild, platform.Made]
	tries    engine.Work[ofProof, platform.Tryout, platform.Tried]
	discards engine.Work[ofProof, platform.Named, platform.Nothing]
}

// ofProof is the input of works.
type ofProof struct {
	Proof int64 `json:"proof"`
}

// New adds proofs to the engine.
func New(e *engine.Engine, vs *versions.Versions) *Proofs {
	ps := &Proofs{engine: e, versions: vs}
	ps.makings = engine.Work[ofProof, platform.Rebuild, platform.Made]{
		Kind: store.WorkProveMachine, Operation: platform.RebuildHost, Ask: ps.askMaking, Ended: makingEnded,
	}
	ps.tries = engine.Work[ofProof, platform.Tryout, platform.Tried]{
		Kind: store.WorkProveTry, Operation: platform.TryHost, Ask: askTryout, Ended: ended[platform.Tried],
	}
	ps.discards = engine.Work[ofProof, platform.Named, platform.Nothing]{
		Kind: store.WorkProveDiscard, Operation: platform.DiscardHost, Ask: askDiscard, Ended: ended[platform.Nothing],
	}
	engine.AddWork(e, ps.makings)
	engine.AddWork(e, ps.tries)
	engine.AddWork(e, ps.discards)
	e.Add(engine.Subject{
		Ticks:   map[store.TickTable]func(context.Context, int64) error{store.ProofTicks: ps.tick},
		Matters: []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters},
	})
	return ps
}

// Longest is for how long a machine can be kept for a person at most.
const Longest = 7 * 24 * time.Hour

// Prove begins to prove the first start of a version at a site.
func (ps *Proofs) Prove(ctx context.Context, actor, imageName, number, site string) (p store.Proof, err error) {
	return ps.begin(ctx, actor, imageName, number, site, 0)
}

// Try begins to make a machine of a version for a person, which goes by itself after a while.
func (ps *Proofs) Try(ctx context.Context, actor, imageName, number, site string, keep time.Duration) (store.Proof,
	error,
) {
	if keep < time.Minute || keep > Longest || keep%time.Second != 0 {
		return store.Proof{}, problem.InvalidRequest.Errorf("a test machine is kept for at least 1m and at most %s, "+
			"in whole seconds",
			sheet.Span(Longest))
	}
	return ps.begin(ctx, actor, imageName, number, site, keep)
}

func (ps *Proofs) begin(ctx context.Context, actor, imageName, number, siteName string, keep time.Duration) (
	p store.Proof, err error,
) {
	err = ps.engine.Change(ctx, actor, func(tx *store.Tx) error {
		img, err := store.ImageNamed(tx.DB, imageName)
		if err != nil {
			return err
		}
		v, err := store.VersionNumbered(tx.DB, img, number)
		if err != nil {
			return err
		}
		if err := versions.Usable(img, v); err != nil {
			return err
		}
		site, err := store.SiteNamed(tx.DB, siteName)
		if err != nil {
			return err
		}
		p = store.Proof{VersionID: v.ID, SiteID: site.ID}
		if keep > 0 {
			until := tx.Now.Add(keep)
			p.Until = &until
		}
		return BeginIn(tx, actor, &p)
	})
	return p, err
}

// BeginIn begins a proof of a version that is captured, or being captured, as part of a change.
func BeginIn(tx *store.Tx, actor string, p *store.Proof) error {
	p.State, p.AskedBy, p.AskedAt = proof.Waiting, actor, tx.Now
	if err := tx.Create(p).Error; err != nil {
		return err
	}
	img, v, err := versions.Of(tx.DB, p.VersionID)
	if err != nil {
		return err
	}
	verb, detail := "proof.begin", map[string]any{"version": versions.Label(img, v)}
	if p.Until != nil {
		verb, detail["until"] = "proof.try", p.Until.UTC().Format("2006-01-02 15:04 MST")
	}
	tx.Record(store.Entry{Verb: verb, Subject: p.Name(), Scope: p.Name(), Detail: detail})
	return nil
}

// LetGo ends a proof, and throws its machine away.
func (ps *Proofs) LetGo(ctx context.Context, actor string, id int64, reason string) error {
	return ps.engine.Change(ctx, actor, func(tx *store.Tx) error {
		p, err := store.LockProof(tx.DB, id)
		if err != nil {
			return err
		}
		if p.State.Ended() || p.LetGo != "" {
			return problem.WrongState.Errorf("%s has already ended", p.Name())
		}
		p.LetGo = strings.TrimSuffix(fmt.Sprintf("%s let it go: %s", actor, strings.TrimSpace(reason)), ": ")
		tx.Record(store.Entry{Verb: "proof.let-go", Subject: p.Name(), Scope: p.Name(), Reason: reason})
		return errors.Join(tx.Save(&p).Error, tx.ProofNow(p.ID))
	})
}

// tick asks what is to be done for a proof and does it.
func (ps *Proofs) tick(ctx context.Context, id int64) error {
	return ps.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
		p, err := store.LockProof(tx.DB, id)
		if err != nil || p.Settled {
			return err
		}
		img, v, err := versions.Of(tx.DB, p.VersionID)
		if err != nil {
			return err
		}
		s, err := snapshot(tx.DB, p, img, v)
		if err != nil {
			return err
		}
		s.Limits = ps.limits()
		d := proof.Decide(s, tx.Now)
		if p.State.Ended() {
			d.Why = p.Why
		}
		if len(d.Actions) == 0 && d.State == p.State && d.Why == p.Why {
			return nil
		}
		return ps.carryOut(tx, p, v, d)
	})
}

// snapshot is what is known of a proof.
func snapshot(db *gorm.DB, p store.Proof, img store.Image, v store.Version) (s proof.Snapshot, err error) {
	s = proof.Snapshot{
		State: p.State, Stamp: versions.Label(img, v), LetGo: p.LetGo, Says: p.Says,
		Until: at(p.Until), SpokeAt: at(p.SpokeAt),
		Checks: build.Task{State: build.UnderWay, Why: p.ChecksWhy, EndedAt: at(p.CheckedAt)},
	}
	switch p.Checks {
	case agent.ChecksPassed:
		s.Checks.State = build.Done
	case agent.ChecksFailed:
		s.Checks.State = build.TaskFailed
	}
	switch v.State {
	case image.Capturing:
		s.Version.State = build.UnderWay
	case image.Failed:
		s.Version = build.Task{State: build.TaskFailed, Why: v.Failure}
	default:
		s.Version.State = build.Done
	}
	if s.Copy, err = copyAt(db, p); err != nil {
		return s, err
	}
	works, err := store.ProofWorks(db, p)
	if err != nil {
		return s, err
	}
	for _, w := range works {
		switch w.Kind {
		case store.WorkProveMachine:
			s.Machine = w.Task()
		case store.WorkProveTry:
			s.Tried = w.Task()
			tried, err := Tried(w)
			if err != nil {
				return s, err
			}
			s.Results = tried.Results
		case store.WorkProveDiscard:
			s.Discards = append(s.Discards, w.Task())
		}
	}
	return s, nil
}

// Tried is what a work came to that tried what is on a machine; nothing if it has not ended well.
func Tried(w store.Work) (tried platform.Tried, err error) {
	if w.State != store.WorkSucceeded {
		return tried, nil
	}
	if err := json.Unmarshal(w.Output, &tried); err != nil {
		return tried, fmt.Errorf("read what work %s came to: %w", w.Key, err)
	}
	return tried, nil
}

func at(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// copyAt is how the copies of the version at the site stand: one that is there is enough.
func copyAt(db *gorm.DB, p store.Proof) (t build.Task, err error) {
	copies, err := store.Copies(db, p.VersionID)
	for _, c := range copies {
		switch {
		case c.SiteID != p.SiteID:
		case c.State == image.CopyPresent:
			return build.Task{State: build.Done}, err
		case c.State == image.CopyDelivering:
			t = build.Task{State: build.UnderWay}
		case c.State == image.CopyFailed && t.State == build.Unasked:
			t = build.Task{State: build.TaskFailed, Why: c.Failure}
		}
	}
	return t, err
}

// carryOut carries out a decision about a proof.
func (ps *Proofs) carryOut(tx *store.Tx, p store.Proof, v store.Version, d proof.Decision) error {
	in := ofProof{p.ID}
	record := func(verb, reason string) {
		tx.Record(store.Entry{Verb: "proof." + verb, Subject: p.Name(), Scope: p.Name(), Reason: reason})
	}
	for _, a := range d.Actions {
		var err error
		switch a.Kind {
		case proof.DeliverCopy:
			err = ps.versions.DeliverIn(tx, v, p.SiteID)
		case proof.MakeMachine:
			record("make", "")
			err = tx.Ask(ps.makings.Of(p.SiteID, p.Name(), 1, in))
		case proof.Try:
			record("test", "")
			err = tx.Ask(ps.tries.Of(p.SiteID, p.Name(), 1, in))
		case proof.DiscardMachine:
			record("discard", "")
			err = tx.Ask(ps.discards.Of(p.SiteID, p.Name(), a.Attempt, in))
		case proof.Settle:
			p.Settled = true
		}
		if err != nil {
			return err
		}
	}
	if d.State.Ended() && !p.State.Ended() {
		p.EndedAt = &tx.Now
		record(string(d.State), d.Why)
		if p.BuildID != nil {
			if err := tx.BuildNow(*p.BuildID); err != nil {
				return err
			}
		}
	}
	p.State, p.Why = d.State, d.Why
	tx.Emit("proof", p.Name(), nil)
	return tx.Save(&p).Error
}

// askMaking says what the machine is made from, as for a host of a pool, and gives it a token.
func (ps *Proofs) askMaking(_ context.Context, db *gorm.DB, w store.Work, in ofProof) (out platform.Rebuild,
	err error,
) {
	p, err := store.ProofByID(db, in.Proof)
	if err != nil {
		return out, err
	}
	img, v, err := versions.Of(db, p.VersionID)
	if err != nil {
		return out, err
	}
	site, err := store.SiteByID(db, w.SiteID)
	if err != nil {
		return out, err
	}
	copies, err := store.CopiesAt(db, v.ID, w.SiteID)
	if err != nil {
		return out, err
	}
	out = platform.Rebuild{
		Host: p.Host(), Digest: v.Digest, MachineClass: img.MachineClass, Seats: 1, Seed: platform.Seed{
			Service: cmp.Or(site.MachineSettings.V.ServiceAddress, ps.engine.AgentURL), Token: store.NewSecret(),
		},
	}
	for _, c := range copies {
		out.Copies = append(out.Copies, versions.CopyName(img, v, c.Ordinal))
	}
	return out, store.AddProofToken(db, p.ID, store.Digest(out.Seed.Token))
}

func makingEnded(tx *store.Tx, in ofProof, end *engine.Ending[platform.Made]) error {
	p, err := store.ProofByID(tx.DB, in.Proof)
	if err != nil {
		return err
	}
	if end.Failure == "" {
		img, v, err := versions.Of(tx.DB, p.VersionID)
		if err != nil {
			return err
		}
		end.Failure = versions.WrongDigest(img, v, end.Output)
	}
	return ended(tx, in, end)
}

// askTryout says what is tried.
func askTryout(_ context.Context, db *gorm.DB, _ store.Work, in ofProof) (out platform.Tryout, err error) {
	p, err := store.ProofByID(db, in.Proof)
	if err != nil {
		return out, err
	}
	v, err := store.VersionByID(db, p.VersionID)
	return platform.Tryout{Host: p.Host(), Applications: v.Applications.V, Proofs: p.Proofs.V}, err
}

func askDiscard(_ context.Context, db *gorm.DB, _ store.Work, in ofProof) (platform.Named, error) {
	p, err := store.ProofByID(db, in.Proof)
	return platform.Named{Name: p.Host()}, err
}

// ended leaves it to the tick to decide what follows.
func ended[Out any](tx *store.Tx, in ofProof, end *engine.Ending[Out]) error {
	if end.Failure != "" {
		name := store.Proof{ID: in.Proof}.Name()
		tx.Record(store.Entry{
			Verb: "proof." + string(end.Work.Kind) + "-fail", Subject: name, Scope: name, Reason: end.Failure,
		})
	}
	return tx.ProofNow(in.Proof)
}

// Enrol trades a one-time token of a proof's machine for a credential.
func (ps *Proofs) Enrol(ctx context.Context, token string) (agent.EnrolReply, error) {
	credential := store.NewSecret()
	p, err := ps.engine.Store.EnrolProof(ctx, store.Digest(token), store.Digest(credential), ps.engine.Clock.Now())
	return agent.EnrolReply{Host: p.Host(), Credential: credential}, err
}

// beat is how long the agent of a proof's machine waits between heartbeats, in real time: somebody waits for it.
func (ps *Proofs) beat() time.Duration {
	return max(200*time.Millisecond, time.Duration(float64(2*time.Second)/ps.engine.Clock.Rate()))
}

// limits are the usual ones, but long enough for a hundred heartbeats: with a fast clock more of the product's time
// passes between two of them.
func (ps *Proofs) limits() proof.Limits {
	least := time.Duration(100 * float64(ps.beat()) * ps.engine.Clock.Rate())
	return proof.Limits{
		FirstStart: max(proof.UsualLimits.FirstStart, least), Checks: max(proof.UsualLimits.Checks, least),
	}
}

// theOrder is the number of the one order that it gets: to refuse people, and to run its checks.
const theOrder = 1

// Heartbeat takes in what the agent of a proof's machine reports.
func (ps *Proofs) Heartbeat(ctx context.Context, credential string, beat agent.Heartbeat) (a agent.Answer, err error) {
	p, err := ps.engine.Store.SaveProofBeat(ctx, store.Digest(credential), beat, ps.engine.Clock.Now())
	if err != nil {
		return a, err
	}
	a = agent.Answer{NextMillis: ps.beat().Milliseconds(), Drain: theOrder, Check: theOrder, Orders: []agent.Order{}}
	if p.Until != nil {
		a.Drain, a.Check = 0, 0 // a person wants to sign in
	}
	return a, nil
}

// Machine returns what there is to be known about the machine of a proof, and platform.ErrUnknown if its platform keeps
// no such knowledge.
func (ps *Proofs) Machine(ctx context.Context, site store.Site, p store.Proof) (platform.Machine, error) {
	return engine.Ask(ctx, ps.engine, site, func(ctx context.Context, on platform.Platform) (platform.Machine, error) {
		return on.Machine(ctx, p.Host())
	})
}

// goesWithin is how long a machine may take to be thrown away before somebody is told.
const goesWithin = 10 * time.Minute

// matters are machines that are kept for a person, that were not thrown away in time, and proofs of no build.
func matters(db *gorm.DB, now time.Time, add func(engine.Matter)) error {
	rows, err := store.ProofRows(db, store.ProofFilter{Open: true})
	for _, p := range rows {
		m := engine.Matter{
			Kind: matter.Proof, Title: fmt.Sprintf("%s %s is tried out on %s", p.Image, p.Version, p.Host()),
			Detail: p.Why, Link: fmt.Sprintf("images/%s/versions/%s", p.Image, p.Version),
			Command: fmt.Sprintf("pane proof show %d", p.ID),
		}
		switch {
		case p.State.Ended() && now.Before(p.EndedAt.Add(goesWithin)), p.BuildID != nil && !p.State.Ended():
			continue // it goes, or its build is told of
		case p.State.Ended():
			m.Title = fmt.Sprintf("%s at %s is not thrown away yet", p.Host(), p.Site)
		case p.Until != nil:
			m.Title = fmt.Sprintf("%s is kept of %s %s for %s", p.Host(), p.Image, p.Version, p.AskedBy)
			m.Detail = "until " + p.Until.UTC().Format("2006-01-02 15:04 MST")
		}
		add(m)
	}
	return err
}
