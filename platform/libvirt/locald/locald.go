// Package locald runs a private libvirtd on this computer, for tests, measurements
// and the story on real machines: with its own sockets, settings and storage,
// without root's rights, and apart from a libvirtd that the computer may run
// for other purposes.
package locald

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/core/estate"
)

// Storage is the name of the storage pool of each of these.
const Storage = "nimblepane"

// Server is a running libvirtd.
type Server struct {
	Dir  string // everything of it is in here
	URI  string
	Pool string   // folder of the storage pool
	Args []string // more arguments for the program, from the next Run on
	cmd  *exec.Cmd
	done chan struct{}
}

// ErrMissing is returned where QEMU or libvirt is not installed.
var ErrMissing = errors.New("QEMU and libvirt are not installed")

// Check returns ErrMissing if no server can be started here.
func Check() error {
	for _, p := range []string{"libvirtd", "qemu-system-x86_64", "qemu-img"} {
		if _, err := find(p); err != nil {
			return fmt.Errorf("%w: there is no %s (make setup-real installs them)", ErrMissing, p)
		}
	}
	return nil
}

func find(program string) (string, error) {
	if p, err := exec.LookPath(program); err == nil {
		return p, nil
	}
	return exec.LookPath(filepath.Join("/usr/sbin", program))
}

// unprivileged is whom the server runs as when this process is root: the user
// that Debian's package makes for QEMU.
const unprivileged = "libvirt-qemu"

// Start runs a server with its data in a new folder below /tmp: the paths of
// its sockets have to be short.
func Start(ctx context.Context) (s *Server, err error) {
	if err := Check(); err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("/tmp", "np-")
	if err != nil {
		return nil, err
	}
	s = &Server{Dir: dir, Pool: filepath.Join(dir, "pool"), URI: "qemu+unix:///session?socket=" +
		url.QueryEscape(filepath.Join(dir, "run/libvirt/libvirt-sock"))}
	for _, d := range []string{"run", "config/libvirt", "cache", "data", "pool"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			return nil, err
		}
	}
	// No control groups and no helper daemons: nothing of it reaches beyond the folder.
	settings := "cgroup_controllers = []\nnamespaces = []\nstdio_handler = \"file\"\nremember_owner = 0\n"
	if err := os.WriteFile(filepath.Join(dir, "config/libvirt/qemu.conf"), []byte(settings), 0o644); err != nil {
		return nil, err
	}
	if err := s.Own(dir); err != nil {
		return nil, err
	}
	if err := s.Run(ctx); err != nil {
		s.Remove()
		return nil, err
	}
	l, err := s.Connect()
	if err != nil {
		s.Stop()
		return nil, err
	}
	defer func() { _ = l.Disconnect() }()
	pool, err := l.StoragePoolDefineXML(fmt.Sprintf(
		"<pool type='dir'><name>%s</name><target><path>%s</path></target></pool>", Storage, s.Pool), 0)
	if err == nil {
		err = errors.Join(l.StoragePoolCreate(pool, 0), l.StoragePoolSetAutostart(pool, 1))
	}
	if err != nil {
		s.Stop()
		return nil, fmt.Errorf("define the storage pool: %w", err)
	}
	return s, nil
}

