package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"nimblepane/core/build"
	"nimblepane/core/machine"
	"nimblepane/core/seal"
	"nimblepane/core/sheet"
	"nimblepane/platform"
)

// StartBuild asks for a build of a sheet.
type StartBuild struct {
	Sheet  string            `json:"sheet" minLength:"1" doc:"The build sheet, in YAML"`
	Values map[string]string `json:"values,omitempty" doc:"Of the sheet's parameters, by name"`
	Files  map[string]string `json:"files,omitempty" doc:"SHA-256 of what the sheet names beside it, by path; sent before, see /sheet-files"`
	CommitOf
	// HoldSeconds is for how long the machine is held if the build fails.
	HoldSeconds int64 `json:"hold_seconds,omitempty" minimum:"0" maximum:"604800" doc:"For how long its machine is held if it fails"`
}

// CommitOf says what a sheet was taken from that is kept in a repository.
type CommitOf struct {
	Commit  string   `json:"commit,omitempty" maxLength:"64" pattern:"^[0-9a-f]*$" doc:"That the sheet was taken from"`
	Commits []string `json:"commits,omitempty" maxItems:"500" doc:"Subject lines of the commits since the one of the last build, the newest first"`
}

// HoldBuild asks for the machine of a build to be held.
type HoldBuild struct {
	Seconds int64 `json:"seconds" minimum:"0" maximum:"604800" doc:"From now if it has failed, else from when it fails"`
}

// GoOn asks for a build to go on that failed.
type GoOn struct {
	Sheet  string            `json:"sheet,omitempty" doc:"The sheet with what was mended in it; as it was if left out"`
	Values map[string]string `json:"values,omitempty" doc:"Of its parameters; as they were if left out"`
	Files  map[string]string `json:"files,omitempty" doc:"SHA-256 of what it names beside it, by path; as they were if left out"`
	CommitOf
}

// Build is one run of a build sheet.
type Build struct {
	ID        int64       `json:"id"`
	Image     string      `json:"image"`
	Site      string      `json:"site"`
	Base      string      `json:"base" doc:"What its machine was made from"`
	Version   string      `json:"version" doc:"Version that it made or is making, empty before the capture"`
	State     build.State `json:"state"`
	Settled   bool        `json:"settled" doc:"Its machine is gone"`
	Machine   string      `json:"machine"`
	StartedBy string      `json:"started_by"`
	Schedule  string      `json:"schedule,omitempty" doc:"That started it, if one did"`
	StartedAt time.Time   `json:"started_at"`
	EndedAt   *time.Time  `json:"ended_at,omitempty"`
	Why       string      `json:"why" doc:"Why it ended as it did, or what it waits for"`
	Cancel    string      `json:"cancel" doc:"Why it is being cancelled"`
	Done      int         `json:"done" doc:"Steps that are done, or failed and were noted"`
	Total     int         `json:"total" doc:"Steps on its machine that are not left out"`

	HoldSeconds int64      `json:"hold_seconds,omitempty" doc:"For how long its machine is held if it fails"`
	HeldUntil   *time.Time `json:"held_until,omitempty" doc:"Until when its machine is held, since it failed"`
	WentOnAt    *time.Time `json:"went_on_at,omitempty" doc:"When it last went on after it had failed"`
	SheetName   string     `json:"sheet_name,omitempty" doc:"Of the kept sheet that it was started from, if of one"`
	Commit      string     `json:"commit,omitempty" doc:"That its sheet was taken from, if that is known"`
	Rolled      string     `json:"rolled,omitempty" doc:"What came of rolling the pilot pools over to its version"`
}

// BuildStep is how a step of a build stands.
type BuildStep struct {
	Name     string          `json:"name"`
	Kind     sheet.Kind      `json:"kind"`
	State    build.StepState `json:"state"`
	Attempts int             `json:"attempts"`
	BeganAt  *time.Time      `json:"began_at,omitempty" doc:"The first attempt"`
	EndedAt  *time.Time      `json:"ended_at,omitempty" doc:"The last attempt"`
	Last     int64           `json:"last_seconds,omitempty" doc:"How long it took in the last build that became ready"`
	ExitCode int             `json:"exit_code"`
	Why      string          `json:"why" doc:"Why the last attempt failed, or what it waits for"`
	Output   string          `json:"output" doc:"Last lines of the last attempt that came to an end"`
}

