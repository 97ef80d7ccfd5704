// Package depot keeps the disks of a site's versions as files of a folder, and
// brings disks from one depot to another by their blocks.
//
//	NAME.qcow2         a disk, or a copy of one: never written again
//	NAME.blocks        its block map
//	NAME.part          a copy that comes, of which every block that is there is right or is written again
//	NAME.part.blocks   what it will consist of
//
// A depot is a folder of this computer (Local) or one that is asked over
// HTTPS (Remote), which pane-agent serves beside a hypervisor (Handler). All
// that is to be known of a copy that comes is in its files, and every block is
// told by its digest: whoever was stopped begins again and goes on, and what
// is done twice is done once.
package depot

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"nimblepane/core/blocks"
	"nimblepane/platform"
)

// Endings of a depot's files.
const (
	DiskEnding = ".qcow2"
	MapEnding  = ".blocks"
	PartEnding = ".part"
)

// Depot keeps disks. A *platform.Refusal among its errors says what trying again cannot mend.
type Depot interface {
	// Map returns the block map of a disk that has the digest, any if none is given. If no map with it stands beside
	// the disk, that is read.
	Map(ctx context.Context, disk, digest string, report func(percent int)) (*blocks.Map, error)
	// Send writes blocks of a disk, as frames. Each is checked before it is sent.
	Send(ctx context.Context, disk, digest string, runs []blocks.Run, w io.Writer) error
	// Begin begins a copy, or goes on with one, with what is found of it in the
	// disks beside it, and returns what it lacks.
	Begin(ctx context.Context, c Coming, m *blocks.Map, report func(percent int)) (Begun, error)
	// Lacks returns which of the blocks a copy that comes still lacks.
	Lacks(ctx context.Context, copy string, runs []blocks.Run) ([]blocks.Run, error)
	// Put takes blocks of a copy that comes, as frames. The error is *Changed if some are not what they should be.
	Put(ctx context.Context, copy string, runs []blocks.Run, frames io.Reader) error
	// Finish reads a copy back that lacks nothing, and gives it its name once it has its digest.
	Finish(ctx context.Context, copy string, report func(percent int)) error
	// Digest reads a disk from the storage, so many bytes a second at most, and returns what its content has.
	Digest(ctx context.Context, disk string, rate int64, report func(percent int)) (string, error)
	// Remove deletes a disk or copy, with what there is of it. What is not there is deleted.
	Remove(ctx context.Context, name string) error
}

// Keeper is a platform, or whatever else has disks, that knows where they are.
type Keeper interface {
	// DepotWith returns the depot that has the disk, nil if that is in none.
	DepotWith(ctx context.Context, disk string) (Depot, error)
}

// Coming says which copy comes, and which disks are beside it that may have blocks of it, the likeliest first.
type Coming struct {
	Copy   string   `json:"copy"`
	Beside []string `json:"beside,omitempty"`
}

// Begun is what a copy begins with.
type Begun struct {
	Lacking []blocks.Run `json:"lacking"`
	There   int64        `json:"there"`  // bytes that were found at the site
	Shared  int64        `json:"shared"` // bytes of these that the storage keeps once, for several disks
}

// Changed is the error of blocks that are not what they should be.
type Changed struct {
	Blocks int `json:"blocks"` // how many
	First  int `json:"first"`  // which, of the copy's
}

func (c *Changed) Error() string {
	return fmt.Sprintf("%d blocks did not arrive as they are in the version, the first of them number %d", c.Blocks,
		c.First)
}

// Delivery is one copy that is brought from one depot to another.
type Delivery struct {
	From   Depot
	Disk   string
	Digest string // of its content
	To     Depot
	Coming Coming
	// Pace waits until so many bytes may be sent. None has to wait if it is not given.
	Pace   func(ctx context.Context, bytes int) error
	Report func(platform.Transfer)
}

const (
	// window is how much is sent at once, in bytes of blocks: what is looked at again after a line broke.
	window = 64 << 20
	// fruitless is how often in a row nothing may have come before the delivery is given up for now.
	fruitless = 8
	// changes is how often in a row blocks may arrive changed, with none that is right.
	changes = 3
)

// pause is how long is waited before a line that broke is tried again, the first time.
const pause = 250 * time.Millisecond

// Run brings the copy, or what is lacking of it. After an error it can be run
// again, and goes on. A *platform.Refusal says that running it again is in vain.
func (d Delivery) Run(ctx context.Context) error {
	r := &run{Delivery: d}
	m, err := d.From.Map(ctx, d.Disk, d.Digest, r.at(platform.Mapping))
	if err != nil {
		return fmt.Errorf("read what disk %s consists of: %w", d.Disk, err)
	}
	r.tell(func(t *platform.Transfer) { t.Whole = m.File })
	begun, err := d.To.Begin(ctx, d.Coming, m, r.at(platform.Gathering))
	if err != nil {
		return fmt.Errorf("begin copy %s: %w", d.Coming.Copy, err)
	}
	r.tell(func(t *platform.Transfer) {
		t.Stage, t.StagePercent = platform.Sending, 0
		t.There, t.Shared, t.Lacking = begun.There, begun.Shared, m.Bytes(begun.Lacking)
	})
	for rest := begun.Lacking; len(rest) > 0; {
		var now []blocks.Run
		now, rest = blocks.Cut(rest, max(1, window/m.Block))
		if err := r.window(ctx, m, now); err != nil {
			return fmt.Errorf("send blocks of %s: %w", d.Disk, err)
		}
	}
	if err := d.To.Finish(ctx, d.Coming.Copy, r.at(platform.Checking)); err != nil {
		return fmt.Errorf("finish copy %s: %w", d.Coming.Copy, err)
	}
	return nil
}

