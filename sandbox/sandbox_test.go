package sandbox_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/sandbox"
)

func init() {
	sandbox.Serve(map[string]sandbox.Task{
		"attack": attack,
		"read": func(_ json.RawMessage, answer io.Writer) error {
			text, err := os.ReadFile(sandbox.InputPath)
			if err != nil {
				return err
			}
			_, err = answer.Write(text)
			return errors.Join(err, os.WriteFile(sandbox.OutputPath, text, 0o600))
		},
		"refuse":   func(json.RawMessage, io.Writer) error { return errors.New("it is no chart") },
		"panic":    func(json.RawMessage, io.Writer) error { panic("a rock") },
		"overflow": func(json.RawMessage, io.Writer) error { return deeper(1) },
		"spin": func(json.RawMessage, io.Writer) error {
			for n := 0; n >= 0; n++ {
				_ = n
			}
			return nil
		},
		"wait": func(json.RawMessage, io.Writer) error { select {} },
		"eat": func(json.RawMessage, io.Writer) error {
			var all [][]byte
			for {
				all = append(all, bytes.Repeat([]byte{1}, 16<<20))
				_ = all
			}
		},
		"fill": func(json.RawMessage, io.Writer) error {
			f, err := os.OpenFile(sandbox.OutputPath, os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			for {
				if _, err := f.Write(make([]byte, 1<<20)); err != nil {
					fmt.Fprintln(os.Stderr, err)
					os.Exit(1)
				}
			}
		},
		"talk": func(_ json.RawMessage, answer io.Writer) error {
			for {
				if _, err := answer.Write(make([]byte, 1<<16)); err != nil {
					return err
				}
			}
		},
	})
}

func deeper(n int) error {
	if n == 0 {
		return nil
	}
	return fmt.Errorf("%d: %w", n, deeper(n+1))
}

// attackOn is what the attack tries to reach.
type attackOn struct {
	Secret, Folder, TCP, UDP, Unix string
	Process                        int
}

// attack tries to reach everything the sandbox hides, and answers with the list it reached.
func attack(request json.RawMessage, answer io.Writer) error {
	var on attackOn
	if err := json.Unmarshal(request, &on); err != nil {
		return err
	}
	reached := map[string]bool{"root": os.Getuid() == 0 && os.Getgid() == 0}
	for _, name := range []string{
		on.Secret, "/etc/shadow", "/etc/passwd", "/proc/self/environ",
		"/proc/1/root/etc/passwd",
	} {
		if _, err := os.ReadFile(name); err == nil {
			reached["read "+name] = true
		}
	}
	for _, name := range []string{
		filepath.Join(on.Folder, "planted"), "/planted", "/usr/planted", "/usr/bin/planted", "/tmp/planted",
	} {
		if os.WriteFile(name, []byte("x"), 0o600) == nil {
			reached["write "+name] = true
		}
	}
	if os.WriteFile(sandbox.InputPath, []byte("x"), 0o600) == nil {
		reached["write the input"] = true
	}
	for network, address := range map[string]string{"tcp": on.TCP, "udp": on.UDP, "unix": on.Unix} {
		c, err := net.DialTimeout(network, address, time.Second)
		if err == nil {
			_, err = c.Write([]byte("x"))
		}
		if err == nil {
			reached["connect by "+network] = true
		}
	}
	if syscall.Kill(on.Process, 0) == nil && on.Process != os.Getpid() {
		reached["see another process"] = true
	}
	if syscall.Mount("none", "/output", "tmpfs", 0, "") == nil {
		reached["mount"] = true
	}
	if syscall.Chroot("/usr") == nil {
		reached["chroot"] = true
	}
	entries, err := os.ReadDir("/")
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !strings.Contains(" bin input lib lib64 output usr ", " "+e.Name()+" ") {
			reached["see /"+e.Name()] = true
		}
	}
	return json.NewEncoder(answer).Encode(reached)
}

func file(t *testing.T, content string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(name, []byte(content), 0o600))
	return name
}

