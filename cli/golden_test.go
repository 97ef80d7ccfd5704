package cli_test

import (
	"encoding/json"
	"flag"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"nimblepane/agent"
	"nimblepane/cli"
	"nimblepane/client"
	"nimblepane/core/base"
	"nimblepane/core/build"
	"nimblepane/core/compare"
	"nimblepane/core/disk"
	"nimblepane/core/estate"
	"nimblepane/core/feed"
	"nimblepane/core/flaw"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/machine"
	"nimblepane/core/matter"
	"nimblepane/core/proof"
	"nimblepane/core/provenance"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/core/schedule"
	"nimblepane/core/seal"
	"nimblepane/core/sheet"
	"nimblepane/core/software"
	"nimblepane/platform"
)

var update = flag.Bool("update", false, "write the golden files anew")

var (
	noon  = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	later = noon.Add(90 * time.Minute)
)

func listOf[T any](items ...T) client.Page[T] { return client.Page[T]{Items: items} }

func many[T any](one T, n int) (list []T) {
	for range n {
		list = append(list, one)
	}
	return list
}

// What a service answers that always has the same estate. What is evil in it
// must not reach a terminal.
var (
	goldenImage = client.Image{
		Accepted: map[string]string{"flatpak": "updated by its vendor (tove)"},
		Name:     "counter-desk", Title: "Ticket counters", Numbering: image.Calendar, MachineClass: "standard",
		Testers: 2,
		Soak:    "24h", Copies: 2, KeepApplications: true, NoDowngrades: true, Fallback: "2026.11.1", Versions: 3,
		NextNumber: "2026.11.4", Revision: 1, Retention: "the newest 2, what is tagged release",
		CopyPlans: []client.CopyPlan{
			{Site: "north-quay", Copies: 2, Why: "as the estate file says"},
			{Site: "south-quay", Copies: 1, Why: "pool back-office takes 1 host together; 4 can be cloned from a " +
				"copy at a time"},
		},
		Tracks: []client.Track{
			{Name: "pilot", Version: "2026.11.3", Since: &noon},
			{Name: "live", Version: "2026.11.2", Since: &noon},
		},
	}
	goldenFlaws = []flaw.Found{
		{
			ID: "CVE-2026-1001", Records: []string{"QUAY-2026-31"}, Severity: flaw.High, Score: 8.8, Package: "tide",
			Version: "2.8-4", Software: []string{"libtide1 2.8-4", "tide-data 2.8-4"}, Fixed: "2.8-4+deb12u1",
			Summary: "tables run programs\x1b[31m",
		},
		{
			ID: "QUAY-2026-40", Severity: flaw.Unknown, Package: "quay-fax", Version: "winter",
			Software: []string{"quay-fax winter"}, Perhaps: `version "winter" follows none of the usual rules`,
		},
	}
	goldenComparison = compare.Comparison{
		Flaws: compare.Flaws{Mends: goldenFlaws[:1], Brings: goldenFlaws[1:], Same: 3, NotChecked: []flaw.Gap{}},
		Image: "counter-desk", Same: 220,
		From: compare.Version{Number: "2026.11.2", Standing: []string{"live"}, SizeBytes: 24 << 30, SealedAt: &noon},
		To: compare.Version{
			Number: "2026.11.3", Standing: []string{"pilot"}, SizeBytes: 25 << 30, BuildSeconds: 4200, FirstStart: 40,
		},
		Counts: []compare.Count{
			{Group: software.Applications, What: software.Updated, N: 1},
			{Group: software.NoticedByThem, What: software.Downgraded, N: 1},
			{Group: software.TheRest, What: software.Updated, N: 15},
		},
		Changes: append([]software.Change{
			{
				What: software.Updated, Group: software.Applications, Origin: software.Application, Name: "Fare Desk",
				Before: "6.1-1", After: "6.2-1",
			},
			{
				What: software.Downgraded, Group: software.NoticedByThem, Origin: software.Deb, Name: "viewer\x1b[31m",
				Before: "2", After: "1",
			},
			{
				What: software.Updated, Group: software.TheRest, Origin: software.Deb, Name: "tide", Before: "2.8",
				After:    "2.9",
				Packages: []string{"libtide1", "tide-data", "tide-a", "tide-b", "tide-c"},
			},
		}, many(software.Change{
			What: software.Updated, Group: software.TheRest, Origin: software.Deb, Name: "lib", Before: "1", After: "2",
			Was: "old",
		}, 14)...),
		Facts:    []compare.Line{{What: "kernel", Before: "6.1.55", After: "6.1.76"}},
		Settings: []compare.Line{{What: "parameter queue", Before: "counter", After: "office"}},
		Steps:    []compare.Line{{What: "Mail", After: "the package mail is installed"}},
		Checks:   []compare.Line{{What: "leftovers", Before: "warns: steps left /tmp/x"}},
	}
	goldenSchedule = client.Schedule{
		Name: "monthly", Sheet: "counter-desk", Image: "counter-desk", Mode: schedule.IfChanged,
		Rule: "FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30", Zone: "Europe/Paris", NextAt: &later, Owner: "jonas",
		Values: map[string]string{"queue": "office"}, Dates: []time.Time{noon, later},
		Last: &client.ScheduleRun{At: noon, DueAt: &noon, Build: 3, State: build.Ready, Version: "2026.11.2"},
		Runs: []client.ScheduleRun{
			{At: noon, DueAt: &noon, Build: 3, State: build.Ready, Version: "2026.11.2"},
			{At: noon, DueAt: &noon, Why: schedule.NothingChanged},
		},
	}
	goldenBase = client.Base{
		ID: 1, Name: "harbour-13", State: base.Ready, File: "harbour-13.vmdk", Size: 135680, Have: 135680,
		Labels: base.Labels{Publisher: "Estuary Works", Product: "Harbour Linux", Release: "13"}, Format: disk.VMDK,
		SHA256: strings.Repeat("cd", 32), Progress: 100, Digest: "sha256:" + strings.Repeat("ab", 32), Bytes: 1 << 20,
		Facts: base.Facts{
			DiskSize: 16 << 20, Firmware: []string{"bios"}, System: "linux harbour",
			Edition: "Harbour\x1b]0;owned\x07 Linux 13", Release: "13", Architecture: "x86_64",
			Agents: []string{"cloud-init"},
		},
		AddedBy: "jonas", AddedAt: noon, EndedAt: &later, Copies: []client.BaseCopy{
			{Site: "north-quay", State: image.CopyPresent, Progress: 100},
			{Site: "south-quay", State: image.CopyFailed, Why: "its storage is full"},
		},
	}
	goldenOffer = client.Offer{
		Feed: "estuary", Product: "harbour-linux:13:amd64", Serial: "20261103", Labels: goldenBase.Labels,
		Codename: "Estuary\x1b]0;owned\x07", Architecture: "x86_64", Supported: "2029-06-30",
		Address: "https://images.example/13.vmdk", Kind: "vmdk", Size: 4 << 30, SHA256: strings.Repeat("ef", 32),
		With: []feed.Extra{{Name: "notes", Kind: "release-notes", Size: 90}},
	}
	goldenFeed = client.Feed{
		Name: "estuary", Address: "https://images.example/", Every: 3600, Releases: 3, LookedAt: &later, SeenAt: &noon,
		Why: "https://images.example/streams/v1/index.json answers 502 Bad Gateway", AddedBy: "jonas",
		LeftOut: []string{"product p, version 1: none of its files is a disk"},
	}
	goldenBuild = client.WholeBuild{
		Build: client.Build{
			ID: 3, Image: "counter-desk", Site: "north-quay", Base: "counter-desk 2026.11.2",
			State: build.Failed, Settled: true,
			Machine: "build-3", StartedBy: "jonas", StartedAt: noon, EndedAt: &later, Done: 1, Total: 3,
			Why: "step 2, Tide Tables, failed: exit code 100, and last it wrote: E: Unable to locate package " +
				"tide-table",
		},
		Sheet: "image: counter-desk\n",
		Steps: []client.BuildStep{
			{
				Name: "Fare Desk", Kind: sheet.Installs, State: build.StepDone, Attempts: 1, BeganAt: &noon,
				EndedAt: &later,
				Output:  "Setting up fare-desk ...\n",
			},
			{
				Name: "Tide Tables", Kind: sheet.Installs, State: build.StepFailed, Attempts: 2, BeganAt: &noon,
				EndedAt:  &later,
				ExitCode: 100, Why: "exit code 100, and last it wrote: E: Unable to locate package tide-table",
				Output: "\x1b]0;owned\x07E: Unable to locate package tide-table\n",
			},
			{Name: "Restart", Kind: sheet.Restarts, State: build.StepDropped},
		},
		Checked: true, Findings: []client.SealFinding{{
			Check: "leftovers", Severity: seal.Warns, Evidence: "steps left /tmp/fare-desk.deb",
			Remedy: "remove what no host needs",
		}},
	}
	goldenVersions = []client.Version{
		{
			Image: "counter-desk", Number: "2026.11.3", State: image.Sealed, Standing: []string{"pilot"}, Progress: 100,
			Digest: "sha256:" + strings.Repeat("ab", 32), SizeBytes: 25 << 30, SizeBefore: 40 << 30,
			Sealing: []string{"removed host keys"},
			Findings: []client.SealFinding{{
				Check: seal.SecretsLeft, Severity: seal.Blocks, Evidence: "there are secrets in /etc/x (a private key)",
				Remedy: "remove them", Waived: "it is the example of the manual",
			}},
			Source: "north-quay/bm-counter", Notes: "December fixes", Tags: []string{"winter"}, EndOfLife: &later,
			Software:   236,
			CapturedBy: "jonas",
			CreatedAt:  noon, SealedAt: &later, Hosts: 4, Revision: 2,
			Copies: []client.Copy{
				{Site: "north-quay", Ordinal: 1, State: image.CopyPresent, Progress: 100},
				{Site: "south-quay", Ordinal: 1, State: image.CopyFailed, Failure: "its storage is full"},
			},
		},
		{
			Image: "counter-desk", Number: "2026.11.2", State: image.Capturing, Standing: []string{}, Progress: 35,
			Source: "north-quay/bm-counter",
			Tags:   []string{}, CapturedBy: "jonas", CreatedAt: noon, Copies: []client.Copy{},
		},
		{
			Image: "counter-desk", Number: "2026.11.1", State: image.Sealed, Standing: []string{"fallback"},
			Progress: 100, Source: "north-quay/bm-counter",
			Tags: []string{}, CapturedBy: "jonas", CreatedAt: noon, Barred: "tickets \x1b[31mdo not print",
			BarredBy: "tove", BarredAt: &later,
			Copies: []client.Copy{}, Hosts: 36,
		},
	}
	goldenHost = client.Host{
		Name: "tc-001", Pool: "ticket-counters", Site: "north-quay", Image: "counter-desk", State: host.Faulty,
		Since: noon,
		Why:   "its agent is silent", Version: "2026.11.1", Target: "2026.11.2", Drifts: true,
		DriftReason: "faulty: its agent is silent", TargetSince: &noon, Seats: 4, Sessions: 2,
		SeenAt: &noon, Load: 0.75,
		Stamp: "counter-desk 2026.11.1", Checks: agent.ChecksFailed, ChecksWhy: "Fare Desk did not open",
		Machine: &client.Machine{
			State: platform.MachineRunning, Node: "hv-1", Name: "tc-001", Cores: 2, Memory: 4 << 30,
			Disks:   []string{"/pool/tc-001.own.qcow2", "/pool/desk.qcow2"},
			Display: "vnc://127.0.0.1:5901", Network: "bridge br0",
		},
	}
	goldenPool = client.Pool{
		Name: "ticket-counters", Title: "Ticket counters", Site: "north-quay", Image: "counter-desk", Track: "live",
		Target:       "2026.11.2",
		MachineClass: "standard", HostPrefix: "tc", Hosts: 2, SeatsPerHost: 4, InService: 4, Free: 3, Sessions: 3,
		Drifting: 1,
		States:   map[host.State]int{host.Serving: 1, host.Faulty: 1},
		Versions: map[string]int{"2026.11.1": 1, "2026.11.2": 1}, Rollover: 7,
	}
	budget         = 1
	goldenRollover = client.Rollover{
		ID: 7, Pool: "ticket-counters", Image: "counter-desk", Version: "2026.11.2", State: rollover.Paused,
		BatchSize: 4, FloorSeats: 16,
		Options: client.Options{
			Batch: "10%", Floor: "10%", LogOff: rollover.Warn, Grace: "15m",
			FailureBudget: &budget,
		},
		Reason: "December", CreatedBy: "jonas", CreatedAt: noon, StartedAt: &noon,
		PausedWhy: "2 hosts failed; the failure budget is 1",
		Holds:     []string{"1 host waits for a free place to clone at north-quay"}, Total: 3, Batch: 1,
		Phases: map[rollover.Phase]int{rollover.Done: 1, rollover.Failed: 1, rollover.Queued: 1},
	}
	goldenSite = client.Site{
		Name: "north-quay", Title: "North Quay", Platform: "libvirt", Address: "", StartsPerMinute: 30,
		ClonesPerCopy: 4, Pools: 3, Hosts: 44,
		Deliveries: estate.Deliveries{Line: "harbour-link", DeliveryRate: "8MiB", DeliveryHours: []estate.Hours{
			{From: "20:00", To: "6:00", Rate: "unlimited", TimeZone: "Europe/Lisbon"},
		}},
		Hypervisors: []client.Hypervisor{
			{
				Name: "hv-1", Address: "qemu:///system", Software: "libvirt 9.0.0", Acceleration: "kvm", Cores: 16,
				CoresUsed: 24, Memory: 64 << 30,
				MemoryUsed: 60 << 30, Storage: 1 << 40, StorageFree: 1 << 39, StoragePath: "/pool", Machines: 12,
				Others: 1, Delivery: "by blocks",
			},
			{Name: "hv-2", Address: "qemu+tls://hv-2/system", Unreachable: "hypervisor hv-2 does not answer"},
		},
		BuildMachines: []client.MachineAtSite{{
			Name: "bm-counter", MachineClass: "standard", Base: "vendor",
			State: platform.MachineRunning, Changes: "Fare Desk 6.2",
		}},
	}
	goldenMachine = client.BuildMachine{
		ID: 6, Site: "north-quay", Name: "bm-new", State: machine.Running, Base: "counter-desk 2026.11.2",
		MachineClass: "standard", Purpose: "printers at the counter", Owner: "jonas", AskedAt: noon, StartedAt: &noon,
		RanSeconds: 5400, Cost: "0.18", Currency: "EUR", DiscardAt: &later, Notices: 1, Why: "it did not shut down",
		Checkpoints: []client.Checkpoint{{Name: "as it came", MadeAt: noon}, {Name: "with printers", MadeAt: later}},
	}
	goldenProof = client.WholeProof{
		Proof: client.Proof{
			ID: 4, Image: "counter-desk", Version: "2026.11.3", Site: "north-quay", Build: 3, Machine: "proof-4",
			State: proof.Failed, Settled: true, Why: "Berth Planner: it did not open", AskedBy: "jonas", AskedAt: noon,
			EndedAt: &later, FirstStart: 72.4,
		},
		Picture: true, Results: []client.ProofResult{
			{Name: "Fare Desk", Kind: proof.OfApplication, Seconds: 3.2},
			{Name: "Berth Planner", Kind: proof.OfApplication, Seconds: 60, Why: "it did not open", Output: "no berth"},
			{Name: "tickets print", Kind: proof.OfProof, Seconds: 1.5},
		},
	}
	goldenAccount = client.Account{Name: "jonas", Title: "Jonas Lock", Role: role.Operator, CreatedAt: noon}
)

