package client

import (
	"encoding/json"
	"time"

	"nimblepane/agent"
	"nimblepane/core/act"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/platform"
)

// Page is one page of a list. Next is the cursor of the page after it, "" if there is none.
type Page[T any] struct {
	Items []T    `json:"items" nullable:"false"`
	Next  string `json:"next" doc:"Cursor of the next page; empty on the last"`
}

// Status says what service this is and what time it is there.
type Status struct {
	Version  string    `json:"version" doc:"Version of the service"`
	Practice bool      `json:"practice" doc:"The clock is not the real one"`
	Now      time.Time `json:"now" doc:"What the service's clock shows"`
	Rate     float64   `json:"rate" doc:"Seconds of the service's time in a real second"`
}

// Account is somebody who may sign in.
type Account struct {
	Name      string    `json:"name"`
	Title     string    `json:"title" doc:"The person's name"`
	Role      role.Role `json:"role"`
	Disabled  bool      `json:"disabled"`
	CreatedAt time.Time `json:"created_at"`
}

// NewAccount is what an administrator gives to add an account.
type NewAccount struct {
	Name     string    `json:"name" minLength:"2" maxLength:"40" pattern:"^[a-z][a-z0-9.-]*$"`
	Title    string    `json:"title" maxLength:"100"`
	Role     role.Role `json:"role"`
	Password string    `json:"password" minLength:"10" maxLength:"200"`
}

// AccountEdit changes an account; what is left out stays.
type AccountEdit struct {
	Title    *string    `json:"title,omitempty" maxLength:"100"`
	Role     *role.Role `json:"role,omitempty"`
	Password *string    `json:"password,omitempty" minLength:"10" maxLength:"200"`
	Disabled *bool      `json:"disabled,omitempty"`
}

// SignIn is a name and its password.
type SignIn struct {
	Name     string `json:"name" minLength:"1" maxLength:"40"`
	Password string `json:"password" minLength:"1" maxLength:"200"`
	// Token asks for a bearer token instead of a console session.
	Token string `json:"token,omitempty" doc:"Name of a bearer token to be made; without it a session cookie is set" maxLength:"80"`
	// What that token is to be; see NewToken.
	Days   int       `json:"days,omitempty" minimum:"1" maximum:"366" doc:"Days until the token expires, 30 if left out"`
	Role   role.Role `json:"role,omitempty"`
	Pools  []string  `json:"pools,omitempty" maxItems:"100"`
	Images []string  `json:"images,omitempty" maxItems:"100"`
}

// NewPassword changes one's own password.
type NewPassword struct {
	Old string `json:"old" minLength:"1" maxLength:"200"`
	New string `json:"new" minLength:"10" maxLength:"200"`
}

// SignedIn is who is signed in.
type SignedIn struct {
	Account Account `json:"account"`
	CSRF    string  `json:"csrf,omitempty" doc:"To be sent as X-CSRF-Token with what changes something, by consoles that sign in with a cookie"`
	Token   string  `json:"token,omitempty" doc:"The bearer token that was asked for; it is shown once"`
}

// Token is a bearer token, without its secret.
type Token struct {
	ID        int64      `json:"id"`
	Account   string     `json:"account"`
	Name      string     `json:"name"`
	Role      role.Role  `json:"role,omitempty" doc:"The most that it may do; left out for all that its account may"`
	Pools     []string   `json:"pools" nullable:"false" doc:"With images: what it may change, and nothing else; both empty for everything"`
	Images    []string   `json:"images" nullable:"false"`
	MadeBy    int64      `json:"made_by" doc:"The token that made it, and that it ends with; 0 if none"`
	CreatedAt time.Time  `json:"created_at"`
	ExpiresAt time.Time  `json:"expires_at"`
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
}

// NewToken asks for a bearer token.
type NewToken struct {
	Name   string    `json:"name" minLength:"1" maxLength:"80"`
	Days   int       `json:"days,omitempty" minimum:"1" maximum:"366" doc:"Days until it expires; if left out, as long as the token that makes it, and 90 without one"`
	Role   role.Role `json:"role,omitempty" doc:"The most that it may do; yours if left out"`
	Pools  []string  `json:"pools,omitempty" maxItems:"100" doc:"Let it change only what concerns these pools, and the images below; everything can still be read"`
	Images []string  `json:"images,omitempty" maxItems:"100" doc:"Let it change only what concerns these images and their pools"`
}

