//go:build linux

package main

import (
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"nimblepane/core/blocks"
	"nimblepane/platform"
	"nimblepane/platform/depot"
	"nimblepane/store/localpg"
)

const (
	// diskBytes is how large the disk is that is delivered.
	diskBytes = 4 << 30
	// hugeBytes is how large the one is that memory is measured with.
	hugeBytes = 126 << 30
	// changedShare is how much of it an update changes.
	changedShare = 0.05
)

// deliveries measures the delivery of a disk by what changed of it, beside a plain copy and rsync.
func deliveries(ctx context.Context, r *results, _ *localpg.Server, dir string) error {
	here, there := filepath.Join(dir, "here"), filepath.Join(dir, "there")
	for _, d := range []string{here, there} {
		if err := os.Mkdir(d, 0o700); err != nil {
			return err
		}
		defer os.RemoveAll(d)
	}
	older, newer := filepath.Join(there, "old.qcow2"), filepath.Join(here, "new.qcow2")
	changed := spread(diskBytes/blocks.Size, changedShare)
	if err := writeBlocks(older, nil); err != nil {
		return err
	}
	if err := writeBlocks(newer, changed); err != nil {
		return err
	}
	blockSizes(r, changed)

	// Their maps were made when they were captured and came.
	for disk, in := range map[string]string{"old": there, "new": here} {
		if _, err := inProcess(ctx, order{Map: disk, From: in}); err != nil {
			return err
		}
	}
	// In turn, for how fast the machine is changes while it is measured.
	var alone, took []time.Duration
	var got done
	for range 3 {
		begin := time.Now()
		out, err := exec.CommandContext(ctx, "openssl", "dgst", "-sha256", "-r", newer).Output()
		if err != nil {
			return err
		}
		alone = append(alone, time.Since(begin))
		digest, _, _ := strings.Cut(string(out), " ")
		got, err = inProcess(ctx, order{
			From: here, To: there, Disk: "new", Digest: "sha256:" + digest, Beside: []string{"old"},
		})
		if err != nil {
			return err
		}
		took = append(took, got.Took)
		if err := os.Remove(filepath.Join(there, "copy.qcow2")); err != nil {
			return err
		}
	}
	slices.Sort(alone)
	slices.Sort(took)
	got.Took = took[1]
	r.add("openssl dgst -sha256 of a disk of 4 GiB, median of 3", rateOf(alone[1]), "-")
	r.add("delivery of the disk, 5% of whose blocks differ, median of 3", fmt.Sprintf(
		"%s, %.0f%% of openssl's rate; %s sent, %.1f%% of it", rateOf(got.Took),
		100*alone[1].Seconds()/got.Took.Seconds(),
		humanize.IBytes(uint64(got.Line)), 100*float64(got.Line)/diskBytes), "at least 50% of the rate, under 8% of "+
		"the bytes")
	r.add("delivery of the disk, memory at most", fmt.Sprintf("%d MB", got.Memory>>20), "under 200 MB")

	begin := time.Now()
	if err := exec.CommandContext(ctx, "cp", "--reflink=never", newer, filepath.Join(there,
		"plain.qcow2")).Run(); err != nil {
		return err
	}
	if err := exec.CommandContext(ctx, "sync", filepath.Join(there, "plain.qcow2")).Run(); err != nil {
		return err
	}
	r.add("the same by cp and sync", rateOf(time.Since(begin))+"; 100% sent, nothing read back", "-")
	if err := os.Remove(filepath.Join(there, "plain.qcow2")); err != nil {
		return err
	}
	begin = time.Now()
	out, err := exec.CommandContext(ctx, "rsync", "--no-whole-file", "--compress", "--fuzzy", "--stats", newer,
		there+"/").Output()
	if err != nil {
		return fmt.Errorf("rsync: %w", err)
	}
	byRsync := time.Since(begin)
	m := regexp.MustCompile(`Total bytes sent: ([\d,]+)`).FindSubmatch(out)
	if m == nil {
		return fmt.Errorf("rsync said %q", out)
	}
	sent, err := strconv.ParseInt(strings.ReplaceAll(string(m[1]), ",", ""), 10, 64)
	if err != nil {
		return err
	}
	r.add("the same by rsync --no-whole-file --compress --fuzzy", fmt.Sprintf("%s; %s sent, %.1f%%; ratio of times "+
		"%.1f",
		rateOf(byRsync), humanize.IBytes(uint64(sent)), 100*float64(sent)/diskBytes,
		byRsync.Seconds()/got.Took.Seconds()), "-")

	return hugeDelivery(ctx, r, dir)
}

