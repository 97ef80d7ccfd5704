package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"nimblepane/core/estate"
	"nimblepane/platform"
	"nimblepane/platform/journal"
	"nimblepane/platform/libvirt"
	"nimblepane/platform/libvirt/locald"
	"nimblepane/store/localpg"
)

// library is a site of which only the disks matter: files of a folder.
type library struct {
	platform.Platform
	dir string
}

func (l library) OpenDisk(_ context.Context, disk string, offset int64) (io.ReadCloser, int64, error) {
	f, err := os.Open(filepath.Join(l.dir, disk))
	if err != nil {
		return nil, 0, err
	}
	st, err := f.Stat()
	if err == nil {
		_, err = f.Seek(offset, io.SeekStart)
	}
	return f, st.Size(), err
}

// machines measures the rebuild of a host on libvirt against the same done by
// hand with qemu-img and virsh, for a small image and a large one.
func machines(ctx context.Context, r *results, _ *localpg.Server, dir string) error {
	hv, err := locald.Start(ctx)
	if errors.Is(err, locald.ErrMissing) {
		r.add("rebuild of a host on libvirt", "not measured: "+err.Error(), "")
		return nil
	}
	if err != nil {
		return err
	}
	defer hv.Stop()
	site := locald.Site("bench", hv)
	site.MachineClasses["standard"] = estate.MachineClass{
		Cores: 1, Memory: "64MiB", Firmware: "bios", Network: "user",
		Display: "none", Room: "1MiB",
	}
	p, err := libvirt.Open(site, platform.Environment{
		Journal: journal.NewMemory(), Log: slog.New(slog.DiscardHandler),
		Peer: func(context.Context, string) (platform.Platform, error) { return library{dir: dir}, nil },
	})
	if err != nil {
		return err
	}
	defer p.Close()
	for _, written := range []string{"32M", "1G"} {
		if err := rebuilds(ctx, r, hv, p, dir, written); err != nil {
			return err
		}
	}
	return nil
}

func rebuilds(ctx context.Context, r *results, hv *locald.Server, p platform.Platform, dir, written string) error {
	name := "desk-" + written
	file := filepath.Join(dir, name)
	if err := command("qemu-img", "create", "-q", "-f", "qcow2", file, "8G"); err != nil {
		return err
	}
	defer os.Remove(file)
	if err := command("qemu-io", "-f", "qcow2", "-c", "write -q -P 7 0 "+written, "-c", "write -q -P 9 4G "+written,
		file); err != nil {
		return err
	}
	digest, err := digestOf(file)
	if err != nil {
		return err
	}
	if err := ends(ctx, p, "deliver "+name, platform.DeliverCopy.Of(platform.Deliver{
		Source: "library", Disk: name,
		Digest: digest, Copy: name, MachineClass: "standard",
	})); err != nil {
		return err
	}
	const rounds = 15
	var ours, byHand []time.Duration
	host := "h-" + written
	for n := range rounds + 1 {
		began := time.Now()
		if err := ends(ctx, p, fmt.Sprintf("rebuild %s %d", host, n),
			platform.RebuildHost.Of(platform.Rebuild{
				Host: host, Copies: []string{name}, Digest: digest,
				MachineClass: "standard", Seed: platform.Seed{Service: "http://10.0.2.2:9", Token: "t"},
			})); err != nil {
			return err
		}
		took := time.Since(began)
		hand, err := handRebuild(hv, host, name, dir)
		if err != nil {
			return err
		}
		if n > 0 { // the first makes the machine
			ours, byHand = append(ours, took), append(byHand, hand)
		}
	}
	slices.Sort(ours)
	slices.Sort(byHand)
	a, b := ours[rounds/2], byHand[rounds/2]
	r.add(fmt.Sprintf("rebuild of a host on libvirt, image with twice %s written, median of %d", written, rounds),
		fmt.Sprintf("%.0f ms; by hand %.0f ms; %.0f ms are our own; ratio %.2f", 1000*a.Seconds(), 1000*b.Seconds(),
			1000*(a-b).Seconds(), a.Seconds()/b.Seconds()), "under 2 s of our own, ratio at most 1.3")
	return nil
}

// handRebuild does with qemu-img and virsh what a rebuild does, to the same machine.
func handRebuild(hv *locald.Server, host, image, dir string) (time.Duration, error) {
	description, err := exec.Command("virsh", "-c", hv.URI, "dumpxml", "--inactive", host).Output()
	if err != nil {
		return 0, err
	}
	file := filepath.Join(dir, "by-hand.xml")
	if err := os.WriteFile(file, description, 0o600); err != nil {
		return 0, err
	}
	seed := filepath.Join(dir, "by-hand.iso")
	if err := command("cp", filepath.Join(hv.Pool, host+".seed.iso"), seed); err != nil {
		return 0, err
	}
	own := filepath.Join(hv.Pool, host+".own.qcow2")
	began := time.Now()
	for _, c := range [][]string{
		{"virsh", "-c", hv.URI, "destroy", host},
		{"rm", own},
		{"qemu-img", "create", "-q", "-f", "qcow2", "-b", filepath.Join(hv.Pool, image+".qcow2"), "-F", "qcow2", own},
		{"chmod", "0666", own},
		{"cp", seed, filepath.Join(hv.Pool, host+".seed.iso")},
		{"virsh", "-c", hv.URI, "define", file},
		{"virsh", "-c", hv.URI, "start", host},
	} {
		if err := command(c...); err != nil {
			return 0, err
		}
	}
	return time.Since(began), nil
}

func command(words ...string) error {
	if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
		return fmt.Errorf("%v: %w: %s", words, err, out)
	}
	return nil
}

func digestOf(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	_, err = io.Copy(sum, f)
	return "sha256:" + hex.EncodeToString(sum.Sum(nil)), err
}

// ends starts an operation and waits for its end.
func ends(ctx context.Context, p platform.Platform, key string, op platform.Operation) error {
	if err := p.Start(ctx, key, op); err != nil {
		return err
	}
	for {
		progress, err := p.Ask(ctx, key)
		switch {
		case err != nil:
			return err
		case progress.State == platform.Succeeded:
			return nil
		case progress.State == platform.Failed:
			return fmt.Errorf("%s: %s", key, progress.Why)
		}
		time.Sleep(2 * time.Millisecond)
	}
}