var goldenSheet = client.WholeSheet{
	Sheet: client.Sheet{
		Name: "counter-desk", Image: "counter-desk", Steps: 12, Problems: 1, Revision: 3, ChangedBy: "jonas",
		ChangedAt: noon,
	},
	Text: "image: counter-desk # of the counters\n",
	SheetChecked: client.SheetChecked{Wrong: []client.SheetProblem{{
		Line: 1, Column: 1, Text: "the base is missing: write base: {track: live} to begin with what is in use",
	}}},
}

var golden = map[string]any{
	"/status":  client.Status{Version: "1.0.0", Practice: true, Now: noon, Rate: 60},
	"/session": client.SignedIn{Account: goldenAccount},
	"/build-machines": listOf(goldenMachine, client.BuildMachine{
		ID: 5, Site: "south-quay", Name: "build-3", State: machine.Sealed, Build: 3, Base: "disk vendor.qcow2",
		MachineClass: "graphics", Purpose: "build 3 of chart-desk", Owner: "mira", AskedAt: noon, RanSeconds: 1860,
	}),
	"/sites/north-quay/build-machines/build-3/notes": goldenMachine,
	"/ready-steps": listOf(client.ReadyStep{
		Name: "tides", Own: true, Text: "about: x\nsteps: [{name: a, restart: {}}]\n",
	}),
	"/proofs":          listOf(goldenProof.Proof),
	"/proofs/4":        goldenProof,
	"/proofs/4/let-go": goldenProof,
	"/images/counter-desk/versions/2026.11.3/prove": goldenProof,
	"/sites/north-quay/build-machines/bm-new":       goldenMachine,
	"/sites/north-quay/build-machines/bm-new/check": client.MachineCheck{State: build.Done, AskedAt: &noon},
	"/sites/north-quay/build-machines/build-3/check": client.MachineCheck{
		State: build.Done, AskedAt: &noon, Findings: []client.SealFinding{
			{
				Check: seal.SecretsLeft, Severity: seal.Blocks,
				Evidence: "there are secrets in /root/id (a private key)", Remedy: "remove them",
				Repair: "delete /root/id",
			},
			{Check: seal.ClockOff, Severity: seal.Warns, Evidence: "it is 2m0s behind", Remedy: "set it"},
			{
				Check: seal.Leftovers, Severity: seal.Warns, Evidence: "steps left /tmp/x", Remedy: "remove it",
				Waived: "it is a table",
			},
		},
	},
	"/today": listOf(
		client.Matter{
			Kind: matter.Rollover, Urgent: true, Title: "Rollover 7 of ticket-counters is paused",
			Detail: "2 hosts failed", Link: "rollovers/7", Command: "pane rollover resume 7",
		},
		client.Matter{
			Kind: matter.Drift, Title: "1 of 2 hosts of ticket-counters drifts",
			Detail: "it should run 2026.11.2", Link: "pools/ticket-counters",
			Command: "pane rollover start --pool ticket-counters",
		}),
	"/accounts": listOf(goldenAccount, client.Account{
		Name: "guest", Title: "Guest", Role: role.Viewer, Disabled: true,
		CreatedAt: noon,
	}),
	"/tokens": listOf(client.Token{
		ID: 3, Account: "jonas", Name: "pipeline", Role: role.Viewer, Pools: []string{"ticket-pilot"},
		Images: []string{}, CreatedAt: noon, ExpiresAt: later,
	}),
	"/estate": "sites:\n  - name: north-quay\n",
	"/sites":  listOf(goldenSite),
	"/deliveries": listOf(
		client.Delivery{
			Key: "deliver-copy-9-1", Image: "counter-desk", Number: "2026.11.3", Ordinal: 1, Site: "south-quay",
			Line: "harbour-link", State: client.DeliveryUnderWay, Percent: 50, Transfer: client.Transfer{
				Stage: platform.Sending, Whole: 24 << 30, There: 23 << 30, Lacking: 1 << 30, Sent: 1 << 29,
				OverLine: 1 << 28,
				Rate:     8 << 20, Left: 32, AskedAt: noon,
			},
		},
		client.Delivery{
			Key: "deliver-copy-10-1", Image: "counter-desk", Number: "2026.11.3", Ordinal: 2, Site: "south-quay",
			Line: "harbour-link", State: client.DeliveryWaiting, Before: 2, Transfer: client.Transfer{AskedAt: noon},
			Why: "it waits for its turn on line harbour-link: 2 go before it, and 2 may go at once",
		},
		client.Delivery{
			Key: "deliver-base-base-copy-1-1", Base: "harbour-13", Site: "north-quay", State: client.DeliveryArrived,
			Percent: 100, Transfer: client.Transfer{
				Stage: platform.Checking, Whole: 6 << 30, There: 6 << 30, AskedAt: noon, EndedAt: &later,
			},
		}),
	"/flaw-lists": listOf(client.FlawList{
		Name: "debian", Records: 41_203, Digest: "sha256:" + strings.Repeat("ab", 32), LoadedAt: noon,
		LoadedBy: "jonas",
	}),
	"/images/counter-desk/versions/2026.11.3/flaws": client.VersionFlaws{
		Image: "counter-desk", Number: "2026.11.3", Serious: 1, Items: goldenFlaws,
		NotChecked: []flaw.Gap{{Ecosystem: "flatpak", Software: 2, Such: []string{"tides 1", "harbour 2"}}},
	},
	"/flaw-lists/debian": client.FlawList{Name: "debian", Records: 2, LoadedAt: noon, LoadedBy: "jonas"},
	"/lines": listOf(client.Line{
		Line: estate.Line{
			Name: "harbour-link", Title: "Harbour link", Rate: "20MiB", AtOnce: 2,
			Hours: []estate.Hours{{From: "20:00", To: "6:00", Rate: "100MiB"}},
		},
		Now: 20 << 20, Sites: []string{"north-quay", "south-quay"}, UnderWay: 1, Waiting: 1,
	}),
	"/sites/north-quay":    goldenSite,
	"/images":              listOf(goldenImage),
	"/images/counter-desk": goldenImage,
	"/images/counter-desk/moves": listOf(client.TrackMove{
		Track: "live", Kind: image.Return,
		Version: "2026.11.1", Actor: "tove", Reason: "tickets do not print", At: noon,
	}),
	"/images/counter-desk/versions":                   listOf(goldenVersions...),
	"/images/counter-desk/versions/2026.11.3":         goldenVersions[0],
	"/images/counter-desk/versions/2026.11.1":         goldenVersions[2],
	"/images/counter-desk/versions/2026.11.3/stage":   goldenVersions[0],
	"/images/counter-desk/versions/2026.11.3/bar":     goldenVersions[2],
	"/images/counter-desk/versions/2026.11.3/retire":  goldenVersions[0],
	"/images/counter-desk/versions/2026.11.3/deliver": client.Delivering{Copies: 1},
	"/images/counter-desk/versions/2026.11.3/trial": client.Trial{
		Image: "counter-desk", Number: "2026.11.3", Rules: []client.Rule{{
			Rule: "usable", Met: true,
			Why: "it is sealed",
		}, {Rule: "testers", Why: "1 of 2 testers said yes: wilma"}},
		SignOffs: []client.SignOff{{Tester: "wilma", Yes: true, Comment: "prints", At: noon}},
	},
	"/previews": client.Preview{
		Will: []string{"Track pilot of counter-desk goes from 2026.11.2 to 2026.11.3."}, Leaves: "2026.11.2",
		Reasons: []string{},
	},
	"/pools":                            listOf(goldenPool),
	"/pools/ticket-counters":            goldenPool,
	"/pools/ticket-counters/pin":        goldenPool,
	"/pools/ticket-counters/unpin":      goldenPool,
	"/pools/ticket-counters/tell":       client.Told{Sessions: 3},
	"/hosts":                            listOf(goldenHost),
	"/hosts/tc-001":                     goldenHost,
	"/hosts/tc-001/drain":               goldenHost,
	"/hosts/tc-001/return":              goldenHost,
	"/hosts/tc-001/rebuild":             goldenRollover,
	"/hosts/tc-001/sessions/1/tell":     client.Told{Sessions: 1},
	"/hosts/tc-001/sessions/1/sign-off": client.Told{Sessions: 1},
	"/sessions": listOf(client.Session{
		Host: "tc-001", HostState: host.Draining, Pool: "ticket-counters", Site: "north-quay", Key: "1",
		Person: "Ida\x1b]0;owned\x07 Strand", State: agent.Idle, Since: noon,
	}),
	"/schedules": listOf(goldenSchedule, client.Schedule{
		Name: "crew", Sheet: "crew-desk", Image: "crew-desk", Mode: schedule.OnChanges, Owner: "tove",
		Waits: "the sheet is wrong in 3 places",
	}, client.Schedule{
		Name: "weekly", Sheet: "chart-desk", Mode: schedule.Dates, Owner: "tove", NextAt: &later, PausedBy: "mira",
		Paused: "the quay is \x1b[31mclosed",
	}),
	"/schedules/monthly":        goldenSchedule,
	"/schedules/monthly/pause":  goldenSchedule,
	"/schedules/monthly/resume": goldenSchedule,
	"/schedules/dates":          client.ScheduleDates{Dates: goldenSchedule.Dates},
	"/calendar": listOf(client.ComingBuild{
		At: later, Schedule: "monthly", Sheet: "counter-desk", Image: "counter-desk", Mode: schedule.IfChanged,
		Takes: 9480,
	}, client.ComingBuild{
		At: later, Schedule: "weekly", Sheet: "chart-desk", Image: "chart-desk", Mode: schedule.Dates,
	}),
	"/bases": listOf(goldenBase, client.Base{
		Name: "harbour-14", State: base.Fetching, Address: "https://images.example/harbour-14.vmdk", Size: 4 << 30,
		Have: 1 << 30, Rate: 20 << 20, Left: 150, AddedBy: "mira", AddedAt: noon, Copies: []client.BaseCopy{},
	}),
	"/bases/harbour-13": goldenBase,
	"/bases/harbour-12": func() client.Base {
		b := goldenBase
		b.Name, b.Feed, b.Serial, b.Newer = "harbour-12", "estuary", "20260804", &goldenOffer
		return b
	}(),
	"/feeds":                   listOf(goldenFeed),
	"/feeds/estuary":           goldenFeed,
	"/releases":                listOf(goldenOffer),
	"/bases/harbour-13/retire": goldenBase,
	"/sheets": listOf(goldenSheet.Sheet, client.Sheet{
		Name: "chart-desk", Image: "chart-desk", Steps: 4, Revision: 1, ChangedBy: "tove", ChangedAt: noon,
		Build: 3, BuildState: build.Ready, BuildVersion: "1.4.0",
	}),
	"/sheets/counter-desk": goldenSheet,
	"/images/counter-desk/build-sizes": listOf(client.BuildSize{
		MachineClass: "standard", Builds: 3, TookSeconds: 9480, Cost: "0.31", Currency: "EUR", UsedCores: 1.46,
		HasCores: 4, UsedMemory: 1600 << 20, HasMemory: 8 << 30,
		Advice: []string{"1.6 GiB of its 8.0 GiB of memory were in use at most: half of it would do"},
	}, client.BuildSize{MachineClass: "standard", Cores: 8, MemoryBytes: 16 << 30, Builds: 1, TookSeconds: 7200}),
	"/builds":          listOf(goldenBuild.Build),
	"/builds/3":        goldenBuild,
	"/sheets/check":    client.SheetChecked{},
	"/builds/3/cancel": goldenBuild, "/builds/3/hold": goldenBuild, "/builds/3/go-on": goldenBuild,
	"/builds/3/discard": goldenBuild,
	"/builds/3/log": client.BuildLog{Total: 3, Next: 3, Complete: true, Lines: []client.LogLine{
		{Number: 0, At: noon, Step: 1, Attempt: 1, Text: "Setting up fare-desk ..."},
		{Number: 1, At: noon, Step: 2, Attempt: 1, Text: "E: Unable to locate package tide-table"},
		{Number: 2, At: later, Step: 2, Attempt: 2, Text: "E: Unable to locate package tide-table"},
	}},
	"/rollovers":   listOf(goldenRollover),
	"/rollovers/7": goldenRollover,
	"/rollovers/7/hosts": listOf(
		client.RolloverHost{
			Host: "tc-001", State: host.Faulty, Phase: rollover.Failed, Since: noon, Batch: 1,
			Why: "its checks failed: printer", From: "2026.11.1", Version: "2026.11.2",
		},
		client.RolloverHost{
			Host: "tc-002", State: host.Rebuilding, Phase: rollover.Rebuilding, Since: noon, Batch: 1,
			From: "2026.11.1", Version: "2026.11.2", Progress: 40,
		},
		client.RolloverHost{
			Host: "tc-003", State: host.Serving, Phase: rollover.Queued, Since: noon, From: "2026.11.1",
			Version: "2026.11.1", Sessions: 2,
		}),
	"/rollovers/7/pause":   goldenRollover,
	"/rollovers/7/resume":  goldenRollover,
	"/rollovers/7/stop":    goldenRollover,
	"/rollovers/7/reverse": goldenRollover,
	"/trail": listOf(client.TrailEntry{
		Seq: 12, At: noon, Actor: "tove", Verb: "version.activate", Subject: "version counter-desk 2026.11.2",
		Reason: "trial passed",
		Detail: json.RawMessage(`{"track":"live","before":"2026.11.1","let_go":false}`), Prev: strings.Repeat("0", 64),
		Hash: strings.Repeat("1", 64),
	}, client.TrailEntry{
		Seq: 11, At: noon, Actor: "jonas", Verb: "sheet-file.send", Subject: "file 0011",
		Detail: json.RawMessage(`{"bytes":12345678901}`), Prev: strings.Repeat("0", 64), Hash: strings.Repeat("2", 64),
	}),
	"/images/counter-desk/versions/2026.11.3/trial/waivers": client.Trial{
		Image: "counter-desk", Number: "2026.11.3",
		Rules: []client.Rule{{
			Rule: "downgrades", Met: true,
			Why: "nothing else is older; card-reader is, passed over: vendor",
		}},
	},
	"/images/counter-desk/versions/2026.11.3/software": client.SoftwareList{
		Image: "counter-desk", Number: "2026.11.3", Entries: 3, TakenAt: noon, TakenBy: "pane-agent 0.1.0",
		Counts: []client.SoftwareCount{{Origin: software.Deb, N: 2}}, Items: []software.Entry{
			{Origin: software.Application, Name: "Fare Desk", Version: "6.2-1", Source: "fare-desk", Noticed: true},
			{
				Origin: software.Deb, Name: "evil\x1b]0;owned\x07", Version: "1\x1b[31m", Arch: "amd64", Source: "tide",
				SourceVersion: "2", Licence: "MIT", Summary: "reckons\u202e tides", Security: true,
			},
			{Origin: software.Folder, Name: "quay-fax", Path: "/opt/quay-fax"},
		},
	},
	"/images/counter-desk/versions/2026.11.3/facts": software.Facts{
		System: "Debian GNU/Linux 12", Kernel: "6.1.0-13\x1b[31m", Arch: "x86_64", TimeZone: "Europe/London",
		Disk: software.Disk{
			Size: 40 << 30, Used: 9 << 30, Folders: []software.FolderSize{
				{Path: "/usr/lib", Size: 2 << 30},
				{Path: "/opt", Size: 3},
			},
		},
		Services: []string{"cron.service", "ssh.service"},
		Ports:    []software.Port{{Protocol: "tcp", Address: "::", Port: 22, Program: "sshd"}},
		Accounts: []software.Account{{Name: "ida", Signs: true}, {Name: "daemon"}},
		Agents:   []software.Agent{{Name: "pane-agent", Version: "0.1.0"}},
	},
	"/images/counter-desk/versions/2026.11.3/comparison":          goldenComparison,
	"/images/counter-desk/versions/2026.11.3/comparison/document": goldenComparison.Markdown(),
	"/images/counter-desk/versions/2026.11.3/provenance": client.Provenance{
		Image: "counter-desk", Number: "2026.11.3", Wrong: []string{}, KeyID: strings.Repeat("1f", 32),
		Digest: "sha256:" + strings.Repeat("ab", 32), BySheet: true, Manual: true,
		Builder: "https://panes.example", Run: "build 3",
		Began: noon, Ended: later, From: []provenance.Thing{
			{Name: "base harbour-13", URI: "https://images.example/13.qcow2\x1b[31m", SHA256: strings.Repeat("cd", 32)},
			{Name: "disk vendor.qcow2"},
		},
		Brought: []provenance.Thing{{Name: "software list", SHA256: strings.Repeat("ef", 32)}},
		Told: map[string]any{
			"started_by": "jonas", "captured_by": "jonas", "parameters": map[string]any{"queue": "office"},
			"sheet": map[string]any{"name": "counter-desk", "sha256": strings.Repeat("12", 32), "commit": "c0ffee"},
		},
		Did: map[string]any{
			"steps": []any{
				map[string]any{"name": "Fares\x1b[31m", "does": "the package fare-desk is installed"},
				map[string]any{
					"name": "Fonts", "does": "a script is run", "result": "failed and tolerated",
					"failure": "exit code 1",
				},
			},
			"manual_work": []any{map[string]any{
				"at": "2026-11-28T09:00:00Z", "actor": "jonas", "act": "build-machine.run",
				"detail": map[string]any{"site": "north-quay", "program": "sh -c 'curl x | sh'\x1b[31m"},
			}},
			"seal_checks": []any{map[string]any{
				"check": "leftovers", "severity": "warns", "evidence": "steps left /tmp/x", "waived": "the manual's",
			}},
		},
	},
	"/signing-keys": "-----BEGIN PUBLIC KEY-----\nMCow\n-----END PUBLIC KEY-----\n",
	"/software": listOf(client.SoftwareHolder{
		Image: "counter-desk", Number: "2026.11.2", Tracks: []string{"live"}, Pinned: []string{"back-office"},
		Has: []software.Entry{
			{Origin: software.Deb, Name: "libtide1", Version: "2.8"}, {
				Origin: software.Deb, Name: "libtide1",
				Version: "2.8",
			},
		},
		Unordered: []string{`fares winter: version "winter" follows none of Debian's rules`},
		Pools:     []client.HolderPool{{Pool: "back-office", Hosts: []string{"bo-001", "bo-002"}}},
	}),
	"/images/counter-desk/retention": client.RetentionPlan{
		Rule: image.Retention{Keep: 2, Days: 60, Tagged: []string{"release"}},
		Says: "the newest 2, what is younger than 60 days, what is tagged release", Set: true,
		Retires: []string{"2026.09.1"}, Frees: 5 << 30,
		Versions: []client.KeptVersion{
			{
				Number: "2026.11.3", Why: []string{"it is among the newest 2", "it is tagged release"},
				Sites: []string{"north-quay", "south-quay"}, Bytes: 9 << 30, Frees: 2 << 30, Spare: 2,
			},
			{Number: "2026.09.1", Goes: true, Sites: []string{"north-quay"}, Bytes: 3 << 30, Frees: 3 << 30},
		},
	},
	"/images/counter-desk/readiness": client.Readiness{
		To: "2026.11.2", Says: "Going back to 2026.11.2 is not possible everywhere: pool back-office (no copy of " +
			"2026.11.2 is at south-quay).",
		Unseen: []string{},
		Pools: []client.PoolReadiness{
			{
				Pool: "ticket-counters", Site: "north-quay", Hosts: 12, Ready: true, Seconds: 1500,
				Takes:  "about 25 min",
				But:    []string{"copy 2 at north-quay is on its way"},
				People: "7 people are signed in there now, and waited for, however long they stay", ReadAt: &noon,
			},
			{Pool: "back-office", Site: "south-quay", Hosts: 4, Why: []string{"no copy of 2026.11.2 is at south-quay"}},
		},
	},
	"/trail/verify": client.TrailVerdict{
		Entries: 12, Last: strings.Repeat("1", 64),
		Breaks: []client.TrailBreak{{Seq: 4, Why: "the entry was altered"}},
	},
}