// SealFinding is what a seal check found.
type SealFinding struct {
	Check    string        `json:"check"`
	Severity seal.Severity `json:"severity"`
	Evidence string        `json:"evidence"`
	Remedy   string        `json:"remedy"`
	Waived   string        `json:"waived,omitempty" doc:"Why it is passed over, if it is"`
	Repair   string        `json:"repair,omitempty" doc:"What the service can do about it; none if nothing is safe"`
}

// Blocking says whether the finding keeps its machine from being sealed.
func (f SealFinding) Blocking() bool { return f.Severity == seal.Blocks && f.Waived == "" }

// MachineCheck is what the seal checks of a machine found that were asked for last.
type MachineCheck struct {
	State    build.TaskState `json:"state" doc:"Empty if they were never made"`
	Why      string          `json:"why,omitempty" doc:"Why they could not be made, or what they wait for"`
	AskedAt  *time.Time      `json:"asked_at,omitempty"`
	Stale    bool            `json:"stale" doc:"Something was done on the machine since"`
	Findings []SealFinding   `json:"findings" nullable:"false"`
}

// RepairFinding says what is to be repaired.
type RepairFinding struct {
	Check string `json:"check" minLength:"1" doc:"Whose finding is repaired"`
}

// String says what was found in one line.
func (f SealFinding) String() string {
	if f.Waived != "" {
		return fmt.Sprintf("%s waived: %s; passed over: %s", f.Check, f.Evidence, f.Waived)
	}
	return fmt.Sprintf("%s %s: %s; %s", f.Check, f.Severity, f.Evidence, f.Remedy)
}

// ReadyStep is something that many sheets want, written once.
type ReadyStep struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Own   bool   `json:"own" doc:"It is the organisation's, and not shipped with the product"`
	Text  string `json:"text" doc:"As it is written down, in YAML"`
}

// ReadySteps returns the ready steps that sheets may use with this service.
func (c *Client) ReadySteps(ctx context.Context) ([]ReadyStep, error) {
	return all[ReadyStep](ctx, c, "/ready-steps", nil)
}

// HoldBuild has the machine of a build be held: from now if it has failed, else from when it fails.
func (c *Client) HoldBuild(ctx context.Context, id int64, hold time.Duration) (WholeBuild, error) {
	return post[WholeBuild](ctx, c, pathOf("builds", strconv.FormatInt(id, 10), "hold"),
		HoldBuild{int64(hold / time.Second)})
}

// DiscardBuild discards the machine that a build holds.
func (c *Client) DiscardBuild(ctx context.Context, id int64) (WholeBuild, error) {
	return post[WholeBuild](ctx, c, pathOf("builds", strconv.FormatInt(id, 10), "discard"), nil)
}

// GoOn has a build go on from the step that failed.
func (c *Client) GoOn(ctx context.Context, id int64, in GoOn) (WholeBuild, error) {
	return post[WholeBuild](ctx, c, pathOf("builds", strconv.FormatInt(id, 10), "go-on"), in)
}

// BuildExpectation is what earlier builds of the image at the site say about one.
type BuildExpectation struct {
	Builds        int        `json:"builds" doc:"Earlier ones that became ready, from which it is worked out, at most 20"`
	MedianSeconds int64      `json:"median_seconds" doc:"From their start until they were ready"`
	WorstSeconds  int64      `json:"worst_seconds"`
	ReadyAt       *time.Time `json:"ready_at,omitempty" doc:"When this one is ready, if it takes as long as the median"`
	ReadyBy       *time.Time `json:"ready_by,omitempty" doc:"When this one is ready, if it takes as long as the worst"`
	Tight         string     `json:"tight,omitempty" doc:"A warning, if its time limit is shorter than what they took"`
}

// WholeBuild is a build with its steps.
type WholeBuild struct {
	Build
	Sheet    string            `json:"sheet"`
	Expected *BuildExpectation `json:"expected,omitempty" doc:"None if there is no earlier build to go by"`
	Values   map[string]string `json:"values,omitempty" doc:"Of the sheet's parameters, by name"`
	Steps    []BuildStep       `json:"steps" nullable:"false"`
	Checked  bool              `json:"checked" doc:"The seal checks were made"`
	Findings []SealFinding     `json:"findings" nullable:"false" doc:"Of the seal checks"`
}

