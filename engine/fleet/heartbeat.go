package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"hash/maphash"
	"time"

	"github.com/jellydator/ttlcache/v3"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"nimblepane/agent"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/store"
)

var (
	beatsTaken = promauto.NewCounter(prometheus.CounterOpts{
		Name: "nimblepane_heartbeats_total",
		Help: "Heartbeats taken in.",
	})
	beatsBatch = promauto.NewHistogram(prometheus.HistogramOpts{
		Name: "nimblepane_heartbeat_batch_size",
		Help: "Heartbeats written in one batch.", Buckets: prometheus.ExponentialBuckets(1, 2, 12),
	})
)

// ingest writes heartbeats down in batches. While one batch is being written
// the next one gathers, so that batches grow with the load by themselves.
//
// Agents are not trusted. Whose heartbeats are is looked up first, by their
// credentials alone: nothing that a stranger says goes any further. A batch
// that the database refuses all the same is taken apart until the heartbeat
// that it cannot keep is alone.
type ingest struct {
	fleet *Fleet
	in    chan waiting
	seed  maphash.Seed
	// seen is a digest of the sessions last reported by each host, and touched
	// is how many there are where that changed since watchers were told, by
	// pool and host.
	seen    map[int64]uint64
	touched map[int64]map[string]int
	// speakers remembers whose credentials are. That one is no good any more
	// is seen when its heartbeat is written down.
	speakers  *ttlcache.Cache[string, store.Speaker]
	announced time.Time
}

type waiting struct {
	beat     store.Beat
	sessions int
	reply    chan answered
}

func (w waiting) refuse(err error) { w.reply <- answered{err: err} }

type answered struct {
	reply store.Reply
	err   error
}

const (
	beatsAtOnce  = 2000
	speakersKept = 200_000
	speakersFor  = 10 * time.Minute // how many sessions a host may have can change
)

func newIngest(f *Fleet) *ingest {
	return &ingest{
		fleet: f, in: make(chan waiting, 2*beatsAtOnce), seed: maphash.MakeSeed(), seen: map[int64]uint64{},
		touched: map[int64]map[string]int{}, speakers: ttlcache.New(ttlcache.WithTTL[string,
			store.Speaker](speakersFor), ttlcache.WithCapacity[string, store.Speaker](speakersKept),
			ttlcache.WithDisableTouchOnHit[string, store.Speaker]()),
	}
}

func (i *ingest) run(ctx context.Context) {
	var queue []waiting
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if len(queue) == 0 {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				i.announce(ctx)
				continue
			case w := <-i.in:
				queue = append(queue, w)
			}
		}
	gather:
		for len(queue) < 2*beatsAtOnce {
			select {
			case w := <-i.in:
				queue = append(queue, w)
			default:
				break gather
			}
		}
		var batch []waiting
		batch, queue = oneEach(queue)
		i.take(ctx, batch)
		if time.Since(i.announced) > time.Second {
			i.announce(ctx)
		}
	}
}

// oneEach takes the first heartbeat of each agent off the queue, and leaves
// the others there in their order.
func oneEach(queue []waiting) (batch, later []waiting) {
	have := make(map[string]bool, len(queue))
	for _, w := range queue {
		if key := string(w.beat.Credential); have[key] || len(batch) == beatsAtOnce {
			later = append(later, w)
		} else {
			have[key] = true
			batch = append(batch, w)
		}
	}
	return batch, later
}

// take answers a batch of heartbeats, one of an agent at most.
func (i *ingest) take(ctx context.Context, batch []waiting) {
	speakers, err := i.whoSpeak(ctx, batch)
	known := batch[:0]
	for _, w := range batch {
		who, ok := speakers[string(w.beat.Credential)]
		switch most := agent.MostSessions(who.Seats); {
		case err != nil:
			w.refuse(err)
		case !ok:
			w.refuse(ErrUnknownAgent)
		case w.sessions > most:
			w.refuse(problem.InvalidRequest.Errorf("sessions: %d on a host of %d seats; at most %d are accepted",
				w.sessions,
				who.Seats, most))
		default:
			known = append(known, w)
		}
	}
	if len(known) > 0 {
		i.write(ctx, known)
	}
}

// whoSpeak returns whose the heartbeats are, by their credentials.
func (i *ingest) whoSpeak(ctx context.Context, batch []waiting) (map[string]store.Speaker, error) {
	speakers := make(map[string]store.Speaker, len(batch))
	var unknown [][]byte
	for _, w := range batch {
		if who := i.speakers.Get(string(w.beat.Credential)); who != nil {
			speakers[string(w.beat.Credential)] = who.Value()
		} else {
			unknown = append(unknown, w.beat.Credential)
		}
	}
	if len(unknown) == 0 {
		return speakers, nil
	}
	found, err := i.fleet.engine.Store.Speakers(ctx, unknown)
	for credential, who := range found {
		speakers[credential] = who
		i.speakers.Set(credential, who, ttlcache.DefaultTTL)
	}
	return speakers, err
}

