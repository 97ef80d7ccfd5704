package software

import (
	"cmp"
	"errors"
	"slices"
	"strconv"
	"strings"

	"nimblepane/core/software"
)

// Key is a key of the Windows registry, as far as it is read here. What is not
// there is ErrNoKey, and a value that is not there empty.
type Key interface {
	Text(name string) (string, error)
	Number(name string) (uint64, error)
	Keys() ([]string, error)
	Open(path string) (Key, error)
}

// ErrNoKey is the error of a key that is not there.
var ErrNoKey = errors.New("there is no such key in the registry")

// Where the registry has what is looked for, below HKEY_LOCAL_MACHINE.
const (
	uninstall   = `SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall`
	uninstall32 = `SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall`
	current     = `SOFTWARE\Microsoft\Windows NT\CurrentVersion`
	profiles    = `SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList`
	services    = `SYSTEM\CurrentControlSet\Services`
	timeZone    = `SYSTEM\CurrentControlSet\Control\TimeZoneInformation`
	language    = `SYSTEM\CurrentControlSet\Control\Nls\Language`
)

// automatic is the value Start of a service that starts by itself, and the
// kinds of those that are no drivers.
const automatic, ownProcess, sharedProcess = 2, 0x10, 0x20

// OfWindows returns what is in a Windows machine, from its registry: what is
// registered there as installed, as the keys of installed programs are
// documented, and its facts. The commands are those of applications that
// people open. What the registry does not know is left out: what folders take,
// and which ports are listened on.
func OfWindows(local Key, commands []string) (l software.List, err error) {
	system, err := local.Open(current)
	if err != nil {
		return l, err
	}
	r := reader{}
	build := r.text(system, "CurrentBuild")
	if n := r.number(system, "UBR"); n > 0 {
		build += "." + strconv.FormatUint(n, 10)
	}
	l.Facts = software.Facts{
		System:  strings.TrimSpace(r.text(system, "ProductName") + " " + r.text(system, "DisplayVersion")),
		Edition: r.text(system, "EditionID"), Kernel: "10.0." + build,
	}
	if r.err != nil {
		return l, r.err
	}
	l.Entries = []software.Entry{{
		Origin: software.System, Name: "windows", Version: l.Facts.Kernel, Summary: l.Facts.System,
	}}
	for _, from := range []struct{ path, arch string }{{uninstall, ""}, {uninstall32, "x86"}} {
		programs, err := each(local, from.path, func(_ string, k Key) (e software.Entry, there bool, err error) {
			return program(k, from.arch, commands)
		})
		if err != nil {
			return l, err
		}
		l.Entries = append(l.Entries, programs...)
	}
	if l.Facts.Services, err = each(local, services, startsByItself); err != nil {
		return l, err
	}
	slices.Sort(l.Facts.Services)
	if l.Facts.Accounts, err = each(local, profiles, account); err != nil {
		return l, err
	}
	for _, one := range []struct {
		path, name string
		into       *string
	}{{timeZone, "TimeZoneKeyName", &l.Facts.TimeZone}, {language, "InstallLanguage", &l.Facts.Language}} {
		k, err := local.Open(one.path)
		if errors.Is(err, ErrNoKey) {
			continue
		}
		if err == nil {
			*one.into, err = k.Text(one.name)
		}
		if err != nil {
			return l, err
		}
	}
	l.Facts.Agents = agents(l.Entries)
	return l, nil
}

// each reads the keys below a key, and keeps what is there.
func each[T any](local Key, path string, read func(name string, k Key) (T, bool, error)) (list []T, err error) {
	top, err := local.Open(path)
	if errors.Is(err, ErrNoKey) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	names, err := top.Keys()
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	for _, name := range names {
		k, err := top.Open(name)
		if errors.Is(err, ErrNoKey) {
			continue // it went away meanwhile
		}
		if err != nil {
			return nil, err
		}
		one, there, err := read(name, k)
		if err != nil {
			return nil, err
		}
		if there {
			list = append(list, one)
		}
	}
	return list, nil
}

// program reads what is registered of an installed program. What has no name,
// is a part of the system or an update of another is not shown by Windows either.
func program(k Key, arch string, commands []string) (e software.Entry, there bool, err error) {
	r := reader{}
	e = software.Entry{
		Origin: software.Windows, Name: r.text(k, "DisplayName"), Version: r.text(k, "DisplayVersion"), Arch: arch,
		Publisher: r.text(k, "Publisher"), Path: strings.TrimRight(r.text(k, "InstallLocation"), `\`), Noticed: true,
	}
	if e.Name == "" || r.number(k, "SystemComponent") == 1 || r.text(k, "ParentKeyName") != "" {
		return e, false, r.err
	}
	for _, c := range commands {
		if e.Path != "" && strings.HasPrefix(strings.ToLower(c), strings.ToLower(e.Path)+`\`) {
			e.Opens = append(e.Opens, c)
		}
	}
	return e, true, r.err
}

func startsByItself(name string, k Key) (string, bool, error) {
	r := reader{}
	kind, start := r.number(k, "Type"), r.number(k, "Start")
	return name, start == automatic && kind&(ownProcess|sharedProcess) != 0, r.err
}

// localAccounts is how the security identifiers of accounts begin that are of a machine or a domain, and of no service.
const localAccounts = "S-1-5-21-"

func account(id string, k Key) (a software.Account, there bool, err error) {
	r := reader{}
	home := r.text(k, "ProfileImagePath")
	name := home[strings.LastIndexAny(home, `\/`)+1:]
	a = software.Account{Name: cmp.Or(name, id), ID: id, Home: home, Signs: true}
	return a, strings.HasPrefix(id, localAccounts), r.err
}

// reader keeps the first error of what is read one after the other.
type reader struct{ err error }

func (r *reader) text(k Key, name string) string {
	if r.err != nil {
		return ""
	}
	var s string
	s, r.err = k.Text(name)
	return strings.TrimSpace(s)
}

func (r *reader) number(k Key, name string) uint64 {
	if r.err != nil {
		return 0
	}
	var n uint64
	n, r.err = k.Number(name)
	return n
}