// BuildSize is what builds of an image have come to on machines of one size.
type BuildSize struct {
	MachineClass string   `json:"machine_class"`
	Cores        int      `json:"cores,omitempty" doc:"As many as its class says if left out"`
	MemoryBytes  int64    `json:"memory_bytes,omitempty" doc:"What its class says if left out"`
	Builds       int      `json:"builds" doc:"Of the last 20 that became ready"`
	TookSeconds  int64    `json:"took_seconds" doc:"Median, from their start until they were ready"`
	Cost         string   `json:"cost,omitempty" doc:"Median, of the machine; none if the estate file has no rate for its class"`
	Currency     string   `json:"currency,omitempty"`
	UsedCores    float64  `json:"used_cores,omitempty" doc:"On average while steps were done, in the build that used most; none if that was not measured"`
	HasCores     int      `json:"has_cores,omitempty"`
	UsedMemory   int64    `json:"used_memory_bytes,omitempty" doc:"In use at most; none if that was not measured"`
	HasMemory    int64    `json:"has_memory_bytes,omitempty"`
	Advice       []string `json:"advice" nullable:"false"`
}

// BuildSizes returns what the last builds of an image have come to, by the size of their machines.
func (c *Client) BuildSizes(ctx context.Context, image string) ([]BuildSize, error) {
	return all[BuildSize](ctx, c, pathOf("images", image, "build-sizes"), nil)
}

// StartBuild begins a build. Asked twice under one key of idempotency, it is begun once.
func (c *Client) StartBuild(ctx context.Context, in StartBuild) (WholeBuild, error) {
	return post[WholeBuild](ctx, c, "/builds", in)
}

// Builds returns builds, the newest first; empty filters select all.
func (c *Client) Builds(ctx context.Context, image string, state build.State, limit int) ([]Build, error) {
	p, err := get[Page[Build]](ctx, c, "/builds",
		values("image", image, "state", string(state), "limit", strconv.Itoa(limit)))
	return p.Items, err
}

// Build returns the build.
func (c *Client) Build(ctx context.Context, id int64) (WholeBuild, error) {
	return get[WholeBuild](ctx, c, pathOf("builds", strconv.FormatInt(id, 10)), nil)
}

// CancelBuild ends a build before its capture.
func (c *Client) CancelBuild(ctx context.Context, id int64, reason string) (WholeBuild, error) {
	return post[WholeBuild](ctx, c, pathOf("builds", strconv.FormatInt(id, 10), "cancel"), Reason{reason})
}

// BuildLog is a part of what the steps of a build have written.
type BuildLog struct {
	Lines    []LogLine `json:"lines" nullable:"false"`
	Total    int64     `json:"total" doc:"Lines in the whole log so far"`
	Next     int64     `json:"next" doc:"Number of the line to go on with"`
	Complete bool      `json:"complete" doc:"The build has ended: nothing is added"`
	Gone     string    `json:"gone,omitempty" doc:"Why it is kept no longer, if it is not"`
}

// LogLine is a line of a build's log.
type LogLine struct {
	Number  int64     `json:"number" doc:"In the log, from 0"`
	At      time.Time `json:"at" doc:"When the service read it"`
	Step    int       `json:"step" doc:"That wrote it, from 1"`
	Attempt int       `json:"attempt"`
	Text    string    `json:"text"`
}

// LogQuery selects lines of a build's log.
type LogQuery struct {
	From  int64  // number of the line to begin with
	Find  string // only lines that have this text, in capitals or not
	Step  int    // only lines of this step, from 1
	Limit int
}

func (q LogQuery) values() url.Values {
	number := func(n int64) string {
		if n == 0 {
			return ""
		}
		return strconv.FormatInt(n, 10)
	}
	return values("from", number(q.From), "find", q.Find, "step", number(int64(q.Step)), "limit",
		number(int64(q.Limit)))
}

// BuildLog returns lines of a build's log.
func (c *Client) BuildLog(ctx context.Context, id int64, q LogQuery) (BuildLog, error) {
	return get[BuildLog](ctx, c, pathOf("builds", strconv.FormatInt(id, 10), "log"), q.values())
}

