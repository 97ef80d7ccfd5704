package libvirt

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/core/estate"
	"nimblepane/platform"
	"nimblepane/platform/depot"
)

// hypervisor is one connection, which is made anew when it breaks.
type hypervisor struct {
	site, name string
	address    *url.URL
	storage    string
	depotAt    string // address of its depot, if that is elsewhere
	wanted     string // accelerator: probe, kvm or tcg

	mu          sync.Mutex
	conn        *connection
	accelerator string // once it is known
	notes       map[string]readNote
	disks       depot.Depot // once it is known
}

// callLimit is how long one call may take; streams and qemu-img have connections of their own.
const callLimit = 90 * time.Second

func newHypervisor(site string, h estate.Hypervisor, accelerator string) (*hypervisor, error) {
	u, err := url.Parse(h.Address)
	if err != nil {
		return nil, fmt.Errorf("hypervisor %s: %w", h.Name, err)
	}
	return &hypervisor{
		site: site, name: h.Name, address: u, storage: h.Storage, depotAt: h.Depot,
		wanted: accelerator, notes: map[string]readNote{},
	}, nil
}

// away is the error of a hypervisor that does not answer. It may pass.
type away struct {
	name string
	err  error
}

func (a *away) Error() string {
	return fmt.Sprintf("hypervisor %s does not answer: %s", a.name, a.err)
}

func (a *away) Unwrap() error { return a.err }

// dial makes a connection of its own, for what is long and for streams.
func (h *hypervisor) dial() (*connection, error) {
	c, err := connect(h.address)
	if err != nil {
		return nil, &away{h.name, err}
	}
	return c, nil
}

// connected runs fn with the shared connection. If the context ends before fn does,
// the line is closed, which ends fn's call: libvirt's protocol has no other way
// to give one up.
func (h *hypervisor) connected(ctx context.Context, fn func(*libvirt.Libvirt) error) error {
	c, err := h.shared()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { h.drop(c) })
	err = fn(c.Libvirt)
	stop()
	return h.lost(ctx, c, err)
}

// dedicated runs fn with a connection of its own, without a limit of time.
func (h *hypervisor) dedicated(ctx context.Context, fn func(*libvirt.Libvirt) error) error {
	c, err := h.dial()
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { c.line.Close() })
	err = fn(c.Libvirt)
	if stop() {
		_ = c.Disconnect()
	}
	return h.lost(ctx, c, err)
}

// lost tells an error that the connection's end made from one that libvirt answered.
func (h *hypervisor) lost(ctx context.Context, c *connection, err error) error {
	if err == nil {
		return nil
	}
	var refusal *platform.Refusal
	if errors.As(err, &refusal) {
		return err
	}
	var answer libvirt.Error
	if errors.As(err, &answer) {
		return fmt.Errorf("%s: %w", h.name, err)
	}
	if ctx.Err() != nil {
		return &away{h.name, ctx.Err()}
	}
	// Whoever writes may learn that the line is broken before the one who reads does.
	var line *net.OpError
	if !c.IsConnected() || errors.As(err, &line) {
		h.drop(c)
		return &away{h.name, err}
	}
	return err
}

func (h *hypervisor) shared() (*connection, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.conn != nil && h.conn.IsConnected() {
		return h.conn, nil
	}
	c, err := h.dial()
	if err != nil {
		return nil, err
	}
	h.conn = c
	return c, nil
}

func (h *hypervisor) drop(c *connection) {
	h.mu.Lock()
	if h.conn == c {
		h.conn = nil
	}
	h.mu.Unlock()
	c.line.Close()
}

func (h *hypervisor) close() {
	h.mu.Lock()
	c, d := h.conn, h.disks
	h.conn, h.disks = nil, nil
	h.mu.Unlock()
	if far, ok := d.(*depot.Remote); ok {
		far.Close()
	}
	if c != nil {
		_ = c.Disconnect()
	}
}

// explain turns what libvirt answered into a refusal that a person understands.
// What may pass by itself stays an error.
func explain(err error) error {
	var answer libvirt.Error
	if err == nil || !errors.As(err, &answer) {
		return err
	}
	switch libvirt.ErrorNumber(answer.Code) {
	case libvirt.ErrAgentUnresponsive, libvirt.ErrOperationTimeout, libvirt.ErrResourceBusy, libvirt.ErrNoConnect,
		libvirt.ErrRPC:
		return err
	}
	switch text := err.Error(); {
	case strings.Contains(text, busyPool):
		return err
	case strings.Contains(text, "No space left on device"):
		return refuse("its storage is full: %s", text)
	case strings.Contains(text, "Permission denied"), libvirt.ErrorNumber(answer.Code) == libvirt.ErrAccessDenied,
		libvirt.ErrorNumber(answer.Code) == libvirt.ErrAuthFailed:
		return refuse("the service lacks a permission there (see docs/hypervisors.md): %s", text)
	}
	return refuse("%s", err)
}

func notFound(err error) bool {
	var answer libvirt.Error
	if !errors.As(err, &answer) {
		return false
	}
	switch libvirt.ErrorNumber(answer.Code) {
	case libvirt.ErrNoDomain, libvirt.ErrNoStorageVol, libvirt.ErrNoDomainMetadata:
		return true
	}
	return false
}

// pool returns the storage pool, started if it was not.
func (h *hypervisor) pool(l *libvirt.Libvirt) (libvirt.StoragePool, error) {
	p, err := l.StoragePoolLookupByName(h.storage)
	if err != nil {
		var answer libvirt.Error
		if errors.As(err, &answer) && libvirt.ErrorNumber(answer.Code) == libvirt.ErrNoStoragePool {
			return p, refuse("%s has no storage pool named %s: define one of type dir, or change storage in the "+
				"estate file", h.name, h.storage)
		}
		return p, err
	}
	return p, nil
}

// asAnswer says that the error is one that libvirt answered.
func asAnswer(err error) bool {
	var answer libvirt.Error
	return errors.As(err, &answer)
}
