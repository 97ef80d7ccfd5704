package bases

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"nimblepane/core/base"
	"nimblepane/core/disk"
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

// drivers are what qemu-img calls the formats.
var drivers = map[disk.Format]string{
	disk.Raw: "raw", disk.QCOW2: "qcow2", disk.VHD: "vpc", disk.VHDX: "vhdx", disk.VMDK: "vmdk",
}

func freeIn(folder string) (int64, error) {
	var at syscall.Statfs_t
	err := syscall.Statfs(folder, &at)
	return int64(at.Bavail) * at.Bsize, err
}

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

// convert tells of what format a base's file is, makes the disk of it, and looks into that.
func (bs *Bases) convert(ctx context.Context, b store.Base) error {
	part, made := bs.part(b), bs.made(b)
	format, err := formatOf(part, b.Size)
	if err != nil {
		return err
	}
	if b, err = bs.change(ctx, b, func(_ *store.Tx, b *store.Base) error {
		b.Format = format
		return nil
	}); err != nil {
		return err
	}
	told := 0
	err = run(ctx, func(percent int) {
		if percent /= 2; percent >= told+5 {
			told = percent
			b = bs.progressed(ctx, b, percent)
		}
	}, "convert", "-p", "-f", drivers[format], "-O", "qcow2", "-o", "compat=1.1,lazy_refcounts=off", part, made)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(made, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Sync(); err != nil {
		return err
	}
	facts, err := look(f)
	if err != nil {
		return err
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
			"format": format, "digest": digest, "bytes": size,
		}})
		return nil
	}); err != nil {
		return err
	}
	return os.Remove(part)
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

func formatOf(file string, size int64) (disk.Format, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if info.Size() != size {
		return "", &unfit{fmt.Sprintf("of its file %d of %d bytes are in the folder of bases: bring it in again",
			info.Size(), size)}
	}
	format, err := disk.Detect(f, size)
	if err != nil {
		return "", &unfit{"the file cannot be a base: " + err.Error()}
	}
	return format, nil
}

// look says what is in a disk that was converted.
func look(f io.ReaderAt) (base.Facts, error) {
	image, err := disk.OpenImage(f)
	if err != nil {
		return base.Facts{}, err
	}
	parts, err := disk.Divided(image)
	if err != nil {
		return base.Facts{}, err
	}
	facts := base.From(image.Size, parts)
	inside(image, parts, &facts)
	return facts, nil
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

var percentage = regexp.MustCompile(`\((\d+)\.\d+/100%\)`)

// memoryOfQEMU is what qemu-img may take of the memory's addresses, in bytes: an image that is made to harm it ends
// there.
const memoryOfQEMU = 2 << 30

// run runs qemu-img, with little memory and as nice as can be, until it ends. What it says of a file that it cannot
// read is why that is unfit.
func run(ctx context.Context, report func(percent int), args ...string) error {
	// It ends with the thread that started it, so that nothing writes on when the service was killed.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd := exec.CommandContext(ctx, "qemu-img", args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var said bytes.Buffer
	cmd.Stderr = &said
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start qemu-img, of Debian's package qemu-utils: %w", err)
	}
	limit := &unix.Rlimit{Cur: memoryOfQEMU, Max: memoryOfQEMU}
	_ = unix.Prlimit(cmd.Process.Pid, unix.RLIMIT_AS, limit, nil)
	_ = unix.Setpriority(unix.PRIO_PROCESS, cmd.Process.Pid, 10)
	buffer, rest := make([]byte, 4096), ""
	for {
		n, err := out.Read(buffer)
		rest += string(buffer[:n])
		for _, m := range percentage.FindAllStringSubmatch(rest, -1) {
			percent, _ := strconv.Atoi(m[1])
			report(percent)
		}
		if i := strings.LastIndexAny(rest, "\r\n"); i >= 0 {
			rest = rest[i:]
		}
		if err != nil {
			break
		}
	}
	if err := cmd.Wait(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		text := strings.TrimSpace(said.String())
		if strings.Contains(text, "No space left") {
			return errors.New("the folder of bases is full: make room there")
		}
		return &unfit{"qemu-img could not read it: " + clip(text, 400)}
	}
	return nil
}
