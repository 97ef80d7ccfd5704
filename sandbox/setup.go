package sandbox

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// init does the setup stage in a process that Run has started.
func init() {
	if len(os.Args) != 2 || os.Args[0] != setupStage {
		return
	}
	err := enter()
	fmt.Fprintln(os.Stderr, err)
	os.Exit(exitSetup)
}

// enter builds the file system of a job, drops all privileges and executes the
// job. It returns only if that fails.
func enter() error {
	// Capabilities and no_new_privs are those of a thread; the thread that executes the job has to drop them.
	runtime.LockOSThread()
	var s stage
	if err := json.Unmarshal([]byte(os.Args[1]), &s); err != nil {
		return err
	}
	// The job's task is in this very program, even if its file was replaced by another version meanwhile.
	self, err := unix.Open("/proc/self/exe", unix.O_PATH|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("open this program: %w", err)
	}
	if err := buildRoot(s); err != nil {
		return err
	}
	if err := limit(s); err != nil {
		return err
	}
	if err := dropPrivileges(s.Drop); err != nil {
		return err
	}
	if len(s.Program) > 0 {
		err := syscall.Exec("/usr/bin/"+s.Program[0], s.Program, os.Environ())
		return fmt.Errorf("execute %s: %w", s.Program[0], err)
	}
	err = execute(self, []string{taskStage, s.Task, strconv.FormatInt(s.Memory, 10)})
	return fmt.Errorf("execute this program: %w", err)
}

// execute replaces this process with a program that is open, as execveat(2) does.
func execute(program int, args []string) error {
	argv, err := syscall.SlicePtrFromStrings(args)
	if err != nil {
		return err
	}
	env, err := syscall.SlicePtrFromStrings(os.Environ())
	if err != nil {
		return err
	}
	empty, err := syscall.BytePtrFromString("")
	if err != nil {
		return err
	}
	_, _, errno := unix.RawSyscall6(unix.SYS_EXECVEAT, uintptr(program), uintptr(unsafe.Pointer(empty)),
		uintptr(unsafe.Pointer(&argv[0])), uintptr(unsafe.Pointer(&env[0])), unix.AT_EMPTY_PATH, 0)
	return errno
}

// seen is one part of the file system of a job.
type seen struct {
	from, at string
	set      uint64 // attributes of the mount
}

// buildRoot makes the file system that the job sees the root of this process.
func buildRoot(s stage) error {
	const locked = unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV
	parts := []seen{
		{"/usr", "usr", locked | unix.MOUNT_ATTR_RDONLY},
	}
	if s.Input != "" {
		parts = append(parts, seen{s.Input, InputPath[1:], locked | unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOEXEC})
	}
	if s.Output != "" {
		parts = append(parts, seen{s.Output, OutputPath[1:], locked | unix.MOUNT_ATTR_NOEXEC})
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_SLAVE, ""); err != nil {
		return fmt.Errorf("keep mounts to itself: %w", err)
	}
	// The parts are opened first: the new root hides everything below its mount point.
	sources := make([]int, len(parts))
	for i, p := range parts {
		fd, err := unix.Open(p.from, unix.O_PATH|unix.O_CLOEXEC, 0)
		if err != nil {
			return fmt.Errorf("open %s: %w", p.from, err)
		}
		sources[i] = fd
	}
	const root = "/tmp"
	if err := unix.Mount("sandbox", root, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "size=64k,mode=755"); err != nil {
		return fmt.Errorf("mount a root: %w", err)
	}
	for i, p := range parts {
		if err := bind(sources[i], filepath.Join(root, p.at), p.set); err != nil {
			return fmt.Errorf("mount %s: %w", p.from, err)
		}
	}
	for _, link := range []string{"lib", "lib64", "bin"} {
		if err := os.Symlink("usr/"+link, filepath.Join(root, link)); err != nil {
			return err
		}
	}
	readOnly := unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}
	if err := unix.MountSetattr(unix.AT_FDCWD, root, 0, &readOnly); err != nil {
		return fmt.Errorf("make the root read-only: %w", err)
	}
	if err := os.Chdir(root); err != nil {
		return err
	}
	if err := unix.PivotRoot(".", "."); err != nil {
		return fmt.Errorf("enter the root: %w", err)
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return fmt.Errorf("leave the old root: %w", err)
	}
	return os.Chdir("/")
}

// bind mounts an open file or folder at a path of the new root.
func bind(source int, at string, set uint64) error {
	var info unix.Stat_t
	if err := unix.Fstat(source, &info); err != nil {
		return err
	}
	if info.Mode&unix.S_IFMT == unix.S_IFDIR {
		if err := os.Mkdir(at, 0o755); err != nil {
			return err
		}
	} else if err := os.WriteFile(at, nil, 0o444); err != nil {
		return err
	}
	from := "/proc/self/fd/" + strconv.Itoa(source)
	if err := unix.Mount(from, at, "", unix.MS_BIND|unix.MS_REC, ""); err != nil {
		return err
	}
	return unix.MountSetattr(unix.AT_FDCWD, at, unix.AT_RECURSIVE, &unix.MountAttr{Attr_set: set})
}

// limit sets the resource limits of this process, which the job inherits.
func limit(s stage) error {
	limits := map[int]uint64{
		unix.RLIMIT_CPU: uint64(s.CPU), unix.RLIMIT_FSIZE: uint64(s.File), unix.RLIMIT_CORE: 0,
		unix.RLIMIT_NOFILE: 64, unix.RLIMIT_NPROC: 64,
	}
	if !raceDetector {
		limits[unix.RLIMIT_DATA] = uint64(s.Memory)
	}
	for which, most := range limits {
		if err := unix.Setrlimit(which, &unix.Rlimit{Cur: most, Max: most}); err != nil {
			return fmt.Errorf("set limit %d: %w", which, err)
		}
	}
	return unix.Setpriority(unix.PRIO_PROCESS, 0, 10)
}

// dropPrivileges gives up all capabilities for good, and root where this process is root.
func dropPrivileges(root bool) error {
	for capability := uintptr(0); ; capability++ {
		err := unix.Prctl(unix.PR_CAPBSET_DROP, capability, 0, 0, 0)
		if errors.Is(err, unix.EINVAL) && capability > unix.CAP_SETPCAP {
			break // there are no more
		}
		if err != nil {
			return fmt.Errorf("drop capability %d: %w", capability, err)
		}
	}
	if root {
		if err := errors.Join(unix.Setgroups(nil), unix.Setresgid(nobody, nobody, nobody),
			unix.Setresuid(nobody, nobody, nobody)); err != nil {
			return fmt.Errorf("become another user: %w", err)
		}
	}
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var none [2]unix.CapUserData
	if err := unix.Capset(&header, &none[0]); err != nil {
		return fmt.Errorf("drop capabilities: %w", err)
	}
	return unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
}