func TestTheSandboxReachesOnlyItsInputAndOutput(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	from, to := file(t, "chart 7"), file(t, "")
	require.NoError(t, sandbox.Job{
		Task: "read", Input: from, Output: to, Limits: sandbox.Limits{File: 1 << 20},
		Read: func(r io.Reader) error { _, err := out.ReadFrom(r); return err },
	}.Run(t.Context()))
	require.Equal(t, "chart 7", out.String())
	text, err := os.ReadFile(to)
	require.NoError(t, err)
	require.Equal(t, "chart 7", string(text))

	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer tcp.Close()
	socket := filepath.Join(t.TempDir(), "s")
	local, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer local.Close()
	out.Reset()
	folder := t.TempDir()
	require.NoError(t, sandbox.Job{
		Task: "attack", Input: from, Output: to,
		Request: attackOn{
			Secret: file(t, "tide"), Folder: folder, TCP: tcp.Addr().String(), UDP: "127.0.0.1:53", Unix: socket,
			Process: os.Getpid(),
		},
		Read: func(r io.Reader) error { _, err := out.ReadFrom(r); return err },
	}.Run(t.Context()))
	var reached map[string]bool
	require.NoError(t, json.Unmarshal(out.Bytes(), &reached))
	for what, is := range reached {
		require.False(t, is && what != "root" || is && os.Getuid() == 0, "the sandbox allows to %s", what)
	}
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Empty(t, entries)
}

func TestAJobThatFailsSaysHow(t *testing.T) {
	t.Parallel()
	small := sandbox.Limits{Memory: 256 << 20, CPU: time.Second, Wall: 30 * time.Second, File: 4 << 20}
	var failed *sandbox.Failed
	require.ErrorAs(t, sandbox.Job{Task: "refuse", Limits: small}.Run(t.Context()), &failed)
	require.Equal(t, "it is no chart", failed.Why)
	for task, limit := range map[string]string{
		"spin": "1s of processor time", "eat": "256 MiB of memory", "fill": "4 MiB of output",
	} {
		if task == "eat" && sandbox.RaceDetector {
			continue
		}
		var exceeded *sandbox.Exceeded
		err := sandbox.Job{Task: task, Output: file(t, ""), Limits: small}.Run(t.Context())
		require.ErrorAs(t, err, &exceeded, task)
		require.Equal(t, limit, exceeded.Limit)
		require.True(t, sandbox.Final(err))
	}
	var crashed *sandbox.Crashed
	require.ErrorAs(t, sandbox.Job{Task: "panic", Limits: small}.Run(t.Context()), &crashed)
	require.Contains(t, crashed.Why, "a rock")
	require.True(t, sandbox.Final(sandbox.Job{Task: "overflow", Limits: small}.Run(t.Context())))
	var exceeded *sandbox.Exceeded
	small.Wall = 200 * time.Millisecond
	require.ErrorAs(t, sandbox.Job{Task: "wait", Limits: small}.Run(t.Context()), &exceeded)
	require.Equal(t, "200ms of time", exceeded.Limit)
	require.ErrorAs(t, sandbox.Job{Task: "talk", Limits: small}.Run(t.Context()), &exceeded)
}

func TestAJobEndsWithItsContextAndItsReader(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(t.Context())
	require.ErrorIs(t, sandbox.Job{Task: "talk", Read: func(r io.Reader) error {
		cancel()
		_, err := io.Copy(io.Discard, r)
		return err
	}}.Run(ctx), context.Canceled)
	enough := errors.New("enough")
	err := sandbox.Job{Task: "talk", Read: func(io.Reader) error { return enough }}.Run(t.Context())
	require.ErrorIs(t, err, enough)
	require.False(t, sandbox.Final(err))
}

func TestProgramsOfTheSystemRunInTheSandbox(t *testing.T) {
	t.Parallel()
	require.NoError(t, sandbox.Available())
	var failed *sandbox.Failed
	require.ErrorAs(t, sandbox.Job{Program: []string{"cat", "/etc/passwd"}}.Run(t.Context()), &failed)
	require.Contains(t, failed.Why, "No such file")
	var unavailable *sandbox.Unavailable
	require.ErrorAs(t, sandbox.Job{Program: []string{"no-such-program"}}.Run(t.Context()), &unavailable)
	require.ErrorContains(t, sandbox.Job{Program: []string{"true"}, Input: "/no/such/file"}.Run(t.Context()),
		"no such file")
}
