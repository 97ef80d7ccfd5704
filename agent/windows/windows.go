//go:build windows

package windows

import (
	"context"
	"fmt"
	"os/exec"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"nimblepane/agent"
)

// System is the running Windows system.
type System struct {
	mu   sync.Mutex
	load average
	last processorTimes
}

// New returns the system that the process runs on.
func New() *System { return &System{} }

var (
	wtsapi32        = windows.NewLazySystemDLL("wtsapi32.dll")
	querySession    = wtsapi32.NewProc("WTSQuerySessionInformationW")
	sendMessage     = wtsapi32.NewProc("WTSSendMessageW")
	logoffSession   = wtsapi32.NewProc("WTSLogoffSession")
	kernel32        = windows.NewLazySystemDLL("kernel32.dll")
	getSystemTimes  = kernel32.NewProc("GetSystemTimes")
	setComputerName = kernel32.NewProc("SetComputerNameExW")
	currentServer   = windows.Handle(0) // WTS_CURRENT_SERVER_HANDLE
)

// Classes of WTSQuerySessionInformation.
const wtsSessionInfo = 24 // a WTSINFOW

// wtsInfo is WTSINFOW.
type wtsInfo struct {
	State                                                              uint32
	SessionID                                                          uint32
	IncomingBytes, OutgoingBytes, IncomingFrames, OutgoingFrames       uint32
	IncomingCompressed, OutgoingCompressed                             uint32
	WinStation                                                         [32]uint16
	Domain                                                             [17]uint16
	User                                                               [21]uint16
	ConnectTime, DisconnectTime, LastInputTime, LogonTime, CurrentTime int64
}

// Sessions are those of people: session 0 is the services'.
func (s *System) Sessions(context.Context) ([]agent.Session, error) {
	var first *windows.WTS_SESSION_INFO
	var count uint32
	if err := windows.WTSEnumerateSessions(currentServer, 0, 1, &first, &count); err != nil {
		return nil, fmt.Errorf("WTSEnumerateSessions: %w", err)
	}
	defer windows.WTSFreeMemory(uintptr(unsafe.Pointer(first)))
	sessions := []agent.Session{}
	for _, info := range unsafe.Slice(first, count) {
		if info.SessionID == 0 {
			continue
		}
		i, err := query(info.SessionID)
		if err != nil {
			return nil, err
		}
		person := windows.UTF16ToString(i.User[:])
		if person == "" {
			continue // a listener, or a screen at which nobody has signed in
		}
		logon := fileTime(i.LogonTime)
		sessions = append(sessions, agent.Session{
			Key: key(info.SessionID, logon), Person: person, Since: logon,
			State: state(info.State, fileTime(i.CurrentTime).Sub(fileTime(i.LastInputTime)), i.LastInputTime != 0),
		})
	}
	return sessions, nil
}

func query(id uint32) (info wtsInfo, err error) {
	var buffer *wtsInfo
	var size uint32
	ok, _, err := querySession.Call(uintptr(currentServer), uintptr(id), wtsSessionInfo,
		uintptr(unsafe.Pointer(&buffer)), uintptr(unsafe.Pointer(&size)))
	if ok == 0 {
		return info, fmt.Errorf("WTSQuerySessionInformation of session %d: %w", id, err)
	}
	defer windows.WTSFreeMemory(uintptr(unsafe.Pointer(buffer)))
	return *buffer, nil
}

// there says whether the session of a key is still there: numbers are used again.
func there(k string) (id uint32, ok bool, err error) {
	id, since, err := parseKey(k)
	if err != nil {
		return 0, false, err
	}
	i, err := query(id)
	if err != nil {
		return 0, false, nil
	}
	return id, key(id, fileTime(i.LogonTime)) == k && !since.IsZero(), nil
}

// Refuse has Windows take no new sessions until Admit, also after a restart;
// people can come back to sessions of theirs. Windows shows a sentence of its own.
func (s *System) Refuse(ctx context.Context, _ string) error { return changeLogon(ctx, "/drain") }

// Admit has Windows take new sessions.
func (s *System) Admit(ctx context.Context) error { return changeLogon(ctx, "/enable") }

func changeLogon(ctx context.Context, how string) error {
	out, err := exec.CommandContext(ctx, "change.exe", "logon", how).CombinedOutput()
	if err != nil {
		return fmt.Errorf("change logon %s: %w: %s", how, err, out)
	}
	return nil
}

// Tell shows a message box in the session, and does not wait for its button.
func (s *System) Tell(_ context.Context, k, message string) error {
	id, ok, err := there(k)
	if err != nil || !ok {
		return err
	}
	title, err := windows.UTF16FromString("Your desk")
	if err != nil {
		return err
	}
	text, err := windows.UTF16FromString(message)
	if err != nil {
		return err
	}
	const okIcon = 0x40 // MB_OK | MB_ICONINFORMATION
	var response uint32
	done, _, err := sendMessage.Call(uintptr(currentServer), uintptr(id),
		uintptr(unsafe.Pointer(&title[0])), uintptr(2*(len(title)-1)), uintptr(unsafe.Pointer(&text[0])),
		uintptr(2*(len(text)-1)),
		okIcon, 0, uintptr(unsafe.Pointer(&response)), 0)
	if done == 0 {
		return fmt.Errorf("WTSSendMessage to session %d: %w", id, err)
	}
	return nil
}

// SignOff ends the session.
func (s *System) SignOff(_ context.Context, k string) error {
	id, ok, err := there(k)
	if err != nil || !ok {
		return err
	}
	if done, _, err := logoffSession.Call(uintptr(currentServer), uintptr(id), 0); done == 0 {
		return fmt.Errorf("WTSLogoffSession of session %d: %w", id, err)
	}
	return nil
}

// Load is the share of time in which the processors were busy, averaged over a
// minute as load averages are: Windows has none of its own.
func (s *System) Load(context.Context) (float64, error) {
	var idle, kernel, user windows.Filetime
	ok, _, err := getSystemTimes.Call(uintptr(unsafe.Pointer(&idle)), uintptr(unsafe.Pointer(&kernel)),
		uintptr(unsafe.Pointer(&user)))
	if ok == 0 {
		return 0, fmt.Errorf("GetSystemTimes: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	now := processorTimes{idle: ticks(idle), all: ticks(kernel) + ticks(user), at: time.Now()}
	busy, span := now.since(s.last)
	s.last = now
	return s.load.add(busy, span), nil
}

func ticks(f windows.Filetime) uint64 { return uint64(f.HighDateTime)<<32 | uint64(f.LowDateTime) }

// Rename sets the name that the machine has after its next restart.
func (s *System) Rename(_ context.Context, name string) error {
	text, err := syscall.UTF16PtrFromString(name)
	if err != nil {
		return err
	}
	const physicalDNSHostname = 5
	if ok, _, err := setComputerName.Call(physicalDNSHostname, uintptr(unsafe.Pointer(text))); ok == 0 {
		return fmt.Errorf("SetComputerNameEx to %s: %w", name, err)
	}
	return nil
}
