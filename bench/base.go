package main

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"time"

	"nimblepane/client"
	"nimblepane/core/base"
	"nimblepane/store/localpg"
)

// bases measures how fast a base of 4 GiB comes in from an address, beside curl and sha256sum, and what the service
// takes of memory for it.
func bases(ctx context.Context, r *results, db *localpg.Server, dir string) error {
	const size = 4 << 30
	published := filepath.Join(dir, "published")
	file := filepath.Join(published, "disk.raw")
	if err := os.Mkdir(published, 0o755); err != nil {
		return err
	}
	digest, err := writeDisk(file, size)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	server := &http.Server{Handler: http.FileServer(http.Dir(published)), ReadHeaderTimeout: time.Minute}
	go func() { _ = server.Serve(listener) }() // ends with the server
	defer server.Close()
	address := fmt.Sprintf("http://%s/disk.raw", listener.Addr())

	began := time.Now()
	if out, err := exec.CommandContext(ctx, "bash", "-o", "pipefail", "-c", "curl --silent --fail "+address+
		" | sha256sum").CombinedOutput(); err != nil {
		return fmt.Errorf("curl | sha256sum: %w: %s", err, out)
	}
	byCurl := size / time.Since(began).Seconds() / (1 << 20)

	st, err := database(ctx, db, "bases")
	if err != nil {
		return err
	}
	defer st.Close()
	service, err := serve(db, "bases", "", "--bases", filepath.Join(dir, "bases"), "--fetch-from-here")
	if err != nil {
		return err
	}
	defer service.stop()
	c, err := service.signIn(ctx)
	if err != nil {
		return err
	}
	before, err := peakOf(service.cmd.Process.Pid)
	if err != nil {
		return err
	}
	b, err := c.BringBase(ctx, client.NewBase{Name: "large", Address: address, SHA256: digest})
	if err != nil {
		return err
	}
	began = time.Now()
	var fetched time.Duration
	for b.State.Coming() {
		if fetched == 0 && b.State == base.Converting {
			fetched = time.Since(began)
		}
		time.Sleep(50 * time.Millisecond)
		if b, err = c.Base(ctx, "large"); err != nil {
			return err
		}
	}
	if b.State != base.Ready || fetched == 0 {
		return fmt.Errorf("the base is %s: %s", b.State, b.Why)
	}
	rate := size / fetched.Seconds() / (1 << 20)
	r.add("a base of 4 GiB comes in from an address and is checked", fmt.Sprintf("%.0f MiB/s, %.0f%% of what curl | "+
		"sha256sum reaches (%.0f MiB/s)", rate, 100*rate/byCurl, byCurl), "≥ 50%")
	r.add("a base of 4 GiB, until it is converted and looked into", fmt.Sprintf("%.0f s",
		time.Since(began).Seconds()), "")
	peak, err := peakOf(service.cmd.Process.Pid)
	if err != nil {
		return err
	}
	r.add("a base of 4 GiB, memory of the service at most", fmt.Sprintf("%d MB, and %d MB before",
		peak/1e6, before/1e6), "< 200 MB")
	return nil
}

// writeDisk writes a disk that nothing can make smaller, and returns its digest.
func writeDisk(name string, size int64) (digest string, err error) {
	f, err := os.Create(name)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	hash, random := sha256.New(), rand.NewChaCha8([32]byte{4})
	into := io.MultiWriter(f, hash)
	block := make([]byte, 1<<20)
	for at := int64(0); at < size; at += int64(len(block)) {
		_, _ = random.Read(block)
		if at == 0 {
			block[0], block[510], block[511] = 0xeb, 0x55, 0xaa
			clear(block[446:510]) // no parts
			block[446+4], block[446+9], block[446+13] = 0x83, 8, 8
		}
		if _, err := into.Write(block); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(hash.Sum(nil)), nil
}

var peakLine = regexp.MustCompile(`VmHWM:\s+(\d+) kB`)

// peakOf is the most memory that a process had, in bytes.
func peakOf(pid int) (int64, error) {
	f, err := os.Open(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if m := peakLine.FindStringSubmatch(lines.Text()); m != nil {
			kib, err := strconv.ParseInt(m[1], 10, 64)
			return kib << 10, err
		}
	}
	return 0, errors.New("the system does not say how much memory a process had")
}
