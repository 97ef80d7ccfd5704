package builds

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/charmbracelet/x/ansi"

	"nimblepane/core/secret"
	"nimblepane/engine"
	"nimblepane/platform"
	"nimblepane/store"
)

const (
	readEvery   = 2 * time.Second // what a step that goes on has written is read, in real time
	longestLine = 8 << 10         // bytes; a longer line is cut into several
)

// reading notes when what steps have written was last read, so that it is not read all the time.
type reading struct {
	mu   sync.Mutex
	last map[string]time.Time // by the key of the work
}

// due says whether it is time to read, and notes that it is read now.
func (r *reading) due(key string, over bool) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if over {
		delete(r.last, key)
		return true
	}
	if time.Since(r.last[key]) < readEvery {
		return false
	}
	r.last[key] = time.Now()
	return true
}

// follow adds what a try of a step has written to its build's log. A step that is over has not ended here until
// all that it wrote was read, or cannot be any more. Nothing that is secret is kept of it.
func (bs *Builds) follow(ctx context.Context, site store.Site, w store.Work, in ofStep, p *platform.Progress) error {
	over := p.State != platform.UnderWay
	if !bs.reading.due(w.Key, over) {
		return nil
	}
	b, err := store.BuildByID(bs.engine.Store.DB.WithContext(ctx), in.Build)
	if err != nil {
		return err
	}
	values := secret.Values{}
	for name, source := range secretsOf(b.Plan.V, in.Step) {
		if values[name], err = bs.engine.Secrets(source); err != nil {
			return &platform.Busy{Why: fmt.Sprintf("what it wrote is not kept before it is known what to hide: secret "+
				"%s: %s", name, err)}
		}
	}
	err = bs.read(ctx, site, w, in, over, values)
	var refused *platform.Refusal
	switch {
	case errors.As(err, &refused), errors.Is(err, platform.ErrUnknown):
		err = nil // its machine is off or gone
	case err != nil && !over:
		return nil // it is read again soon
	}
	if len(values) == 0 || !over || err != nil {
		return err
	}
	p.Why = values.Hide(p.Why)
	if done, err := platform.DoStep.Outcome(*p); err == nil {
		done.Output = values.Hide(done.Output)
		p.Output = platform.DoStep.Output(done)
	}
	return nil
}

// read reads on where the log ends.
func (bs *Builds) read(ctx context.Context, site store.Site, w store.Work, in ofStep, over bool,
	values secret.Values,
) error {
	db := bs.engine.Store.DB.WithContext(ctx)
	for {
		consumed, err := store.LogConsumed(db, in.Build, w.Key)
		if err != nil {
			return err
		}
		text, err := engine.Ask(ctx, bs.engine, site, func(ctx context.Context, p platform.Platform) ([]byte, error) {
			text, err := p.Output(ctx, w.Key, consumed)
			var refused *platform.Refusal
			if err != nil && ctx.Err() == nil && !errors.As(err, &refused) && !errors.Is(err, platform.ErrUnknown) {
				err = &platform.Busy{Why: fmt.Sprintf("what it wrote cannot be read yet: %s", err)}
			}
			return text, err
		})
		if err != nil || len(text) == 0 {
			return err
		}
		lines, n := linesOf(text, false, values)
		if n == 0 && over {
			lines, n = linesOf(text, true, values)
		}
		if n == 0 {
			return nil
		}
		now := bs.engine.Clock.Now()
		if err := store.AddLog(db, in.Build, w, in.Step, consumed+int64(n), now, lines); err != nil {
			return err
		}
	}
}

// linesOf returns the lines of what was written and how many bytes they take, without one that is not ended yet
// unless it is the last. What draws on a terminal is left out of them, and secrets are hidden.
func linesOf(text []byte, last bool, values secret.Values) (lines []string, taken int) {
	for rest := text; len(rest) > 0; rest = text[taken:] {
		n := bytes.IndexByte(rest[:min(len(rest), longestLine)], '\n') + 1
		switch {
		case n > 0:
		case len(rest) >= longestLine+values.Longest():
			n = values.Cut(rest, longestLine)
		case last:
			n = values.Cut(rest, min(len(rest), longestLine))
		default:
			return lines, taken
		}
		taken += n
		lines = append(lines, values.Hide(plain(values.Hide(string(rest[:n])))))
	}
	return lines, taken
}

// plain returns a line as it would stand on a terminal in the end: of what was
// written over itself, such as a bar of progress, the last.
func plain(line string) string {
	line = strings.TrimRight(strings.ToValidUTF8(line, "\uFFFD"), "\r\n")
	line = ansi.Strip(line[strings.LastIndexByte(line, '\r')+1:])
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\t' {
			return -1
		}
		return r
	}, line)
}

// pruneEvery is how often the logs are deleted that are kept no longer, in real time: all of them are looked at for it.
const pruneEvery = 10 * time.Minute

// pruneLogs deletes the logs that are kept no longer, in one of the processes.
func (bs *Builds) pruneLogs(ctx context.Context) error {
	return bs.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
		if mine, err := tx.TrySweep("build logs"); err != nil || !mine {
			return err
		}
		return store.PruneLogs(tx)
	})
}