func (i *ingest) write(ctx context.Context, batch []waiting) {
	beats := make([]store.Beat, len(batch))
	for n, w := range batch {
		beats[n] = w.beat
	}
	replies, err := i.fleet.engine.Store.SaveBeats(ctx, i.fleet.engine.Clock.Now(), beats)
	if store.IsRefusal(err) && len(batch) > 1 {
		half := len(batch) / 2
		i.write(ctx, batch[:half])
		i.write(ctx, batch[half:])
		return
	}
	for n, w := range batch {
		if err != nil {
			if store.IsRefusal(err) {
				i.fleet.engine.Log.Warn("a heartbeat cannot be kept", "err", err)
				err = problem.InvalidRequest.Errorf("the heartbeat contains a value that the database cannot store")
			}
			w.refuse(err)
			continue
		}
		r := replies[n]
		if !r.Known {
			i.speakers.Delete(string(w.beat.Credential))
			w.refuse(ErrUnknownAgent) // its credential was replaced
			continue
		}
		w.reply <- answered{reply: r}
		digest := maphash.Bytes(i.seed, w.beat.Sessions)
		if i.seen[r.HostID] != digest {
			i.seen[r.HostID] = digest
			if i.touched[r.PoolID] == nil {
				i.touched[r.PoolID] = map[string]int{}
			}
			i.touched[r.PoolID][r.Host] = w.sessions
		}
	}
	beatsTaken.Add(float64(len(batch)))
	beatsBatch.Observe(float64(len(batch)))
}

// announcedEach is how many hosts of a pool are told of one by one. Where more
// changed, watchers look again.
const announcedEach = 300

// announce lets watchers know on which hosts sessions changed.
func (i *ingest) announce(ctx context.Context) {
	i.announced = time.Now()
	if len(i.touched) == 0 {
		return
	}
	err := i.fleet.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
		for id, sessions := range i.touched {
			pool, err := store.PoolByID(tx.DB, id)
			if err != nil {
				return err
			}
			if len(sessions) > announcedEach {
				sessions = nil
			}
			tx.Emit("sessions", "pool "+pool.Name, map[string]any{"pool": pool.Name, "sessions": sessions})
		}
		return nil
	})
	if err == nil {
		clear(i.touched)
	}
}

// ErrUnknownAgent is returned for a token or credential that is not, or no longer, good.
var ErrUnknownAgent = errors.New("the token or credential is not that of a host: it was used up, or the host was " +
	"rebuilt since")

// Enrol trades a one-time token for a credential.
func (fl *Fleet) Enrol(ctx context.Context, token string) (agent.EnrolReply, error) {
	credential := store.NewSecret()
	host, err := fl.engine.Store.Enrol(ctx, store.Digest(token), store.Digest(credential), fl.engine.Clock.Now())
	if errors.Is(err, store.ErrNotFound) {
		return agent.EnrolReply{}, ErrUnknownAgent
	}
	return agent.EnrolReply{Host: host.Name, Credential: credential}, err
}

// Heartbeat takes in what an agent reports and says what it is to do. It
// returns when the report is written down.
func (fl *Fleet) Heartbeat(ctx context.Context, credential string, beat agent.Heartbeat) (agent.Answer, error) {
	if err := beat.Check(fl.engine.Clock.Now()); err != nil {
		return agent.Answer{}, problem.InvalidRequest.Errorf("%s", err)
	}
	if beat.Sessions == nil {
		beat.Sessions = []agent.Session{}
	}
	sessions, err := json.Marshal(beat.Sessions)
	if err != nil {
		return agent.Answer{}, err
	}
	w := waiting{reply: make(chan answered, 1), sessions: len(beat.Sessions), beat: store.Beat{
		Credential: store.Digest(credential), Stamp: beat.Stamp, DrainConfirmed: beat.Drain,
		ChecksOrder: beat.Checks.Order, Checks: beat.Checks.State, ChecksWhy: beat.Checks.Why,
		Load: beat.Load, Sessions: sessions, Done: beat.Done,
	}}
	select {
	case fl.ingest.in <- w:
	case <-ctx.Done():
		return agent.Answer{}, ctx.Err()
	}
	select {
	case a := <-w.reply:
		if a.err != nil {
			return agent.Answer{}, a.err
		}
		return fl.answer(a.reply), nil
	case <-ctx.Done():
		return agent.Answer{}, ctx.Err()
	}
}

func (fl *Fleet) answer(r store.Reply) agent.Answer {
	next := fl.BeatInterval()
	if r.DrainOrder != 0 {
		// Somebody waits for what this host has to say.
		next = max(beatAtLeast/2, next/3)
	}
	a := agent.Answer{
		NextMillis: next.Milliseconds(), Drain: r.DrainOrder, Check: r.CheckOrder,
		Orders: []agent.Order{},
	}
	for _, o := range r.Orders {
		a.Orders = append(a.Orders, agent.Order{ID: o.ID, Kind: o.Kind, Session: o.SessionKey, Text: o.Text})
	}
	return a
}