// credential is nil if this process is not root.
func credential() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup(unprivileged)
	if err != nil {
		return nil, fmt.Errorf("root cannot run a private libvirtd without the user %s of Debian's libvirt: %w",
			unprivileged, err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// Own gives a folder or file with all below it to whom the server runs as.
func (s *Server) Own(path string) error {
	c, err := credential()
	if c == nil {
		return err
	}
	return filepath.WalkDir(path, func(p string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(p, int(c.Uid), int(c.Gid))
	})
}

// Add puts a file into the storage pool under a name, as an administrator would copy it there.
func (s *Server) Add(file, name string) error {
	to := filepath.Join(s.Pool, name)
	if out, err := exec.Command("cp", "--reflink=auto", file, to).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return s.Own(to)
}

// Run starts the server again after Kill.
func (s *Server) Run(ctx context.Context) error {
	program, err := find("libvirtd")
	if err != nil {
		return err
	}
	c, err := credential()
	if err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(s.Dir, "libvirtd.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	s.cmd = exec.Command(program, append([]string{"--timeout", "0"}, s.Args...)...)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	s.cmd.Dir = s.Dir
	s.cmd.Env = []string{
		"HOME=" + s.Dir, "PATH=/usr/sbin:/usr/bin:/sbin:/bin", "XDG_RUNTIME_DIR=" + filepath.Join(s.Dir, "run"),
		"XDG_CONFIG_HOME=" + filepath.Join(s.Dir, "config"),
		"XDG_CACHE_HOME=" + filepath.Join(s.Dir, "cache"), "XDG_DATA_HOME=" + filepath.Join(s.Dir, "data"),
	}
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: c}
	if err := s.cmd.Start(); err != nil {
		return err
	}
	s.done = make(chan struct{})
	go func(cmd *exec.Cmd, done chan struct{}) {
		_ = cmd.Wait()
		close(done)
	}(s.cmd, s.done)
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); {
		if l, err := s.Connect(); err == nil {
			return l.Disconnect()
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-s.done:
			text, _ := os.ReadFile(filepath.Join(s.Dir, "libvirtd.log"))
			return fmt.Errorf("libvirtd ended at once: %s", bytes.TrimSpace(text))
		case <-time.After(50 * time.Millisecond):
		}
	}
	return errors.New("libvirtd did not answer within 30 s of its start")
}

// Connect speaks to the server.
func (s *Server) Connect() (*libvirt.Libvirt, error) {
	u, err := url.Parse(s.URI)
	if err != nil {
		return nil, err
	}
	return libvirt.ConnectToURI(u)
}

// PID of the server's process.
func (s *Server) PID() int { return s.cmd.Process.Pid }

// Kill ends the server as a crash would. Its machines run on.
func (s *Server) Kill() {
	_ = s.cmd.Process.Kill()
	<-s.done
}

// Stop ends all machines, then the server, and removes what it kept.
func (s *Server) Stop() {
	if l, err := s.Connect(); err == nil {
		if domains, _, err := l.ConnectListAllDomains(1, libvirt.ConnectListDomainsActive); err == nil {
			for _, d := range domains {
				_ = l.DomainDestroyFlags(d, 0)
			}
		}
		_ = l.Disconnect()
	}
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.done:
	case <-time.After(10 * time.Second):
		s.Kill()
	}
	// A machine that was being started when its server was killed is nobody's.
	for _, pid := range s.Processes() {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	s.Remove()
}

// Processes are those that name the server's folder in their arguments: its machines.
func (s *Server) Processes() (pids []int) {
	lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, l := range lines {
		text, err := os.ReadFile(l)
		pid, aerr := strconv.Atoi(filepath.Base(filepath.Dir(l)))
		if err == nil && aerr == nil && bytes.Contains(text, []byte(s.Dir+"/")) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// Remove deletes the server's folder.
func (s *Server) Remove() { _ = os.RemoveAll(s.Dir) }

// Site describes a site on these servers, whose machines find services on this
// computer's loopback at 10.0.2.2, as QEMU's user network has it.
func Site(name string, servers ...*Server) estate.Site {
	site := estate.Site{
		Name: name, Title: name, Platform: estate.Libvirt, StartsPerMinute: 60, ClonesPerCopy: 8,
		MachineSettings: estate.MachineSettings{
			Accelerator: "tcg",
			MachineClasses: map[string]estate.MachineClass{"standard": {
				Cores: 1, Memory: "384MiB", Firmware: "bios",
				Network: "user", Display: "none", Room: "256MiB",
			}},
		},
	}
	for i, s := range servers {
		site.Hypervisors = append(site.Hypervisors, estate.Hypervisor{
			Name: fmt.Sprintf("hv-%d", i+1), Address: s.URI,
			Storage: Storage,
		})
	}
	return site
}
