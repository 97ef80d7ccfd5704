package seal

import (
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
)

func TestAMachineWithNothingLeftIsFit(t *testing.T) {
	t.Parallel()
	require.Empty(t, Check(Facts{}, Expected{}))
	require.Empty(t, Check(Facts{
		Room: []Room{{"/", LeastRoom}}, Agent: &Agent{Version: "1.0"}, Firmware: "uefi",
		ClockOff: -MostClockOff.Seconds(),
	}, Expected{Agent: "1.0", MachineClass: "standard", ImageClass: "standard", Firmware: "uefi"}))
}

// unfit are facts by which every check finds something.
var (
	unfit = Facts{
		UpdatesPending: []string{"tzdata"}, RestartPending: "linux-image",
		SignedIn: []string{"Ida Strand", "Jonas Lock"},
		Secrets:  []string{"/root/.ssh/id_ed25519 (a private key)"}, Leftovers: []string{"/tmp/fare-desk.deb"},
		Joined: []string{"/etc/krb5.keytab"}, Encrypted: []string{"/dev/vda2"},
		OtherDisks: []string{"/dev/vdb (at /srv)"}, MountedBelow: []string{"/tmp/installers (cifs, //quay/soft)"},
		FileSystems: []string{"vda1 has 2 errors"}, Room: []Room{{"/", 1 << 20}, {"/var", 1 << 40}},
		Agent: &Agent{Version: "0.9", Off: "its service is disabled"}, Firmware: "bios",
		StaticNetwork: []string{"/etc/network/interfaces"},
		Refused:       []string{"telnetd 0.17", "lost 1"}, PersonalSoftware: []string{"/home/ida/bin/tides"},
		ServicesFailed: []string{"berth.service"}, ClockOff: -90.4,
		Own: []Own{{"own-licence", Warns, "none is there", "put one there"}},
	}
	judged = Expected{
		Agent: "1.0", MachineClass: "standard", ImageClass: "standard", Firmware: "uefi",
		Refuse: map[string]string{"telnet*": "sign-ins could be read"},
	}
)

func TestEachCheckSaysWhatItFoundAndWhatToDo(t *testing.T) {
	t.Parallel()
	var lines, names []string
	for _, f := range Check(unfit, judged) {
		lines = append(lines, string(f.Severity)+" "+f.Check+": "+f.Evidence)
		names = append(names, f.Check)
		require.NotEmpty(t, f.Remedy, f.Check)
	}
	require.Equal(t, []string{
		"blocks restart-pending: linux-image waits for a restart",
		"blocks people-signed-in: Ida Strand and Jonas Lock are signed in",
		"blocks secrets-left: there are secrets in /root/.ssh/id_ed25519 (a private key)",
		"blocks domain-joined: the machine is joined to a domain, by /etc/krb5.keytab",
		"blocks disk-encrypted: encrypted: /dev/vda2",
		"blocks other-disks: in use, and not part of the image: /dev/vdb (at /srv)",
		"blocks mounted-below: mounted below a folder that sealing empties: /tmp/installers (cifs, //quay/soft)",
		"blocks file-systems: vda1 has 2 errors",
		"blocks little-room: / has 1.0 MiB free",
		"blocks agent-unfit: pane-agent does not start with the machine: its service is disabled",
		"blocks machine-unfit: the machine was started by bios, and machines of class standard are by uefi",
		"blocks static-network: addresses are set in /etc/network/interfaces",
		"blocks software-refused: the estate refuses telnetd 0.17 (sign-ins could be read), lost 1",
		"blocks personal-software: installed for one person: /home/ida/bin/tides",
		"warns updates-pending: 1 update waits: tzdata",
		"warns agent-version: pane-agent is 0.9, and the service 1.0",
		"warns services-failed: these services failed: berth.service",
		"warns clock-off: the machine's clock is 1m30s behind",
		"warns leftovers: steps left /tmp/fare-desk.deb",
		"warns own-licence: none is there",
	}, lines)
	require.Equal(t, append(Checks(), "own-licence"), names, "each of them, and no other")
	one := func(f Facts, e Expected) string {
		found := Check(f, e)
		require.Len(t, found, 1)
		return found[0].Evidence
	}
	require.Equal(t, "2 updates wait: a, b", one(Facts{UpdatesPending: []string{"a", "b"}}, Expected{}))
	require.Equal(t, "Ida Strand is signed in", one(Facts{SignedIn: []string{"Ida Strand"}}, Expected{}))
	require.Equal(t, "the machine is of class graphics, and the image is for class standard",
		one(Facts{}, Expected{MachineClass: "graphics", ImageClass: "standard"}))
	require.Equal(t, "the machine's clock is 1h0m0s ahead", one(Facts{ClockOff: time.Hour.Seconds()}, Expected{}))
	many := strings.Split(strings.Repeat("/tmp/x ", 25), " ")[:25]
	require.True(t, strings.HasSuffix(one(Facts{Leftovers: many}, Expected{}), "/tmp/x, and 5 more"))
	require.Equal(t, []Severity{Blocks, Warns}, Severities())
}

