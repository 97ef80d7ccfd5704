package bases

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"nimblepane/core/base"
	"nimblepane/engine"
	"nimblepane/engine/foreign"
	"nimblepane/sandbox"
	"nimblepane/store"
)

// How bases are worked on, in real time.
const (
	basesAtOnce = 2               // in a process
	againAfter  = 5 * time.Second // at first, after something broke
	againMost   = 5 * time.Minute
	lookAgain   = time.Minute // at one that is sent
	tidyEvery   = time.Hour
)

// see does what is next for a base, and says after how long there may be more to do.
func (bs *Bases) see(ctx context.Context, id int64) (wait time.Duration, err error) {
	b, err := store.BaseByID(bs.engine.Store.DB.WithContext(ctx), id)
	if err != nil {
		return 0, err
	}
	err = bs.next(ctx, b)
	var why *unfit
	switch {
	case err == nil && b.State == base.Receiving:
		wait = lookAgain
	case err == nil || ctx.Err() != nil || errors.Is(err, errGivenUp):
	case errors.As(err, &why):
		err = bs.failed(ctx, b, why.why)
	default:
		wait, err = bs.tried(ctx, b, err)
	}
	if errors.Is(err, errGivenUp) {
		err = nil
	}
	return wait, err
}

func (bs *Bases) next(ctx context.Context, b store.Base) error {
	switch b.State {
	case base.Fetching:
		return bs.fetch(ctx, b)
	case base.Converting:
		return bs.convert(ctx, b)
	}
	if time.Since(b.CameAt) > ForgottenAfter {
		return &unfit{fmt.Sprintf("nothing more of it came for %s: send it again", ForgottenAfter)}
	}
	return nil
}

// failed gives a base up that cannot become one.
func (bs *Bases) failed(ctx context.Context, b store.Base, why string) error {
	now, err := bs.change(ctx, b, func(tx *store.Tx, b *store.Base) error {
		fail(tx, b, why)
		return nil
	})
	if err == nil {
		bs.tidy(now)
	}
	return err
}

// tried notes what broke, and says when to try again.
func (bs *Bases) tried(ctx context.Context, b store.Base, broke error) (wait time.Duration, err error) {
	now, err := bs.change(ctx, b, func(tx *store.Tx, b *store.Base) error {
		b.Tries++
		b.Why = broke.Error()
		if b.Tries >= triesAtMost {
			fail(tx, b, fmt.Sprintf("it was tried %d times in a row: %s", b.Tries, broke))
		}
		return nil
	})
	if now.State == base.Failed {
		bs.tidy(now)
	}
	return min(againMost, againAfter<<min(now.Tries-1, 6)), err
}

// convert detects the format of a base's file, converts it to the disk of the base, and inspects that. The file is
// foreign: it is opened in a sandbox only.
func (bs *Bases) convert(ctx context.Context, b store.Base) error {
	part, made := bs.part(b), bs.made(b)
	info, err := os.Stat(part)
	if err != nil {
		return err
	}
	if info.Size() != b.Size {
		return &unfit{fmt.Sprintf("of its file %d of %d bytes are in the folder of bases: bring it in again",
			info.Size(), b.Size)}
	}
	found, err := foreign.DetectDisk(ctx, part, b.Size)
	if err != nil {
		return refused("the file cannot be a base: ", err)
	}
	if found.Unpacked > base.MostBytes {
		return &unfit{fmt.Sprintf("its disk unpacks to %s: at most %s are taken",
			humanize.IBytes(uint64(found.Unpacked)),
			humanize.IBytes(base.MostBytes))}
	}
	if err := bs.roomFor(found.Unpacked); err != nil {
		return err
	}
	if b, err = bs.change(ctx, b, func(_ *store.Tx, b *store.Base) error {
		b.Format = found.Format
		return nil
	}); err != nil {
		return err
	}
	if err := os.WriteFile(made, nil, 0o600); err != nil {
		return err
	}
	told := 0
	err = bs.whileRoom(ctx, func(ctx context.Context) error {
		return foreign.ConvertDisk(ctx, part, found, made, func(percent int) {
			if percent /= 2; percent >= told+5 {
				told = percent
				b = bs.progressed(ctx, b, percent)
			}
		})
	})
	if err != nil {
		return refused("qemu-img could not convert it: ", err)
	}
	f, err := os.OpenFile(made, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Sync(); err != nil {
		return err
	}
	facts, err := foreign.InspectDisk(ctx, made, found.Unpacked)
	if err != nil {
		return refused("the converted disk cannot be a base: ", err)
	}
	digest, size, err := digestOf(ctx, f, func(percent int) {
		if percent = 50 + percent/2; percent >= told+5 {
			told = percent
			b = bs.progressed(ctx, b, percent)
		}
	})
	if err != nil {
		return err
	}
	done := b
	done.Digest = digest
	if err := os.Rename(made, bs.engine.BaseFile(done.Disk())); err != nil {
		return err
	}
	if b, err = bs.change(ctx, b, func(tx *store.Tx, b *store.Base) error {
		b.State, b.Digest, b.Bytes, b.Progress, b.Why, b.EndedAt = base.Ready, digest, size, 100, "", &tx.Now
		b.Facts.V = facts
		tx.Record(store.Entry{Verb: "base.ready", Subject: b.Subject(), Detail: map[string]any{
			"format": found.Format, "digest": digest, "bytes": size,
		}})
		return nil
	}); err != nil {
		return err
	}
	return os.Remove(part)
}

// refused makes an error of the sandbox the reason why a base failed, if another attempt would end the same way.
func refused(what string, err error) error {
	switch {
	case strings.Contains(err.Error(), "No space left") || errors.Is(err, engine.ErrFull):
		return &unfit{engine.ErrFull.Error()}
	case sandbox.Final(err):
		return &unfit{foreign.Clip(what+err.Error(), 500)}
	}
	return err
}

func (bs *Bases) progressed(ctx context.Context, b store.Base, percent int) store.Base {
	now, err := bs.change(ctx, b, func(_ *store.Tx, b *store.Base) error {
		b.Progress = percent
		return nil
	})
	if err != nil {
		return b // whoever ends it will see
	}
	return now
}

func digestOf(ctx context.Context, f *os.File, report func(int)) (digest string, size int64, err error) {
	info, err := f.Stat()
	if err != nil {
		return "", 0, err
	}
	h, buffer := sha256.New(), make([]byte, 4<<20)
	for at := int64(0); at < info.Size(); {
		if ctx.Err() != nil {
			return "", 0, ctx.Err()
		}
		n, err := f.ReadAt(buffer, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return "", 0, err
		}
		h.Write(buffer[:n])
		at += int64(n)
		report(int(100 * at / info.Size()))
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil)), info.Size(), nil
}