// shown are commands whose output is kept, by the name of its file. Lists and
// single things are kept as a table, JSON, YAML and CSV.
var shown = map[string]string{
	"build-machine-list": "build-machine list", "build-machine-show": "build-machine show north-quay bm-new",
	"schedule-list": "schedule list", "schedule-show": "schedule show monthly",
	"schedule-calendar": "schedule calendar",
	"base-list":         "base list", "base-show": "base show harbour-13", "base-compare": "base compare harbour-12",
	"feed-list": "feed list", "feed-show": "feed show estuary", "feed-search": "feed search harbour",
	"account-list": "account list", "build-list": "build list", "build-show": "build show 3",
	"build-log":           "build log 3",
	"build-machine-check": "build-machine check north-quay bm-new",
	"sheet-steps-list":    "sheet steps list", "sheet-steps-show": "sheet steps show proxy",
	"proof-list": "proof list", "proof-show": "proof show 4",
	"build-sizes": "build sizes counter-desk",
	"sheet-list":  "sheet list", "sheet-show": "sheet show counter-desk",
	"sheet-check": "sheet check testdata/sheet.yaml", "sheet-explain": "sheet explain testdata/sheet.yaml",
	"drift": "drift", "estate-show": "estate show", "host-list": "host list",
	"host-show":       "host show tc-001",
	"image-retention": "image retention counter-desk", "image-readiness": "image readiness counter-desk",
	"image-retention-tried": "image retention counter-desk --keep 2 --dry-run",
	"image-history":         "image history counter-desk", "image-list": "image list",
	"image-show": "image show counter-desk",
	"pool-list":  "pool list",
	"pool-show":  "pool show ticket-counters", "rollover-list": "rollover list", "rollover-show": "rollover show 7",
	"session-list": "session list",
	"site-list":    "site list", "site-show": "site show north-quay", "today": "today", "token-list": "token list",
	"trail-list":   "trail list",
	"trail-verify": "trail verify", "trial-show": "trial show counter-desk 2026.11.3",
	"version-list":       "version list counter-desk",
	"version-software":   "version software counter-desk 2026.11.3",
	"version-facts":      "version facts counter-desk 2026.11.3",
	"version-provenance": "version provenance counter-desk 2026.11.3",
	"version-verify":     "version verify counter-desk 2026.11.3",
	"version-compare":    "version compare counter-desk 2026.11.3",
	"software-find":      "software find libtide1 --below 2.9",
	"flaw-list":          "flaw list", "version-flaws": "version flaws counter-desk 2026.11.3",
	"delivery-list": "delivery list", "delivery-lines": "delivery lines",
	"version-show": "version show counter-desk 2026.11.3", "whoami": "whoami",
}