// hugeDelivery measures what a very large disk takes of memory, without reading it: its map is written, and its copy
// begun beside one that is as large, in a file system that claims to have room for it.
func hugeDelivery(ctx context.Context, r *results, dir string) (err error) {
	const what = "delivery of a disk of 126 GiB, memory at most"
	room := filepath.Join(dir, "room")
	if err := os.Mkdir(room, 0o700); err != nil {
		return err
	}
	mount := fmt.Sprintf("truncate -s 300G %[1]s.ext4 && mkfs.ext4 -q -E lazy_itable_init=1,nodiscard %[1]s.ext4 && "+
		"mount -o loop %[1]s.ext4 %[1]s", room)
	if out, merr := exec.CommandContext(ctx, "sh", "-c", mount).CombinedOutput(); merr != nil {
		r.add(what, "not measured: "+string(out), "under 200 MB")
		return nil
	}
	defer func() {
		err = errors.Join(err, exec.CommandContext(ctx, "umount", room).Run(), os.Remove(room+".ext4"))
	}()
	for i, file := range []string{filepath.Join(room, "there.blocks"), filepath.Join(dir, "new.blocks")} {
		if err := hugeMap(file, byte(i)); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(room, "there.qcow2"), nil, 0o600); err != nil {
		return err
	}
	got, err := inProcess(ctx, order{Begin: filepath.Join(dir, "new.blocks"), To: room, Beside: []string{
		"there",
	}})
	if err != nil {
		return err
	}
	r.add(what, fmt.Sprintf("%d MB", got.Memory>>20), "under 200 MB")
	return nil
}

// hugeMap writes the block map of a disk that is not there.
func hugeMap(file string, seed byte) error {
	m := &blocks.Map{File: hugeBytes, Block: blocks.SizeFor(hugeBytes)}
	random := rand.NewChaCha8([32]byte{seed})
	for range hugeBytes / m.Block {
		var d blocks.Digest
		_, _ = random.Read(d[:]) // which does not fail
		m.Digests = append(m.Digests, d)
	}
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	err = m.Write(f)
	return errors.Join(err, f.Close())
}

func rateOf(took time.Duration) string {
	return fmt.Sprintf("%s/s (%.1f s)", humanize.IBytes(uint64(diskBytes/took.Seconds())), took.Seconds())
}

// spread says which blocks an update changes: files are replaced, here and there, most of them small.
func spread(n int, share float64) []bool {
	random := rand.New(rand.NewPCG(2026, 11))
	changed := make([]bool, n)
	for left := int(float64(n) * share); left > 0; {
		length := 1 + int(random.ExpFloat64()*random.ExpFloat64()*3)
		for i := random.IntN(n); length > 0 && i < n && left > 0; i, length = i+1, length-1 {
			if !changed[i] {
				changed[i] = true
				left--
			}
		}
	}
	return changed
}