// BuildMachine is a machine that versions are made on.
type BuildMachine struct {
	ID           int64         `json:"id"`
	Site         string        `json:"site"`
	Name         string        `json:"name"`
	State        machine.State `json:"state"`
	Why          string        `json:"why,omitempty" doc:"Why what was last done to it failed"`
	Build        int64         `json:"build,omitempty" doc:"That it belongs to, if to one"`
	Base         string        `json:"base" doc:"What it is made from"`
	FromHost     string        `json:"from_host,omitempty" doc:"The host whose disk was, or is to be, copied for it"`
	MachineClass string        `json:"machine_class"`
	Cores        int           `json:"cores,omitempty" doc:"As many as its class says if left out"`
	MemoryBytes  int64         `json:"memory_bytes,omitempty" doc:"What its class says if left out"`
	DiskBytes    int64         `json:"disk_bytes,omitempty" doc:"As what it is made from if left out"`
	Purpose      string        `json:"purpose,omitempty" doc:"What it is for"`
	Owner        string        `json:"owner,omitempty" doc:"Who asked for it; none if it was found at its site"`
	AskedAt      time.Time     `json:"asked_at"`
	StartedAt    *time.Time    `json:"started_at,omitempty" doc:"Since when it runs"`
	RanSeconds   int64         `json:"ran_seconds" doc:"For how long it has run altogether"`
	Cost         string        `json:"cost,omitempty" doc:"Of that time; none if the estate file has no rate for its class"`
	Currency     string        `json:"currency,omitempty"`
	Notices      int           `json:"notices,omitempty" doc:"Given to its owner, two before it is discarded"`
	DiscardAt    *time.Time    `json:"discard_at,omitempty" doc:"When it is discarded unless somebody touches it"`
	GoneAt       *time.Time    `json:"gone_at,omitempty"`

	Checkpoints []Checkpoint  `json:"checkpoints,omitempty" doc:"That it can go back to, in the order they were made"`
	Notes       []MachineNote `json:"notes,omitempty" doc:"They become those of the version that is made of it"`
}

// MachineNote is what somebody wrote down while they worked on a machine.
type MachineNote struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	Text string    `json:"text"`
}

// NewNote is a note that is written down.
type NewNote struct {
	Text string `json:"text" minLength:"1" maxLength:"500"`
}

// TryStep asks for one step of a sheet to be done on a machine.
type TryStep struct {
	Sheet  string            `json:"sheet" minLength:"1"`
	Step   string            `json:"step" minLength:"1" doc:"Its name"`
	Values map[string]string `json:"values,omitempty" doc:"Of the sheet's parameters"`
	Files  map[string]string `json:"files,omitempty" doc:"SHA-256 of what the sheet names beside it, by path; sent before, see /sheet-files"`
}

// OpenApplications asks for applications to be opened on a machine.
type OpenApplications struct {
	Sheet  string            `json:"sheet,omitempty" doc:"Whose applications are opened; those of the version that the machine is made from if left out"`
	Values map[string]string `json:"values,omitempty" doc:"Of the sheet's parameters"`
	Files  map[string]string `json:"files,omitempty" doc:"SHA-256 of what the sheet names beside it, by path"`
}

// MachineOpening is what became of applications that were opened on a machine.
type MachineOpening struct {
	State   build.TaskState `json:"state" doc:"Empty if none were opened yet"`
	Why     string          `json:"why,omitempty" doc:"Why they could not be opened, or what that waits for"`
	AskedAt *time.Time      `json:"asked_at,omitempty"`
	Results []ProofResult   `json:"results" nullable:"false"`
}

// OpenOnBuildMachine begins to open applications on a machine, one after the other.
func (c *Client) OpenOnBuildMachine(ctx context.Context, site, name string, in OpenApplications) (MachineOpening,
	error,
) {
	return post[MachineOpening](ctx, c, buildMachine(site, name, "/openings"), in)
}

// MachineOpening returns what became of the applications that were opened last on a machine.
func (c *Client) MachineOpening(ctx context.Context, site, name string) (MachineOpening, error) {
	return get[MachineOpening](ctx, c, buildMachine(site, name, "/openings"), nil)
}

// OpeningPicture returns the picture of an application that was opened last on a machine, as PNG.
func (c *Client) OpeningPicture(ctx context.Context, site, name, application string) ([]byte, error) {
	return c.raw(ctx, request{
		method: http.MethodGet, path: buildMachine(site, name, "/openings/picture.png"),
		query: values("application", application),
	}, "image/png")
}

// MachineTry is a step that was tried on a machine.
type MachineTry struct {
	Step     string          `json:"step"`
	Kind     sheet.Kind      `json:"kind"`
	State    build.TaskState `json:"state"`
	Why      string          `json:"why,omitempty" doc:"Why it failed, or what it waits for"`
	ExitCode int             `json:"exit_code"`
	Output   string          `json:"output,omitempty" doc:"Its last lines"`
	AskedAt  time.Time       `json:"asked_at"`
	EndedAt  *time.Time      `json:"ended_at,omitempty"`
}

// Checkpoint is a state that a build machine can go back to.
type Checkpoint struct {
	Name   string    `json:"name"`
	MadeAt time.Time `json:"made_at"`
}