// done are commands that change something, of which it is kept what they say.
var done = map[string]string{
	"host-drain": "host drain tc-001", "host-return": "host return tc-001 --reason seen",
	"host-rebuild":   "host rebuild tc-001 --yes",
	"pool-pin":       "pool pin ticket-counters 2026.11.1 --reason stays --yes",
	"pool-unpin":     "pool unpin ticket-counters",
	"pool-tell":      "pool tell ticket-counters tea --yes",
	"rollover-pause": "rollover pause 7", "rollover-resume": "rollover resume 7",
	"rollover-stop":    "rollover stop 7 --yes",
	"rollover-reverse": "rollover reverse 7 --reason bad --yes", "session-tell": "session tell tc-001 1 tea --yes",
	"session-sign-off":         "session sign-off tc-001 1 --yes",
	"stage":                    "stage counter-desk 2026.11.3 --yes",
	"version-bar":              "version bar counter-desk 2026.11.3 --reason bad --yes",
	"image-retention-set":      "image retention counter-desk --keep 2 --yes",
	"image-retention-off":      "image retention counter-desk --off --yes",
	"version-deliver":          "version deliver counter-desk 2026.11.3",
	"version-retire":           "version retire counter-desk 2026.11.3 --yes",
	"sign-out":                 "sign-out",
	"base-retire":              "base retire harbour-13 --yes",
	"flaw-load":                "flaw load debian testdata/flaws.json",
	"flaw-delete":              "flaw delete debian --yes",
	"feed-delete":              "feed delete estuary --yes",
	"schedule-pause":           "schedule pause monthly --reason closed",
	"schedule-resume":          "schedule resume monthly",
	"schedule-delete":          "schedule delete monthly --yes",
	"build-cancel":             "build cancel 3 --yes",
	"build-hold":               "build hold 3 --for 2h",
	"build-go-on":              "build go-on 3",
	"build-discard":            "build discard 3 --yes",
	"build-watch":              "build watch 3",
	"proof-let-go":             "proof let-go 4 --reason wrong",
	"version-prove":            "version prove counter-desk 2026.11.3 --site north-quay",
	"version-prove-wait":       "version prove counter-desk 2026.11.3 --site north-quay --wait",
	"build-check":              "build check 3",
	"build-note":               "build note 3 tides",
	"sheet-save":               "sheet save counter-desk testdata/wrong.yaml --revision 2",
	"sheet-delete":             "sheet delete counter-desk --yes",
	"sheet-check-wrong":        "sheet check testdata/wrong.yaml",
	"sheet-check-none":         "sheet check testdata/none.yaml",
	"sheet-new":                "sheet new",
	"sheet-explain-set":        "sheet explain testdata/parameters.yaml --set key=a=b --set queue=office",
	"version-compare-all":      "version compare counter-desk 2026.11.3 2026.11.2 --all",
	"version-compare-document": "version compare counter-desk 2026.11.3 --document -",
	"version-keys":             "version keys",
	"software-find-hosts":      "software find libtide1 --hosts",
	"trial-waive":              "trial waive counter-desk 2026.11.3 card-reader --reason vendor",
	"sheet-explain-not":        "sheet explain testdata/parameters.yaml --set queue=garden --set hue=red",
}

