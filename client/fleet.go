package client

import (
	"context"
	"net/url"
	"strconv"
	"time"

	"nimblepane/agent"
	"nimblepane/core/host"
	"nimblepane/platform"
)

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

func (c *Client) Pools(ctx context.Context) ([]Pool, error) { return all[Pool](ctx, c, "/pools", nil) }

func (c *Client) Pool(ctx context.Context, name string) (Pool, error) {
	return get[Pool](ctx, c, pathOf("pools", name), nil)
}

// Pin asks to pin a pool.
type Pin struct {
	Version  string `json:"version" minLength:"1"`
	Reason   string `json:"reason" minLength:"1" maxLength:"2000"`
	Overrule bool   `json:"overrule,omitempty" doc:"Pin a pool that follows live to a version that was never live and has no clearance; needs the role administrator"`
}

func (c *Client) Pin(ctx context.Context, pool string, in Pin) (Pool, error) {
	return post[Pool](ctx, c, pathOf("pools", pool, "pin"), in)
}

func (c *Client) Unpin(ctx context.Context, pool, reason string) (Pool, error) {
	return post[Pool](ctx, c, pathOf("pools", pool, "unpin"), Reason{reason})
}

// Host is one machine of a pool.
type Host struct {
	Name      string     `json:"name"`
	Pool      string     `json:"pool"`
	Site      string     `json:"site"`
	Image     string     `json:"image"`
	State     host.State `json:"state"`
	Since     time.Time  `json:"since"`
	Why       string     `json:"why"`
	DrainedBy string     `json:"drained_by"`
	Version   string     `json:"version" doc:"Version that its disk was made from"`
	Target    string     `json:"target" doc:"Version that it should run"`
	Drifts    bool       `json:"drifts"`
	// DriftReason and TargetSince are those of a host that drifts.
	DriftReason string            `json:"drift_reason,omitempty" doc:"Why it runs another version than it should"`
	TargetSince *time.Time        `json:"target_since,omitempty" doc:"When its pool was given the version, of a host that drifts"`
	Seats       int               `json:"seats"`
	Sessions    int               `json:"sessions"`
	SeenAt      *time.Time        `json:"seen_at,omitempty"`
	Load        float64           `json:"load"`
	Stamp       string            `json:"stamp" doc:"Version that its agent reports"`
	Checks      agent.ChecksState `json:"checks,omitempty" doc:"Left out if none were asked for"`
	ChecksWhy   string            `json:"checks_why"`
	Machine     *Machine          `json:"machine,omitempty" doc:"On a single host, if its platform knows of one"`
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

// HostQuery selects hosts; empty fields select all.
type HostQuery struct {
	Pool, Site, Image, Version string
	State                      host.State
	Drifts                     bool
	Find                       string // in the name
}

func (q HostQuery) values() url.Values {
	return values("pool", q.Pool, "site", q.Site, "image", q.Image, "state", string(q.State), "version", q.Version,
		"drifts", flag(q.Drifts), "find", q.Find)
}

// Hosts returns all selected hosts by name.
func (c *Client) Hosts(ctx context.Context, q HostQuery) ([]Host, error) {
	return all[Host](ctx, c, "/hosts", q.values())
}

// HostPage returns the first page of the selected hosts.
func (c *Client) HostPage(ctx context.Context, q HostQuery, limit int) (Page[Host], error) {
	v := q.values()
	v.Set("limit", strconv.Itoa(limit))
	return get[Page[Host]](ctx, c, "/hosts", v)
}

func (c *Client) Host(ctx context.Context, name string) (Host, error) {
	return get[Host](ctx, c, pathOf("hosts", name), nil)
}

func (c *Client) DrainHost(ctx context.Context, host, reason string) (Host, error) {
	return post[Host](ctx, c, pathOf("hosts", host, "drain"), Reason{reason})
}

func (c *Client) ReturnHost(ctx context.Context, host, reason string) (Host, error) {
	return post[Host](ctx, c, pathOf("hosts", host, "return"), Reason{reason})
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

// SessionQuery selects sessions; empty fields select all.
type SessionQuery struct {
	Pool, Host, Person string
	State              agent.SessionState
	HostState          host.State // of the host that it is on
	Find               string     // in the names of person and host
}

func (c *Client) Sessions(ctx context.Context, q SessionQuery) ([]Session, error) {
	return all[Session](ctx, c, "/sessions", values("pool", q.Pool, "host", q.Host, "person", q.Person, "state",
		string(q.State), "host_state", string(q.HostState), "find", q.Find))
}

// Tell is a text for people.
type Tell struct {
	Text string `json:"text" minLength:"1" maxLength:"1000"`
}

// Told says how many sessions a text was sent to.
type Told struct {
	Sessions int `json:"sessions"`
}

func (c *Client) TellPool(ctx context.Context, pool, text string) (Told, error) {
	return post[Told](ctx, c, pathOf("pools", pool, "tell"), Tell{text})
}

func (c *Client) TellSession(ctx context.Context, host, key, text string) (Told, error) {
	return post[Told](ctx, c, pathOf("hosts", host, "sessions", key, "tell"), Tell{text})
}

func (c *Client) SignOffSession(ctx context.Context, host, key, reason string) error {
	_, err := post[Told](ctx, c, pathOf("hosts", host, "sessions", key, "sign-off"), Reason{reason})
	return err
}