// MadeToken is a new token with its secret, which is shown this once.
type MadeToken struct {
	Token
	Secret string `json:"secret"`
}

// Matter is one thing that waits for a person.
type Matter struct {
	Kind    matter.Kind `json:"kind"`
	Urgent  bool        `json:"urgent"`
	Title   string      `json:"title"`
	Detail  string      `json:"detail"`
	Link    string      `json:"link" doc:"Page of the console that it is about"`
	Command string      `json:"command" doc:"How to go on by the client"`
}

// Loaded says what loading an estate file changed, or would change.
type Loaded struct {
	Changes []string `json:"changes" nullable:"false"`
}

// Site is a place where hosts run.
type Site struct {
	Name            string         `json:"name"`
	Title           string         `json:"title"`
	Platform        string         `json:"platform"`
	Address         string         `json:"address"`
	StartsPerMinute int            `json:"starts_per_minute"`
	ClonesPerCopy   int            `json:"clones_per_copy"`
	Pools           int            `json:"pools"`
	Hosts           int            `json:"hosts"`
	Hypervisors     []Hypervisor   `json:"hypervisors,omitempty" doc:"On platforms whose machines run on computers of yours"`
	BuildMachines   []BuildMachine `json:"build_machines" nullable:"false"`
	Trouble         string         `json:"trouble,omitempty" doc:"Why it does not answer what the service asks of it, if it does not; it is asked again at growing intervals"`
	TroubleSince    *time.Time     `json:"trouble_since,omitempty"`
	// Unreachable says why the build machines are not known.
	Unreachable string `json:"unreachable,omitempty"`
}

// Hypervisor is a computer that a site's machines run on.
type Hypervisor struct {
	Name         string `json:"name"`
	Address      string `json:"address"`
	Unreachable  string `json:"unreachable,omitempty" doc:"Why nothing else is known of it now"`
	Software     string `json:"software"`
	Acceleration string `json:"acceleration"`
	Cores        int    `json:"cores"`
	CoresUsed    int    `json:"cores_used" doc:"Of all machines that run there; may be more than there are"`
	Memory       int64  `json:"memory_bytes"`
	MemoryUsed   int64  `json:"memory_used_bytes"`
	Storage      int64  `json:"storage_bytes"`
	StorageFree  int64  `json:"storage_free_bytes"`
	StoragePath  string `json:"storage_path"`
	Machines     int    `json:"machines" doc:"Machines that Nimble Pane made"`
	Others       int    `json:"others" doc:"Machines that it did not make, and leaves alone"`
}

// Machine is a host's machine as its platform sees it.
type Machine struct {
	State   platform.MachineState `json:"state,omitempty" doc:"Left out if it cannot be asked now"`
	Why     string                `json:"why,omitempty" doc:"What is wrong with it, if something is"`
	Node    string                `json:"node" doc:"Hypervisor that it is on"`
	Name    string                `json:"name"`
	Cores   int                   `json:"cores"`
	Memory  int64                 `json:"memory_bytes"`
	Disks   []string              `json:"disks" nullable:"false" doc:"Its disk and what that is made on, topmost first"`
	Display string                `json:"display" doc:"Address of its display, empty if it has none"`
	Network string                `json:"network"`
}

// BuildMachine is a machine that a version can be captured from.
type BuildMachine struct {
	Name         string                `json:"name"`
	MachineClass string                `json:"machine_class"`
	Base         string                `json:"base"`
	State        platform.MachineState `json:"state"`
	Changes      string                `json:"changes"`
	Node         string                `json:"node,omitempty" doc:"Hypervisor that it is on"`
	Display      string                `json:"display,omitempty" doc:"Address of its display"`
}