// elsewhere are commands that have tests of their own against a real service: their outcome is more than what they say.
var elsewhere = []string{
	"account add", "account edit", "activate", "base bring", "feed add", "feed read", "sheet follow",
	"sheet look", "sheet unfollow",
	"build-machine back", "build-machine checkpoint",
	"build-machine create", "build-machine defaults", "build-machine discard", "build-machine finish",
	"build-machine get", "build-machine keep", "build-machine note", "build-machine open", "build-machine put",
	"build-machine run", "build-machine sheet",
	"build-machine start", "build-machine stop", "build-machine tries", "build-machine try",
	"build start", "capture", "estate load", "image accept-unchecked", "password",
	"rollback", "rollover start",
	"proof picture", "rollover watch", "sign-in",
	"schedule add", "sheet schema", "token make", "token revoke", "trail export", "trial sign",
	"version try", "version unblock", "version capture", "version bring-list", "version edit",
}

func goldenService(t *testing.T) string {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answer, known := golden[strings.TrimPrefix(r.URL.Path, "/api/v1")]
		switch text, plain := answer.(string); {
		case r.Method == http.MethodDelete:
			w.WriteHeader(http.StatusNoContent)
		case !known:
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			_, _ = w.Write([]byte(`{"status":404,"detail":"there is no ` + r.URL.Path + `"}`))
		case plain:
			_, _ = w.Write([]byte(text))
		default:
			_ = json.NewEncoder(w).Encode(answer)
		}
	}))
	t.Cleanup(server.Close)
	return server.URL
}