func TestARepairSaysWhatItWillDo(t *testing.T) {
	t.Parallel()
	repairs := map[string]string{}
	for _, f := range Check(unfit, judged) {
		if f.Repair != nil {
			repairs[f.Check] = f.Repair.String()
		}
	}
	require.Equal(t, map[string]string{
		RestartPending: "restart the machine",
		UpdatesPending: "apply all updates, and restart the machine when that is needed",
		SecretsLeft:    "delete /root/.ssh/id_ed25519",
		Leftovers:      "delete /tmp/fare-desk.deb",
	}, repairs)
	// A secret of the system is not deleted, and nothing is if there is one.
	for _, path := range []string{"/etc/fares.conf", "/rooting/id", "/usr/local/x"} {
		f := Check(Facts{Secrets: []string{"/root/id (a private key)", path + " (a password)"}}, Expected{})
		require.Nil(t, f[0].Repair, path)
	}
	require.Equal(t, []string{"/home/ida/a (b"}, Check(Facts{Secrets: []string{"/home/ida/a (b (a private key)"}},
		Expected{})[0].Repair.Delete)
}

func TestTermsSayWhatBlocks(t *testing.T) {
	t.Parallel()
	var blocking []string
	for _, f := range (Terms{
		Waive: map[string]string{SecretsLeft: "it is public", Leftovers: "small"}, Block: []string{UpdatesPending},
	}).Judge(Check(Facts{
		RestartPending: "x", Secrets: []string{"/etc/x (a password)"}, UpdatesPending: []string{"tzdata"},
		Leftovers: []string{"/tmp/x"}, ServicesFailed: []string{"x"},
	}, Expected{})) {
		if f.Blocking() {
			blocking = append(blocking, f.Check)
		}
		if f.Check == SecretsLeft {
			require.Equal(t, "it is public", f.Waived)
		}
	}
	require.Equal(t, []string{RestartPending, UpdatesPending}, blocking)
}

const licence = "#!/bin/sh\n# severity: warns\n# remedy: put this year's there\ntest -e /etc/licence\n"

func TestOwnChecksHaveTheFormOfOurs(t *testing.T) {
	t.Parallel()
	list, err := Scripts(fstest.MapFS{
		"licence.sh": {Data: []byte(licence)}, ".hidden": {}, "more/x": {},
		"printer": {Data: []byte("#!/usr/bin/python3\n# remedy:  add it \n# severity of the weather\n")},
	})
	require.NoError(t, err)
	require.Equal(t, []Script{
		{"own-licence", Warns, "put this year's there", licence},
		{"own-printer", Blocks, "add it", list[1].Text},
	}, list)
	for want, file := range map[string][2]string{
		"call the file by small letters":              {"Licence", licence},
		"has to begin with its interpreter":           {"licence", "test -e /etc/licence"},
		`severity "soon": use blocks or warns`:        {"licence", "#!/bin/sh\n# severity: soon\n# remedy: x\n"},
		"does not say what to do about what it finds": {"licence", "#!/bin/sh\n# severity: warns\n"},
		"has 65537 bytes: a check has at most 65536":  {"licence", "#!/bin/sh\n" + strings.Repeat("x", MostOfScript-9)},
	} {
		_, err := Scripts(fstest.MapFS{file[0]: {Data: []byte(file[1])}})
		require.ErrorContains(t, err, want)
	}
	for name, known := range map[string]bool{
		"own-licence": true, "own-": false, "own-A": false, SecretsLeft: true, "licence": false,
	} {
		require.Equal(t, known, Known(name), name)
	}
}

func TestAnOwnCheckFindsByItsExitCode(t *testing.T) {
	t.Parallel()
	s, err := ReadScript("licence", licence)
	require.NoError(t, err)
	require.Nil(t, s.Ended(0, "all is well"))
	require.Equal(t, &Own{"own-licence", Warns, "none is there; look", s.Remedy},
		s.Ended(1, "none is there\n\n\x1b\x00look\n"))
	require.Equal(t, "it printed nothing", s.Ended(1, " \n").Evidence)
	require.Equal(t, &Own{
		"own-licence", Blocks, "it ended with exit code 127: no such program",
		"see why the check ends so: 0 is nothing found, 1 is something",
	}, s.Ended(127, "no such program"))
	require.Len(t, s.Ended(1, strings.Repeat("ä", 900)).Evidence, 2*mostEvidence+3)
	require.Equal(t, Blocks, s.Unmade("it did not end").Severity)
}
