package client

import (
	"context"
	"net/http"
	"time"

	"nimblepane/core/estate"
)

// Site is a place where hosts run.
type Site struct {
	Name            string            `json:"name"`
	Title           string            `json:"title"`
	Platform        string            `json:"platform"`
	Address         string            `json:"address"`
	StartsPerMinute int               `json:"starts_per_minute"`
	ClonesPerCopy   int               `json:"clones_per_copy"`
	Deliveries      estate.Deliveries `json:"deliveries" doc:"How copies go there"`
	Pools           int               `json:"pools"`
	Hosts           int               `json:"hosts"`
	Hypervisors     []Hypervisor      `json:"hypervisors,omitempty" doc:"On platforms whose machines run on computers of yours"`
	BuildMachines   []MachineAtSite   `json:"build_machines" nullable:"false"`
	Trouble         string            `json:"trouble,omitempty" doc:"Why it does not answer what the service asks of it, if it does not; it is asked again at growing intervals"`
	TroubleSince    *time.Time        `json:"trouble_since,omitempty"`
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
	Delivery     string `json:"delivery" doc:"How disks come there, in words"`
	Machines     int    `json:"machines" doc:"Machines that Nimble Pane made"`
	Others       int    `json:"others" doc:"Machines that it did not make, and leaves alone"`
}

func (c *Client) Sites(ctx context.Context) ([]Site, error) { return all[Site](ctx, c, "/sites", nil) }

func (c *Client) Site(ctx context.Context, name string) (Site, error) {
	return get[Site](ctx, c, pathOf("sites", name), nil)
}

// Loaded says what loading an estate file changed, or would change.
type Loaded struct {
	Changes []string `json:"changes" nullable:"false"`
}

// LoadEstate sends an estate file; with dryRun it only says what would change.
func (c *Client) LoadEstate(ctx context.Context, file []byte, dryRun bool) (Loaded, error) {
	return answer[Loaded](ctx, c, request{
		method: http.MethodPut, path: "/estate", body: file,
		query: values("dry_run", flag(dryRun)),
	})
}

// Estate returns the estate as an estate file.
func (c *Client) Estate(ctx context.Context) ([]byte, error) {
	return c.raw(ctx, request{method: http.MethodGet, path: "/estate"}, "application/yaml")
}
