package bases

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"os"
	"regexp"
	"strconv"
	"time"

	"github.com/dustin/go-humanize"

	"nimblepane/core/base"
	"nimblepane/engine"
	"nimblepane/store"
)

// How a file is fetched, in real time.
const (
	keptEvery   = 2 * time.Second  // what came is noted so often
	nothingFor  = 30 * time.Second // after which an address that sends nothing is asked again
	triesAtMost = 30               // that brought nothing, one after the other
)

// unfit is an error that asking again cannot mend.
type unfit struct{ why string }

func (u *unfit) Error() string { return u.why }

var contentRange = regexp.MustCompile(`^bytes (\d+)-(\d+)/(\d+)$`)

// fetch goes on fetching a base until all of it is there, or something breaks.
func (bs *Bases) fetch(ctx context.Context, b store.Base) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, b.Address, nil)
	if err != nil {
		return &unfit{err.Error()}
	}
	if b.Have > 0 {
		request.Header.Set("Range", fmt.Sprintf("bytes=%d-", b.Have))
	}
	answer, err := engine.NewExternalClient(bs.engine.FetchFromHere, time.Duration(bs.patience.Load())).Do(request)
	if errors.Is(err, engine.ErrForbidden) {
		return &unfit{engine.ErrForbidden.Error()}
	}
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	size, err := sizeSaid(answer, b)
	if err != nil {
		return err
	}
	if answer.StatusCode == http.StatusOK && b.Have > 0 { // it sends only all of it
		if b, err = bs.change(ctx, b, func(_ *store.Tx, b *store.Base) error {
			b.Have, b.Hashed = 0, nil
			return nil
		}); err != nil {
			return err
		}
	}
	if b.Size == 0 && size > 0 {
		if err := bs.room(bs.engine.Store.DB.WithContext(ctx), size); err != nil {
			return &unfit{err.Error()}
		}
	}
	h, err := hashOf(b)
	if err != nil {
		return err
	}
	if b, err = bs.change(ctx, b, func(_ *store.Tx, b *store.Base) error {
		b.Size, b.BeganAt, b.BeganHave = max(size, b.Size), time.Now(), b.Have
		return nil
	}); err != nil {
		return err
	}
	f, err := os.OpenFile(bs.part(b), os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	patience := time.Duration(bs.patience.Load())
	stalled := time.AfterFunc(patience, func() { cancel(errStalled) })
	defer stalled.Stop()
	err = bs.copy(ctx, b, answer.Body, f, h, func() { stalled.Reset(patience) })
	if err != nil && errors.Is(context.Cause(ctx), errStalled) {
		return errStalled
	}
	return err
}

// errStalled is why an address is asked again that has sent nothing for a while.
var errStalled = errors.New("the address sends nothing any more")

// sizeSaid is how large the whole file is by what an address answers, 0 if that is not said.
func sizeSaid(answer *http.Response, b store.Base) (size int64, err error) {
	switch answer.StatusCode {
	case http.StatusOK:
		size = max(0, answer.ContentLength)
	case http.StatusPartialContent:
		m := contentRange.FindStringSubmatch(answer.Header.Get("Content-Range"))
		if m == nil || m[1] != strconv.FormatInt(b.Have, 10) {
			return 0, &unfit{fmt.Sprintf("it was asked for what comes from byte %d on, and answers with %q", b.Have,
				answer.Header.Get("Content-Range"))}
		}
		if size, err = strconv.ParseInt(m[3], 10, 64); err != nil {
			return 0, &unfit{"it says a size that is none: " + m[3]}
		}
	case http.StatusTooManyRequests, http.StatusRequestTimeout:
		return 0, fmt.Errorf("it answers %s", answer.Status)
	default:
		if answer.StatusCode >= 500 {
			return 0, fmt.Errorf("it answers %s", answer.Status)
		}
		return 0, &unfit{fmt.Sprintf("it answers %s: see whether the address is right", answer.Status)}
	}
	if b.Size > 0 && size > 0 && size != b.Size {
		if b.Feed != "" && b.Have == 0 {
			return 0, &unfit{fmt.Sprintf("feed %s says that the file has %d bytes, and the address that it has %d",
				b.Feed, b.Size, size)}
		}
		return 0, &unfit{fmt.Sprintf("the file had %d bytes before, and now has %d: it was changed meanwhile; bring "+
			"it in again", b.Size, size)}
	}
	if size > base.MostBytes {
		return 0, &unfit{fmt.Sprintf("it says that it has %s: at most %s are taken", humanize.IBytes(uint64(size)),
			humanize.IBytes(base.MostBytes))}
	}
	return size, nil
}

// copy writes what comes, and notes how much that is.
func (bs *Bases) copy(ctx context.Context, b store.Base, from io.Reader, into *os.File, h hash.Hash,
	moved func(),
) error {
	buffer := make([]byte, 1<<20)
	fresh, noted := int64(0), time.Now()
	note := func(all bool) (err error) {
		if err := into.Sync(); err != nil {
			return err
		}
		b, err = bs.change(ctx, b, func(tx *store.Tx, b *store.Base) error {
			if err := came(b, fresh, h); err != nil {
				return err
			}
			if all {
				b.Size = b.Have
				arrived(tx, b, h)
			}
			return nil
		})
		fresh, noted = 0, time.Now()
		return err
	}
	for {
		n, err := from.Read(buffer)
		if n > 0 {
			moved()
			at := b.Have + fresh
			if b.Size > 0 && at+int64(n) > b.Size || at+int64(n) > base.MostBytes {
				return &unfit{fmt.Sprintf("it sends more than %s", humanize.IBytes(uint64(cmp.Or(b.Size,
					base.MostBytes))))}
			}
			if _, err := into.WriteAt(buffer[:n], at); err != nil {
				return refused("", err)
			}
			h.Write(buffer[:n])
			fresh += int64(n)
		}
		switch {
		case errors.Is(err, io.EOF) && (b.Size == 0 || b.Have+fresh == b.Size):
			return note(true)
		case errors.Is(err, io.EOF):
			err = io.ErrUnexpectedEOF
			fallthrough
		case err != nil:
			if fresh == 0 {
				return err
			}
			return errors.Join(err, note(false))
		case time.Since(noted) > keptEvery:
			if err := note(false); err != nil {
				return err
			}
			if err := bs.roomFor(0); err != nil {
				return err
			}
		}
	}
}

// change changes a base that is coming, unless somebody gave it up.
func (bs *Bases) change(ctx context.Context, b store.Base, fn func(*store.Tx, *store.Base) error) (store.Base, error) {
	now := b
	err := bs.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) (err error) {
		if now, err = store.LockBaseByID(tx.DB, b.ID); err != nil {
			return err
		}
		if now.State != b.State {
			return errGivenUp
		}
		if err := fn(tx, &now); err != nil {
			return err
		}
		tx.Emit("base", now.Subject(), nil)
		return tx.Save(&now).Error
	})
	return now, err
}

// errGivenUp is the error of a base that is not in the state any more in which it was worked on.
var errGivenUp = errors.New("the base was given up meanwhile")