// NewBuildMachine asks for a build machine: made from a version, or from a base disk with a machine class.
type NewBuildMachine struct {
	Name         string `json:"name" minLength:"1" maxLength:"60" pattern:"^[a-z0-9][a-z0-9.-]*$"`
	Image        string `json:"image,omitempty"`
	Version      string `json:"version,omitempty"`
	BaseDisk     string `json:"base_disk,omitempty" doc:"Name of a disk in the site's storage"`
	MachineClass string `json:"machine_class,omitempty"`
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

// Delivering says how many copies are on their way.
type Delivering struct {
	Copies int `json:"copies"`
}

// Image is a golden image.
type Image struct {
	Name         string       `json:"name"`
	Title        string       `json:"title"`
	Numbering    image.Scheme `json:"numbering"`
	MachineClass string       `json:"machine_class"`
	Testers      int          `json:"testers"`
	Soak         string       `json:"soak" doc:"Such as 24h"`
	Copies       int          `json:"copies" doc:"Copies per site"`
	Tracks       []Track      `json:"tracks" nullable:"false"`
	Fallback     string       `json:"fallback" doc:"What live would go back to, empty if there is nothing"`
	Versions     int          `json:"versions"`
	NextNumber   string       `json:"next_number"`
	Revision     int          `json:"revision"`
}

// Track is a pointer at a version.
type Track struct {
	Name    string     `json:"name"`
	Version string     `json:"version" doc:"Empty if it names none"`
	Since   *time.Time `json:"since,omitempty"`
}

// TrackMove is one entry of a track's history.
type TrackMove struct {
	Track   string         `json:"track"`
	Kind    image.MoveKind `json:"kind"`
	Version string         `json:"version"`
	Actor   string         `json:"actor"`
	Reason  string         `json:"reason"`
	At      time.Time      `json:"at"`
}

// Version is one sealed state of an image, or the attempt at one.
type Version struct {
	Image      string      `json:"image"`
	Number     string      `json:"number"`
	State      image.State `json:"state"`
	Standing   []string    `json:"standing" nullable:"false" doc:"The tracks that name it, fallback, or shelved"`
	Progress   int         `json:"progress" doc:"Of the capture, in per cent"`
	Digest     string      `json:"digest"`
	SizeBytes  int64       `json:"size_bytes"`
	SizeBefore int64       `json:"size_before_bytes,omitempty" doc:"What its disk took before it was compacted"`
	Sealing    []string    `json:"sealing,omitempty" doc:"What was done to seal it"`
	Source     string      `json:"source"`
	Notes      string      `json:"notes"`
	Tags       []string    `json:"tags" nullable:"false"`
	EndOfLife  *time.Time  `json:"end_of_life,omitempty"`
	CapturedBy string      `json:"captured_by"`
	CreatedAt  time.Time   `json:"created_at"`
	SealedAt   *time.Time  `json:"sealed_at,omitempty"`
	Failure    string      `json:"failure"`
	Barred     string      `json:"barred" doc:"Why it is barred, empty if it is not"`
	BarredBy   string      `json:"barred_by"`
	BarredAt   *time.Time  `json:"barred_at,omitempty"`
	Hosts      int         `json:"hosts" doc:"Hosts that run it"`
	Copies     []Copy      `json:"copies" nullable:"false"`
	Revision   int         `json:"revision"`
}

// Copy is a version's disk at a site.
type Copy struct {
	Site     string          `json:"site"`
	Ordinal  int             `json:"ordinal"`
	State    image.CopyState `json:"state"`
	Progress int             `json:"progress"`
	Failure  string          `json:"failure"`
}

// Capture asks for a new version.
type Capture struct {
	BuildMachine string     `json:"build_machine" minLength:"1"`
	Site         string     `json:"site,omitempty"`
	Number       string     `json:"number,omitempty" doc:"The next one if left out"`
	Notes        string     `json:"notes,omitempty" maxLength:"10000"`
	Tags         []string   `json:"tags,omitempty" maxItems:"20"`
	EndOfLife    *time.Time `json:"end_of_life,omitempty"`
	Discard      bool       `json:"discard,omitempty" doc:"Delete the build machine afterwards"`
}

// VersionEdit changes what people write about a version; what is left out stays.
type VersionEdit struct {
	Notes          *string    `json:"notes,omitempty" maxLength:"10000"`
	Tags           *[]string  `json:"tags,omitempty" maxItems:"20"`
	EndOfLife      *time.Time `json:"end_of_life,omitempty"`
	ClearEndOfLife bool       `json:"clear_end_of_life,omitempty"`
}

// Reason is why something is done.
type Reason struct {
	Reason string `json:"reason,omitempty" maxLength:"2000"`
}

// Staging says how a version is staged.
type Staging struct {
	Reason string  `json:"reason,omitempty" maxLength:"2000"`
	Leaves *string `json:"leaves,omitempty" maxLength:"40" doc:"What pilot names as you saw it, empty for nothing: refused if it names another version by now"`
}

// Activation says how a version goes live.
type Activation struct {
	Reason   string  `json:"reason,omitempty" maxLength:"2000"`
	Leaves   *string `json:"leaves,omitempty" maxLength:"40" doc:"What live names as you saw it, empty for nothing: refused if it names another version by now"`
	LetGo    bool    `json:"let_go,omitempty" doc:"Do not keep the version in use before as the fallback"`
	Overrule bool    `json:"overrule,omitempty" doc:"Activate without clearance; needs the role administrator and a reason"`
}

// Rollback says how an image goes back.
type Rollback struct {
	Leaves     string `json:"leaves" minLength:"1" maxLength:"40" doc:"The version that live names as you saw it: refused if it names another by now, so that two who roll back at once go back one step"`
	To         string `json:"to,omitempty" doc:"The fallback if left out"`
	Reason     string `json:"reason" minLength:"1" maxLength:"2000"`
	KeepUsable bool   `json:"keep_usable,omitempty" doc:"Do not bar the version that is rolled back"`
	TrackOnly  bool   `json:"track_only,omitempty" doc:"Start no rollover"`
}

// RolledBack is what a rollback set going.
type RolledBack struct {
	From      string   `json:"from"`
	To        string   `json:"to"`
	Tracks    []string `json:"tracks" nullable:"false"`
	Rollovers []int64  `json:"rollovers" nullable:"false"`
}

// PreviewRequest names an act and what it is to be done to. What the act has no use for is left out.
type PreviewRequest struct {
	Act        act.Name `json:"act"`
	Image      string   `json:"image,omitempty" maxLength:"40" doc:"For stage, activate, rollback and retire"`
	Number     string   `json:"number,omitempty" maxLength:"40" doc:"The version; for rollback the one to go back to, the fallback if left out"`
	Pools      []string `json:"pools,omitempty" maxItems:"100" doc:"For roll, and the one pool for pin"`
	Options    Options  `json:"options,omitempty" doc:"For roll"`
	LetGo      bool     `json:"let_go,omitempty"`
	Overrule   bool     `json:"overrule,omitempty"`
	KeepUsable bool     `json:"keep_usable,omitempty"`
	TrackOnly  bool     `json:"track_only,omitempty"`
}

// Preview says what an act would do as things stand.
type Preview struct {
	Will    []string `json:"will" nullable:"false" doc:"What it would do, in sentences"`
	Leaves  string   `json:"leaves" doc:"The version that the track names now: give it with the act, and the act is refused if it names another by then"`
	Refused string   `json:"refused" doc:"Why it would be refused, empty if it would be done"`
	Reasons []string `json:"reasons" nullable:"false" doc:"One by one, if there are several"`
}

// Rule is what one clearance rule answers.
type Rule struct {
	Rule string `json:"rule"`
	Met  bool   `json:"met"`
	Why  string `json:"why"`
}

// Trial is how the trial of a version stands.
type Trial struct {
	Image    string    `json:"image"`
	Number   string    `json:"number"`
	Cleared  bool      `json:"cleared"`
	Rules    []Rule    `json:"rules" nullable:"false"`
	SignOffs []SignOff `json:"sign_offs" nullable:"false"`
}

// SignOff is what a tester said.
type SignOff struct {
	Tester  string    `json:"tester"`
	Yes     bool      `json:"yes"`
	Comment string    `json:"comment"`
	At      time.Time `json:"at"`
}

// Sign is a tester's word on a version.
type Sign struct {
	Yes     bool   `json:"yes"`
	Comment string `json:"comment,omitempty" maxLength:"2000"`
}

// Pool is hosts of one kind.
type Pool struct {
	Name         string             `json:"name"`
	Title        string             `json:"title"`
	Site         string             `json:"site"`
	Image        string             `json:"image"`
	Track        string             `json:"track"`
	Pinned       string             `json:"pinned" doc:"Version that it is pinned to, empty if it follows its track"`
	PinnedWhy    string             `json:"pinned_why"`
	Target       string             `json:"target" doc:"Version that its hosts should run"`
	MachineClass string             `json:"machine_class"`
	HostPrefix   string             `json:"host_prefix"`
	Hosts        int                `json:"hosts"`
	SeatsPerHost int                `json:"seats_per_host"`
	InService    int                `json:"in_service" doc:"Seats on hosts that serve"`
	Free         int                `json:"free" doc:"Seats in service that nobody has"`
	Sessions     int                `json:"sessions"`
	Drifting     int                `json:"drifting"`
	States       map[host.State]int `json:"states" nullable:"false" doc:"Hosts by state"`
	Versions     map[string]int     `json:"versions" nullable:"false" doc:"Hosts by the version that they run"`
	Rollover     int64              `json:"rollover" doc:"The rollover under way, 0 if there is none"`
	Revision     int                `json:"revision"`
}

// Pin asks to pin a pool.
type Pin struct {
	Version  string `json:"version" minLength:"1"`
	Reason   string `json:"reason" minLength:"1" maxLength:"2000"`
	Overrule bool   `json:"overrule,omitempty" doc:"Pin a pool that follows live to a version that was never live and has no clearance; needs the role administrator"`
}

// Host is one machine of a pool.
type Host struct {
	Name      string            `json:"name"`
	Pool      string            `json:"pool"`
	Site      string            `json:"site"`
	Image     string            `json:"image"`
	State     host.State        `json:"state"`
	Since     time.Time         `json:"since"`
	Why       string            `json:"why"`
	DrainedBy string            `json:"drained_by"`
	Version   string            `json:"version" doc:"Version that its disk was made from"`
	Target    string            `json:"target" doc:"Version that it should run"`
	Drifts    bool              `json:"drifts"`
	Seats     int               `json:"seats"`
	Sessions  int               `json:"sessions"`
	SeenAt    *time.Time        `json:"seen_at,omitempty"`
	Load      float64           `json:"load"`
	Stamp     string            `json:"stamp" doc:"Version that its agent reports"`
	Checks    agent.ChecksState `json:"checks,omitempty" doc:"Left out if none were asked for"`
	ChecksWhy string            `json:"checks_why"`
	Machine   *Machine          `json:"machine,omitempty" doc:"On a single host, if its platform knows of one"`
}

// RebuildHost asks for a new disk for a host.
type RebuildHost struct {
	Reason     string `json:"reason,omitempty" maxLength:"2000"`
	VouchEmpty bool   `json:"vouch_empty,omitempty" doc:"You have made sure that nobody is on it"`
}

// Session is one person signed in on one host.
type Session struct {
	Host      string             `json:"host"`
	HostState host.State         `json:"host_state"`
	Pool      string             `json:"pool"`
	Site      string             `json:"site"`
	Key       string             `json:"key"`
	Person    string             `json:"person"`
	State     agent.SessionState `json:"state"`
	Since     time.Time          `json:"since"`
}

// Tell is a text for people.
type Tell struct {
	Text string `json:"text" minLength:"1" maxLength:"1000"`
}

// Told says how many sessions a text was sent to.
type Told struct {
	Sessions int `json:"sessions"`
}

// Options of a rollover. Times are written as 15m, 2h, 90s; amounts as 5 or 20%. What is left out is taken from the defaults.
type Options struct {
	Batch         string          `json:"batch,omitempty" doc:"Hosts of a batch: 5, or 10% of the pool"`
	Floor         string          `json:"floor,omitempty" doc:"Seats that stay free and in service: 20, or 10% of the pool"`
	LogOff        rollover.LogOff `json:"log_off,omitempty" doc:"wait for people to leave, or warn them and end the session after the grace period"`
	Grace         string          `json:"grace,omitempty" doc:"From the delivered warning to the sign-off"`
	LastNotice    string          `json:"last_notice,omitempty" doc:"How long before the end the last notice is given"`
	FirstText     string          `json:"first_text,omitempty" doc:"What people are told first; {minutes} stands for the grace period" maxLength:"1000"`
	LastText      string          `json:"last_text,omitempty" doc:"What people are told last; {minutes} stands for what is left" maxLength:"1000"`
	Deadline      string          `json:"deadline,omitempty" doc:"How long a host may drain under wait before warn applies"`
	Stagger       int             `json:"stagger,omitempty" doc:"Hosts started per minute at most; 0 for the site's own limit"`
	Observe       string          `json:"observe,omitempty" doc:"How long the last batch is observed before the next one is taken"`
	FailureBudget *int            `json:"failure_budget,omitempty" doc:"Hosts that may fail before the rollover pauses"`
	EarliestStart *time.Time      `json:"earliest_start,omitempty"`
}

// StartRollovers asks for a rollover of each pool.
type StartRollovers struct {
	Pools   []string `json:"pools" minItems:"1" maxItems:"100"`
	Options Options  `json:"options,omitempty"`
	Reason  string   `json:"reason,omitempty" maxLength:"2000"`
}

// Rollover is one rollover of a pool.
type Rollover struct {
	ID         int64                  `json:"id"`
	Pool       string                 `json:"pool"`
	Image      string                 `json:"image"`
	Version    string                 `json:"version" doc:"Version that the hosts are taken to"`
	State      rollover.State         `json:"state"`
	Settled    bool                   `json:"settled" doc:"Nothing of it is in flight any more"`
	Options    Options                `json:"options"`
	BatchSize  int                    `json:"batch_size" doc:"Hosts"`
	FloorSeats int                    `json:"floor_seats"`
	Reverses   int64                  `json:"reverses" doc:"The rollover that it reverses, 0 if none"`
	Reason     string                 `json:"reason"`
	CreatedBy  string                 `json:"created_by"`
	CreatedAt  time.Time              `json:"created_at"`
	StartedAt  *time.Time             `json:"started_at,omitempty"`
	EndedAt    *time.Time             `json:"ended_at,omitempty"`
	PausedWhy  string                 `json:"paused_why"`
	Holds      []string               `json:"holds" nullable:"false" doc:"What it waits for now"`
	Total      int                    `json:"total" doc:"Hosts"`
	Phases     map[rollover.Phase]int `json:"phases" nullable:"false" doc:"Hosts by phase"`
	Batch      int                    `json:"batch" doc:"The newest batch, 0 before the first"`
}

// RolloverHost is a host within a rollover.
type RolloverHost struct {
	Host     string         `json:"host"`
	State    host.State     `json:"state" doc:"State of the host"`
	Phase    rollover.Phase `json:"phase"`
	Since    time.Time      `json:"since"`
	Batch    int            `json:"batch" doc:"0 while queued"`
	Why      string         `json:"why"`
	From     string         `json:"from" doc:"Version that it ran before"`
	Version  string         `json:"version" doc:"Version that it runs now"`
	Sessions int            `json:"sessions"`
	Progress int            `json:"progress" doc:"Of its new disk, in per cent"`
}

// TrailEntry is one entry of the audit trail.
type TrailEntry struct {
	Seq     int64           `json:"seq"`
	At      time.Time       `json:"at"`
	Actor   string          `json:"actor"`
	Verb    string          `json:"verb"`
	Subject string          `json:"subject"`
	Scope   string          `json:"scope"`
	Reason  string          `json:"reason"`
	Detail  json.RawMessage `json:"detail,omitempty"`
	Prev    string          `json:"prev"`
	Hash    string          `json:"hash"`
}

// TrailVerdict is what verifying the trail found.
type TrailVerdict struct {
	Entries int64        `json:"entries"`
	Last    string       `json:"last" doc:"Hash of the last entry: kept elsewhere, it also shows a trail that was cut off"`
	Breaks  []TrailBreak `json:"breaks" nullable:"false"`
}

// TrailBreak is a place where the chain does not fit.
type TrailBreak struct {
	Seq int64  `json:"seq"`
	Why string `json:"why"`
}

// Event tells watchers what to look at again.
type Event struct {
	Seq     int64           `json:"seq"`
	At      time.Time       `json:"at"`
	Kind    string          `json:"kind"`
	Subject string          `json:"subject"`
	Data    json.RawMessage `json:"data,omitempty"`
}
