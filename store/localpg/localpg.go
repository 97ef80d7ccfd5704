// Package localpg runs Debian's PostgreSQL on loopback, for the demo and for tests.
package localpg

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Server is a running PostgreSQL. Connections need its password, which is in a file that only its owner can read.
type Server struct {
	Dir      string
	Port     int
	Password string
	cmd      *exec.Cmd
}

// ErrUnreachable is returned, wrapped, for a data folder below one that the
// user postgres cannot get into.
var ErrUnreachable = errors.New("the user postgres cannot get into the folder")

// bin returns the folder of the newest PostgreSQL that Debian's packages installed.
func bin() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", errors.New("PostgreSQL is not installed: apt-get install postgresql")
	}
	return filepath.Dir(found[len(found)-1]), nil
}

// FreePort returns a port of loopback that nothing listens on at the moment.
func FreePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Start starts a server on the data folder, which it makes if there is none
// yet. With fast it does not wait for the disk, for data that nobody will miss.
// PostgreSQL refuses to run as root, so then it runs as the user postgres.
func Start(ctx context.Context, dir string, port int, fast bool) (*Server, error) {
	programs, err := bin()
	if err != nil {
		return nil, err
	}
	as, err := runAs(dir)
	if err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		cmd := exec.CommandContext(ctx, filepath.Join(programs, "initdb"), "-D", data, "-U", "nimblepane",
			"--auth=trust", "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync")
		cmd.SysProcAttr, cmd.Dir = as, dir
		if out, err := cmd.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("initdb: %w: %s", err, out)
		}
	}
	password, err := secure(ctx, dir, programs, as, fast)
	if err != nil {
		return nil, err
	}
	log, err := os.OpenFile(filepath.Join(dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	args := []string{
		"-D", data, "-p", strconv.Itoa(port), "-h", "127.0.0.1", "-c", "unix_socket_directories=", "-c",
		"max_connections=300", "-c", "shared_buffers=256MB",
	}
	if fast {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off")
	}
	cmd := exec.Command(filepath.Join(programs, "postgres"), args...)
	cmd.SysProcAttr, cmd.Dir, cmd.Stdout, cmd.Stderr = as, dir, log, log
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	s := &Server{Dir: dir, Port: port, Password: password, cmd: cmd}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for {
		ready := exec.CommandContext(ctx, filepath.Join(programs, "pg_isready"), "-q", "-h", "127.0.0.1", "-p",
			strconv.Itoa(port))
		if ready.Run() == nil {
			return s, nil
		}
		select {
		case <-ended:
			tail, _ := os.ReadFile(filepath.Join(dir, "log"))
			return nil, fmt.Errorf("PostgreSQL did not start:\n%s", lastLines(string(tail), 8))
		case <-ctx.Done():
			s.Stop()
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// URL returns the connection string of a database of the server.
func (s *Server) URL(database string) string {
	return fmt.Sprintf("postgres://nimblepane:%s@127.0.0.1:%d/%s?sslmode=disable", s.Password, s.Port, database)
}

// secure sets a random password on a new server with PostgreSQL's single-user mode, and returns the password. It
// writes the file of the password last, so that an interrupted run is repeated. Fast servers use MD5: a SCRAM login
// takes 10 ms, and tests open thousands of connections.
func secure(ctx context.Context, dir, programs string, as *syscall.SysProcAttr, fast bool) (string, error) {
	file, data := filepath.Join(dir, "password"), filepath.Join(dir, "data")
	if known, err := os.ReadFile(file); err == nil {
		return string(known), nil
	}
	password, method := rand.Text(), "scram-sha-256"
	if fast {
		method = "md5"
	}
	cmd := exec.CommandContext(ctx, filepath.Join(programs, "postgres"), "--single", "-D", data, "template1")
	cmd.SysProcAttr, cmd.Dir = as, dir
	cmd.Stdin = strings.NewReader(fmt.Sprintf("set password_encryption = '%s'\nalter role nimblepane password '%s'\n",
		method, password))
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("give PostgreSQL a password: %w: %s", err, out)
	}
	access := filepath.Join(data, "pg_hba.conf")
	rules, err := os.ReadFile(access)
	if err != nil {
		return "", err
	}
	closed := regexp.MustCompile(`(?m)^(\w+\s.*\s)trust$`).ReplaceAll(rules, []byte("${1}"+method))
	if err := os.WriteFile(access, closed, 0o600); err != nil { // which keeps its owner
		return "", err
	}
	return password, os.WriteFile(file, []byte(password), 0o600)
}

// Stop shuts the server down and waits for it.
func (s *Server) Stop() {
	if s.cmd.Process.Signal(syscall.SIGINT) != nil {
		return
	}
	for s.cmd.Process.Signal(syscall.Signal(0)) == nil {
		time.Sleep(20 * time.Millisecond)
	}
}

func runAs(dir string) (*syscall.SysProcAttr, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	// The server has to outlive a Ctrl-C that is meant for whoever started it, and be stopped after the rest.
	attr := &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGINT}
	if os.Getuid() != 0 {
		return attr, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root: %w", err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(dir, uid, gid); err != nil {
		return nil, err
	}
	if err := reachable(dir, uid); err != nil {
		return nil, err
	}
	attr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return attr, nil
}

// reachable returns an error if the user cannot get into the folder through its parents.
func reachable(dir string, uid int) error {
	for d := filepath.Dir(dir); d != "/" && d != "."; d = filepath.Dir(d) {
		info, err := os.Stat(d)
		if err != nil {
			return err
		}
		if info.Mode().Perm()&0o001 == 0 && int(info.Sys().(*syscall.Stat_t).Uid) != uid {
			return fmt.Errorf("%w: %s", ErrUnreachable, d)
		}
	}
	return nil
}

func lastLines(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}