// NamedCheckpoint names a checkpoint.
type NamedCheckpoint struct {
	Checkpoint string `json:"checkpoint" minLength:"1" maxLength:"80"`
}

// MachineAtSite is a machine that a version can be captured from, as its site sees it.
type MachineAtSite struct {
	Name         string                `json:"name"`
	MachineClass string                `json:"machine_class"`
	Base         string                `json:"base"`
	State        platform.MachineState `json:"state"`
	Changes      string                `json:"changes"`
	Node         string                `json:"node,omitempty" doc:"Hypervisor that it is on"`
	Display      string                `json:"display,omitempty" doc:"Address of its display"`
	Own          bool                  `json:"own,omitempty" doc:"The site has it without having been asked for it"`
}

// NewBuildMachine asks for a build machine: made from a version, from a base or a base disk with a machine class, or
// from a host.
type NewBuildMachine struct {
	Name         string `json:"name" minLength:"1" maxLength:"60" pattern:"^[a-z0-9][a-z0-9.-]*$"`
	Image        string `json:"image,omitempty"`
	Version      string `json:"version,omitempty"`
	BaseDisk     string `json:"base_disk,omitempty" doc:"Name of a disk in the site's storage"`
	MachineClass string `json:"machine_class,omitempty"`
	Base         string `json:"base,omitempty" doc:"A base that was brought in, by its name; with a machine class"`
	Host         string `json:"host,omitempty" doc:"A host of the site: it is drained, and its disk copied when it is empty"`
	Purpose      string `json:"purpose,omitempty" maxLength:"200" doc:"What it is for"`
	Cores        int    `json:"cores,omitempty" minimum:"1" maximum:"256" doc:"As many as its class says if left out"`
	MemoryBytes  int64  `json:"memory_bytes,omitempty" minimum:"0" doc:"What its class says if left out"`
	DiskBytes    int64  `json:"disk_bytes,omitempty" minimum:"0" doc:"As what it is made from if left out"`
}

// RunProgram asks for a program to be run in a build machine.
type RunProgram struct {
	Path    string   `json:"path" minLength:"1" doc:"The program, such as /usr/bin/apt-get"`
	Args    []string `json:"args,omitempty"`
	Env     []string `json:"env,omitempty" doc:"As NAME=value"`
	Input   []byte   `json:"input,omitempty"`
	Seconds int      `json:"seconds,omitempty" minimum:"1" maximum:"3600" doc:"How long to wait for its end; 300 if left out"`
}

// ProgramEnded says how a program ended.
type ProgramEnded struct {
	ExitCode int    `json:"exit_code"`
	Output   []byte `json:"output" doc:"Its standard output, in base64"`
	Errors   []byte `json:"errors" doc:"Its standard error, in base64"`
}

func buildMachine(site, name, act string) string {
	return "/sites/" + url.PathEscape(site) + "/build-machines/" + url.PathEscape(name) + act
}

// BuildMachines lists build machines, those that were asked for last first; with gone, also those that are gone.
func (c *Client) BuildMachines(ctx context.Context, site, owner string, gone bool, limit int) ([]BuildMachine, error) {
	p, err := get[Page[BuildMachine]](ctx, c, "/build-machines",
		values("site", site, "owner", owner, "gone", strconv.FormatBool(gone), "limit", strconv.Itoa(limit)))
	return p.Items, err
}

// BuildMachine returns the build machine that has the name at the site, or had it last.
func (c *Client) BuildMachine(ctx context.Context, site, name string) (BuildMachine, error) {
	return get[BuildMachine](ctx, c, buildMachine(site, name, ""), nil)
}

// CreateBuildMachine begins to make a build machine and to start it.
func (c *Client) CreateBuildMachine(ctx context.Context, site string, in NewBuildMachine) (BuildMachine, error) {
	return answer[BuildMachine](ctx, c, request{
		method: http.MethodPost, path: "/sites/" + url.PathEscape(site) + "/build-machines",
		body: in,
	})
}

// StartBuildMachine begins to start a build machine.
func (c *Client) StartBuildMachine(ctx context.Context, site, name string) (BuildMachine, error) {
	return answer[BuildMachine](ctx, c, request{method: http.MethodPost, path: buildMachine(site, name, "/start")})
}

// StopBuildMachine begins to shut a build machine down.
func (c *Client) StopBuildMachine(ctx context.Context, site, name string) (BuildMachine, error) {
	return answer[BuildMachine](ctx, c, request{method: http.MethodPost, path: buildMachine(site, name, "/stop")})
}