// run is a delivery under way.
type run struct {
	Delivery
	mu sync.Mutex
	t  platform.Transfer
}

// tell changes how it stands, and tells that. A connection may still be reading when its call has returned.
func (r *run) tell(change func(*platform.Transfer)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	change(&r.t)
	r.Report(r.t)
}

func (r *run) at(stage platform.Stage) func(int) {
	return func(percent int) {
		r.tell(func(t *platform.Transfer) { t.Stage, t.StagePercent = stage, percent })
	}
}

// window brings some of the blocks, as often as it takes.
func (r *run) window(ctx context.Context, m *blocks.Map, runs []blocks.Run) error {
	lacking := m.Bytes(runs)
	arrived := func(rest []blocks.Run) {
		now := m.Bytes(rest)
		r.tell(func(t *platform.Transfer) { t.Sent += lacking - now })
		lacking, runs = now, rest
	}
	for failed := 0; len(runs) > 0; {
		err := r.bring(ctx, runs)
		if err == nil {
			arrived(nil)
			break
		}
		var refusal *platform.Refusal
		if ctx.Err() != nil || errors.As(err, &refusal) {
			return err
		}
		failed++
		rest, lerr := r.To.Lacks(ctx, r.Coming.Copy, runs)
		switch {
		case errors.As(lerr, &refusal):
			return lerr
		case lerr == nil && blocks.Count(rest) < blocks.Count(runs):
			failed = 0
			arrived(rest)
		}
		var changed *Changed
		if errors.As(err, &changed) && failed >= changes {
			return refuse("%s, %d times: something between the sites changes what is sent", changed, failed)
		}
		if failed >= fruitless {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause << failed):
		}
	}
	return nil
}

// bring sends blocks once.
func (r *run) bring(ctx context.Context, runs []blocks.Run) error {
	if to, ok := r.To.(fetcher); ok && r.Pace == nil && to.canFetch(r.From) {
		return to.fetch(ctx, r.Coming.Copy, runs, r.From, r.Disk, r.Digest)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	in, out := io.Pipe()
	sent := make(chan error, 1)
	go func() {
		err := r.From.Send(ctx, r.Disk, r.Digest, runs, out)
		out.CloseWithError(err) // nil: the end
		sent <- err
	}()
	err := r.To.Put(ctx, r.Coming.Copy, runs, &paced{ctx: ctx, r: in, pace: r.Pace, count: func(n int) {
		r.tell(func(t *platform.Transfer) { t.Line += int64(n) })
	}})
	in.CloseWithError(err)
	cancel()
	serr := <-sent
	var refusal *platform.Refusal
	if errors.As(serr, &refusal) {
		return serr // which says why nothing came
	}
	return err
}

// fetcher is a depot that can ask another one itself.
type fetcher interface {
	canFetch(from Depot) bool
	fetch(ctx context.Context, copy string, runs []blocks.Run, from Depot, disk, digest string) error
}

// paced reads no faster than it may.
type paced struct {
	ctx   context.Context
	r     io.Reader
	pace  func(context.Context, int) error
	count func(n int)
}

// piece is how much is read at once, in bytes, which every pace allows.
const piece = 32 << 10

// Read is io.Reader's.
func (p *paced) Read(b []byte) (int, error) {
	n, err := p.r.Read(b[:min(len(b), piece)])
	if n > 0 {
		p.count(n)
		if p.pace != nil {
			if perr := p.pace(p.ctx, n); perr != nil {
				return 0, perr
			}
		}
	}
	return n, err
}

// Paced writes to w no more than so many bytes a second.
func Paced(ctx context.Context, w io.Writer, perSecond int64) io.Writer {
	return &pacedWriter{ctx, w, rate.NewLimiter(rate.Limit(perSecond), piece)}
}

type pacedWriter struct {
	ctx     context.Context
	w       io.Writer
	limiter *rate.Limiter
}

// Write is io.Writer's.
func (p *pacedWriter) Write(b []byte) (n int, err error) {
	for n < len(b) && err == nil {
		part := b[n:min(len(b), n+piece)]
		if err = p.limiter.WaitN(p.ctx, len(part)); err == nil {
			var m int
			m, err = p.w.Write(part)
			n += m
		}
	}
	return n, err
}

func refuse(format string, args ...any) error {
	return &platform.Refusal{Why: fmt.Sprintf(format, args...)}
}

func isRefusal(err error) bool {
	var r *platform.Refusal
	return errors.As(err, &r)
}