func TestOutputsAreAsTheyWere(t *testing.T) {
	t.Setenv("NIMBLEPANE_CONFIG", filepath.Join(t.TempDir(), "pane.yaml"))
	url := goldenService(t)
	compare := func(name, command string) {
		t.Helper()
		out, _ := typed(t, "", append([]string{"--url", url, "--token", "x"}, strings.Fields(command)...)...)
		require.NotContains(t, out, "there is no /api", command)
		file := filepath.Join("testdata", "golden", name)
		if *update {
			require.NoError(t, os.WriteFile(file, []byte(out), 0o644))
		}
		want, err := os.ReadFile(file)
		require.NoError(t, err, "go test ./cli -run TestOutputsAreAsTheyWere -update")
		require.Equal(t, string(want), out, command)
		require.NotContains(t, strings.ReplaceAll(out, `\u001b`, ""), "\x1b", command)
	}
	for name, command := range shown {
		compare(name+".txt", command)
		for _, form := range []string{"json", "yaml", "csv"} {
			compare(name+"."+form, command+" --output "+form)
		}
	}
	for name, command := range done {
		compare(name+".txt", command)
	}
}

// TestNoCommandIsForgotten fails when a command is added of which nothing is kept.
func TestNoCommandIsForgotten(t *testing.T) {
	t.Parallel()
	kept := slices.Clone(elsewhere)
	for _, list := range []map[string]string{shown, done} {
		for _, command := range list {
			kept = append(kept, command)
		}
	}
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		name := strings.TrimPrefix(c.CommandPath(), "pane ")
		if c.Runnable() && !c.HasSubCommands() {
			require.True(t, slices.ContainsFunc(kept, func(k string) bool {
				return k == name ||
					strings.HasPrefix(k, name+" ")
			}), name)
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(cli.New("test"))
}