// writeBlocks writes the disk, whose blocks are noise that does not pack, or after an update if changed is given.
func writeBlocks(file string, changed []bool) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriterSize(f, 1<<20)
	block := make([]byte, blocks.Size)
	for i := range diskBytes / blocks.Size {
		seed := [32]byte{byte(i), byte(i >> 8), byte(i >> 16)}
		if changed != nil && changed[i] {
			seed[31] = 1
		}
		_, _ = rand.NewChaCha8(seed).Read(block) // which does not fail
		if _, err := w.Write(block); err != nil {
			return err
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Sync()
}

// blockSizes says what would have to be sent in blocks of other sizes.
func blockSizes(r *results, changed []bool) {
	for _, size := range []int{64 << 10, 256 << 10, 1 << 20, 4 << 20} {
		per, lacking := size/blocks.Size, 0
		for i := 0; i < len(changed); i += per {
			for _, c := range changed[i : i+per] {
				if c {
					lacking += per
					break
				}
			}
		}
		r.add("what the disk's site lacks in blocks of "+humanize.IBytes(uint64(size)), fmt.Sprintf("%.1f%%, and its "+
			"map %s",
			100*float64(lacking)/float64(len(changed)), humanize.IBytes(uint64(diskBytes/size*32))), "-")
	}
}

// order is what a process of its own is to do, whose memory is measured.
type order struct {
	Map                    string // of this disk, in From
	Begin                  string // a copy of the disk with this map
	From, To, Disk, Digest string
	Beside                 []string
}

// done is what it came to.
type done struct {
	platform.Transfer
	Took   time.Duration
	Memory int64 // that the process had at most, in bytes
}

// tell writes it for the process that gave the order. How much memory it took the process says itself: what is seen of
// one that has ended is never less than its parent had when it began.
func (d done) tell() (err error) {
	if d.Memory, err = peakOf(os.Getpid()); err != nil {
		return err
	}
	return json.NewEncoder(os.Stdout).Encode(d)
}

const orderVariable = "NIMBLEPANE_BENCH_ORDER"

// inProcess has another process do it.
func inProcess(ctx context.Context, o order) (d done, err error) {
	text, err := json.Marshal(o)
	if err != nil {
		return d, err
	}
	self, err := os.Executable()
	if err != nil {
		return d, err
	}
	cmd := exec.CommandContext(ctx, self)
	cmd.Env = append(os.Environ(), orderVariable+"="+string(text))
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return d, fmt.Errorf("process for %s: %w", text, err)
	}
	return d, json.Unmarshal(out, &d)
}

// follow does what the process is to do.
func (o order) follow(ctx context.Context) error {
	from, err := depot.OpenLocal(cmp.Or(o.From, o.To), 0o444)
	if err != nil {
		return err
	}
	if o.Map != "" {
		f, err := os.Open(filepath.Join(o.From, o.Map+depot.DiskEnding))
		if err != nil {
			return err
		}
		defer f.Close()
		sum := sha256.New()
		if _, err := io.Copy(sum, f); err != nil {
			return err
		}
		if _, err = from.Map(ctx, o.Map, "sha256:"+hex.EncodeToString(sum.Sum(nil)), func(int) {}); err != nil {
			return err
		}
		return done{}.tell()
	}
	to, err := depot.OpenLocal(o.To, 0o444)
	if err != nil {
		return err
	}
	var d done
	if o.Begin != "" {
		f, err := os.Open(o.Begin)
		if err != nil {
			return err
		}
		defer f.Close()
		m, err := blocks.Read(f)
		if err != nil {
			return err
		}
		begun, err := to.Begin(ctx, depot.Coming{Copy: "huge-copy", Beside: o.Beside}, m, func(int) {})
		if err != nil {
			return err
		}
		d.Lacking = m.Bytes(begun.Lacking)
		return d.tell()
	}
	begin := time.Now()
	err = depot.Delivery{
		From: from, Disk: o.Disk, Digest: o.Digest, To: to, Coming: depot.Coming{Copy: "copy", Beside: o.Beside},
		Report: func(t platform.Transfer) { d.Transfer = t },
	}.Run(ctx)
	d.Took = time.Since(begin)
	if err != nil {
		return err
	}
	return d.tell()
}
