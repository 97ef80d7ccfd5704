package software_test

import (
	"errors"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/agent/software"
	core "nimblepane/core/software"
)

// hive is a registry: values by the path of their key and their name, and what cannot be read.
type hive struct {
	values map[string]map[string]any
	at     string
}

func (h hive) Open(path string) (software.Key, error) {
	below := strings.Trim(h.at+`\`+path, `\`)
	for key := range h.values {
		if key == below || strings.HasPrefix(key, below+`\`) {
			return hive{h.values, below}, nil
		}
	}
	return nil, software.ErrNoKey
}

func (h hive) Keys() (names []string, err error) {
	for key := range maps.Keys(h.values) {
		if rest, ok := strings.CutPrefix(key, h.at+`\`); ok {
			name, _, _ := strings.Cut(rest, `\`)
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

func (h hive) Text(name string) (string, error) {
	if err, is := h.values[h.at][name].(error); is {
		return "", err
	}
	text, _ := h.values[h.at][name].(string)
	return text, nil
}

func (h hive) Number(name string) (uint64, error) {
	n, _ := h.values[h.at][name].(int)
	return uint64(n), nil
}

func windows() hive {
	const version = `SOFTWARE\Microsoft\Windows\CurrentVersion`
	return hive{values: map[string]map[string]any{
		`SOFTWARE\Microsoft\Windows NT\CurrentVersion`: {
			"ProductName": "Windows 11 Enterprise", "DisplayVersion": "24H2", "EditionID": "Enterprise",
			"CurrentBuild": "26100", "UBR": 2605,
		},
		version + `\Uninstall\fares`: {
			"DisplayName": "Fare Desk", "DisplayVersion": "6.2", "Publisher": "Saltmarsh Ferries",
			"InstallLocation": `C:\Program Files\Fare Desk\`,
		},
		version + `\Uninstall\part`:                                                  {"DisplayName": "a part", "SystemComponent": 1},
		version + `\Uninstall\update`:                                                {"DisplayName": "an update", "ParentKeyName": "fares"},
		version + `\Uninstall\nameless`:                                              {"DisplayVersion": "1"},
		`SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall\a`:          {"DisplayName": "NetCom agent", "DisplayVersion": "3"},
		`SYSTEM\CurrentControlSet\Services\spooler`:                                  {"Start": 2, "Type": 0x10},
		`SYSTEM\CurrentControlSet\Services\disk`:                                     {"Start": 2, "Type": 1},
		`SYSTEM\CurrentControlSet\Services\byhand`:                                   {"Start": 3, "Type": 0x20},
		`SYSTEM\CurrentControlSet\Control\TimeZoneInformation`:                       {"TimeZoneKeyName": "Romance Standard Time"},
		`SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-1-2-1001`: {"ProfileImagePath": `C:\Users\ida`},
		`SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-18`:          {"ProfileImagePath": `C:\system`},
	}}
}

func TestAWindowsMachineIsListedFromItsRegistry(t *testing.T) {
	t.Parallel()
	l, err := software.OfWindows(windows(), []string{`c:\program files\fare desk\fares.exe`, `C:\Windows\notepad.exe`})
	require.NoError(t, err)
	require.Equal(t, []core.Entry{
		{Origin: core.System, Name: "windows", Version: "10.0.26100.2605", Summary: "Windows 11 Enterprise 24H2"},
		{
			Origin: core.Windows, Name: "Fare Desk", Version: "6.2", Publisher: "Saltmarsh Ferries", Noticed: true,
			Path: `C:\Program Files\Fare Desk`, Opens: []string{`c:\program files\fare desk\fares.exe`},
		},
		{Origin: core.Windows, Name: "NetCom agent", Version: "3", Arch: "x86", Noticed: true},
	}, l.Entries)
	require.Equal(t, core.Facts{
		System: "Windows 11 Enterprise 24H2", Edition: "Enterprise", Kernel: "10.0.26100.2605",
		TimeZone: "Romance Standard Time", Services: []string{"spooler"},
		Accounts: []core.Account{{Name: "ida", ID: "S-1-5-21-1-2-1001", Home: `C:\Users\ida`, Signs: true}},
		Agents:   []core.Agent{{Name: "NetCom agent", Version: "3"}},
	}, l.Facts)
}

func TestWhatCannotBeReadOfARegistryIsAnError(t *testing.T) {
	t.Parallel()
	denied := errors.New("access is denied")
	for _, at := range []string{
		`SOFTWARE\Microsoft\Windows NT\CurrentVersion`, `SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\fares`,
		`SYSTEM\CurrentControlSet\Control\TimeZoneInformation`,
	} {
		h := windows()
		for name, v := range h.values[at] {
			if _, is := v.(string); is {
				h.values[at][name] = denied
			}
		}
		_, err := software.OfWindows(h, nil)
		require.ErrorIs(t, err, denied, at)
	}
	_, err := software.OfWindows(hive{values: map[string]map[string]any{}}, nil)
	require.ErrorIs(t, err, software.ErrNoKey)
}
