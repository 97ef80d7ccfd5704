package main

import (
	"context"
	"crypto/sha256"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"nimblepane/client"
	"nimblepane/store/localpg"
)

// harbour is what a made-up vendor publishes.
//
//go:embed saltmarsh/harbour
var harbour embed.FS

//go:embed saltmarsh/estate.yaml
var estateFile string

//go:embed saltmarsh/scenario.yaml
var scenarioFile string

// sheets are the build sheets, with what they name beside them.
//
//go:embed saltmarsh/counter-desk.yaml saltmarsh/counter-desk saltmarsh/desks
//go:embed saltmarsh/crew-desk.yaml
var sheets embed.FS

// stack is PostgreSQL, the practice sites and the service, on ports of loopback.
type stack struct {
	dir                                string // where all of it keeps its data
	bin                                string // where the programs are
	service, metrics, practice, pgPort int
	options                            []string // of the service, instead of following the practice clock

	db       *localpg.Server
	practise *exec.Cmd
	serve    *exec.Cmd
}

const database = "postgres" // the one that every new PostgreSQL has

// estate returns the estate file with this stack's practice address.
func (s *stack) estate() []byte {
	return []byte(strings.ReplaceAll(estateFile, "127.0.0.1:7720", fmt.Sprintf("127.0.0.1:%d", s.practice)))
}

func (s *stack) url() string { return fmt.Sprintf("http://127.0.0.1:%d", s.service) }

// start starts everything that does not run.
func (s *stack) start(ctx context.Context) (err error) {
	for _, port := range []int{s.service, s.metrics, s.practice, s.pgPort} {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return fmt.Errorf("port %d is taken: does the demo run already, or did something else take it? (%w)", port,
				err)
		}
		l.Close()
	}
	if err := os.MkdirAll(s.dir, 0o755); err != nil {
		return err
	}
	if s.db, err = startDatabase(ctx, s.dir, s.pgPort); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(s.dir, "scenario.yaml"), []byte(scenarioFile), 0o600); err != nil {
		return err
	}
	published, err := fs.Sub(harbour, "saltmarsh/harbour")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.repositories(), 0o755); err != nil {
		return err
	}
	feed := filepath.Join(s.dir, "feed")
	if err := os.CopyFS(feed, published); err != nil && !errors.Is(err, fs.ErrExist) { // it may have more by now
		return err
	}
	if s.practise, err = s.run("nimblepane-practice", "serve", "--address", fmt.Sprintf("127.0.0.1:%d", s.practice),
		"--feed", feed, "--scenario", filepath.Join(s.dir, "scenario.yaml"), "--state",
		filepath.Join(s.dir, "practice.json")); err != nil {
		return err
	}
	return s.startService(ctx)
}

// startDatabase puts the data folder where the user postgres can reach it:
// below dir if that is so, and else below /var/tmp under a name of dir's own.
func startDatabase(ctx context.Context, dir string, port int) (*localpg.Server, error) {
	db, err := localpg.Start(ctx, filepath.Join(dir, "postgresql"), port, false)
	if !errors.Is(err, localpg.ErrUnreachable) {
		return db, err
	}
	return localpg.Start(ctx, elsewhere(dir), port, false)
}

func elsewhere(dir string) string {
	return fmt.Sprintf("/var/tmp/nimblepane-%x", sha256.Sum256([]byte(dir)))[:32]
}

func (s *stack) startService(ctx context.Context) (err error) {
	options := s.options
	if options == nil {
		options = []string{"--practice-clock", fmt.Sprintf("http://127.0.0.1:%d", s.practice)}
	}
	s.serve, err = s.run("nimblepaned", append([]string{
		"serve", "--listen", fmt.Sprintf("127.0.0.1:%d", s.service),
		"--metrics-listen", fmt.Sprintf("127.0.0.1:%d", s.metrics), "--bases", filepath.Join(s.dir, "bases"),
		"--fetch-from-here", "--repositories", s.repositories(),
	}, options...)...)
	if err != nil {
		return err
	}
	deadline := time.Now().Add(30 * time.Second)
	for time.Now().Before(deadline) && ctx.Err() == nil {
		resp, err := http.Get(s.url() + "/readyz")
		if err == nil {
			resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return nil
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("the service did not get ready; its log is %s", filepath.Join(s.dir, "nimblepaned.log"))
}

// run starts a program with its log in the data folder. It does not get the
// terminal's Ctrl-C: what is stopped when is decided here.
func (s *stack) run(program string, args ...string) (*exec.Cmd, error) {
	log, err := os.OpenFile(filepath.Join(s.dir, program+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(s.bin, program), args...)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool {
		return strings.HasPrefix(v, "NIMBLEPANE_CONFIG=") // somebody's settings of the client
	})
	if s.db != nil {
		cmd.Env = append(cmd.Env, s.inEnvironment())
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	return cmd, cmd.Start()
}

// inEnvironment names the database where other users of the computer do not see its password.
func (s *stack) inEnvironment() string { return "NIMBLEPANE_DATABASE=" + s.db.URL(database) }

// kill ends the service as a power cut would.
func (s *stack) kill() {
	_ = s.serve.Process.Kill()
	_ = s.serve.Wait()
}

// stop stops everything, the service first and the database last.
func (s *stack) stop() {
	for _, cmd := range []*exec.Cmd{s.serve, s.practise} {
		if cmd != nil && cmd.Process.Signal(syscall.SIGTERM) == nil {
			_ = cmd.Wait()
		}
	}
	if s.db != nil {
		s.db.Stop()
	}
}

// addAccount adds an account at the database, as the first administrator is made.
func (s *stack) addAccount(ctx context.Context, name, title, role, password string) error {
	cmd := exec.CommandContext(ctx, filepath.Join(s.bin, "nimblepaned"), "account", "add", name, "--title", title,
		"--role", role)
	cmd.Env = append(os.Environ(), s.inEnvironment())
	cmd.Stdin = strings.NewReader(password + "\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("add account %s: %w: %s", name, err, out)
	}
	return nil
}

// practiceCtl turns a knob of the practice sites.
func (s *stack) practiceCtl(ctx context.Context, args ...string) error {
	out, err := exec.CommandContext(ctx, filepath.Join(s.bin, "nimblepane-practice"),
		append(args, "--address", fmt.Sprintf("127.0.0.1:%d", s.practice))...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("nimblepane-practice %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

func (s *stack) rate(ctx context.Context, n float64) error {
	return s.practiceCtl(ctx, "rate", fmt.Sprint(n))
}

// signedIn returns a client of an account, with its token.
func (s *stack) signedIn(ctx context.Context, name string) (*client.Client, string, error) {
	in, err := client.New(s.url(), "").SignIn(ctx, name, password, "demo")
	return client.New(s.url(), in.Token), in.Token, err
}