// KeepBuildMachine says that a build machine is needed.
func (c *Client) KeepBuildMachine(ctx context.Context, site, name string) (BuildMachine, error) {
	return answer[BuildMachine](ctx, c, request{method: http.MethodPost, path: buildMachine(site, name, "/keep")})
}

// CheckpointBuildMachine begins to make a checkpoint of a build machine, which goes down for it.
func (c *Client) CheckpointBuildMachine(ctx context.Context, site, name, checkpoint string) (BuildMachine, error) {
	return post[BuildMachine](ctx, c, buildMachine(site, name, "/checkpoint"), NamedCheckpoint{checkpoint})
}

// RevertBuildMachine begins to have a build machine go back to a checkpoint.
func (c *Client) RevertBuildMachine(ctx context.Context, site, name, checkpoint string) (BuildMachine, error) {
	return post[BuildMachine](ctx, c, buildMachine(site, name, "/back"), NamedCheckpoint{checkpoint})
}

// CheckBuildMachine begins to make the seal checks on a build machine.
func (c *Client) CheckBuildMachine(ctx context.Context, site, name string) (MachineCheck, error) {
	return post[MachineCheck](ctx, c, buildMachine(site, name, "/check"), nil)
}

// MachineCheck returns what the seal checks found that were made last on a build machine.
func (c *Client) MachineCheck(ctx context.Context, site, name string) (MachineCheck, error) {
	return get[MachineCheck](ctx, c, buildMachine(site, name, "/check"), nil)
}

// RepairBuildMachine begins to repair what a seal check found on a build machine.
func (c *Client) RepairBuildMachine(ctx context.Context, site, name, check string) (BuildMachine, error) {
	return post[BuildMachine](ctx, c, buildMachine(site, name, "/repair"), RepairFinding{check})
}

// NoteOnBuildMachine writes down what somebody did on a build machine, or saw.
func (c *Client) NoteOnBuildMachine(ctx context.Context, site, name, text string) (BuildMachine, error) {
	return post[BuildMachine](ctx, c, buildMachine(site, name, "/notes"), NewNote{text})
}

// TryStepOnBuildMachine begins to do one step of a sheet on a build machine.
func (c *Client) TryStepOnBuildMachine(ctx context.Context, site, name string, in TryStep) (BuildMachine, error) {
	return post[BuildMachine](ctx, c, buildMachine(site, name, "/tries"), in)
}

// MachineTries returns what was tried on a build machine, in order.
func (c *Client) MachineTries(ctx context.Context, site, name string) ([]MachineTry, error) {
	return all[MachineTry](ctx, c, buildMachine(site, name, "/tries"), nil)
}

// MachineSheet returns the sheet that does again what was tried on a build machine and went well.
func (c *Client) MachineSheet(ctx context.Context, site, name string) ([]byte, error) {
	return c.raw(ctx, request{method: http.MethodGet, path: buildMachine(site, name, "/sheet.yaml")},
		"application/yaml")
}

// DiscardBuildMachine begins to delete a build machine with what was done on it.
func (c *Client) DiscardBuildMachine(ctx context.Context, site, name string) (BuildMachine, error) {
	return answer[BuildMachine](ctx, c, request{method: http.MethodDelete, path: buildMachine(site, name, "")})
}

// RunOnBuildMachine runs a program in a build machine and returns how it ended.
func (c *Client) RunOnBuildMachine(ctx context.Context, site, name string, in RunProgram) (ProgramEnded, error) {
	return answer[ProgramEnded](ctx, c, request{
		method: http.MethodPost, path: buildMachine(site, name, "/run"),
		body: in,
	})
}

// PutOnBuildMachine writes a file in a build machine.
func (c *Client) PutOnBuildMachine(ctx context.Context, site, name, path string, content []byte) error {
	if content == nil {
		content = []byte{}
	}
	_, err := c.raw(ctx, request{
		method: http.MethodPut, path: buildMachine(site, name, "/file"),
		query: values("path", path), body: content, contentType: "application/octet-stream",
	}, "application/json")
	return err
}

// GetFromBuildMachine reads a file of a build machine.
func (c *Client) GetFromBuildMachine(ctx context.Context, site, name, path string) ([]byte, error) {
	return c.raw(ctx, request{
		method: http.MethodGet, path: buildMachine(site, name, "/file"),
		query: values("path", path),
	}, "application/octet-stream")
}
