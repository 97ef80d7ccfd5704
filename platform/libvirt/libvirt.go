// Package libvirt is the platform of sites whose machines are QEMU machines
// that libvirt looks after, on one hypervisor or several.
//
// It speaks libvirt's own protocol, and leaves on a hypervisor only what
// libvirt can list: domains, and volumes in a storage pool that is Nimble
// Pane's alone.
//
//	NAME.qcow2           a captured disk, or a copy of one: never written again
//	NAME.note            what was true of it when it was complete: digest, size, time
//	MACHINE.own.qcow2    a machine's own disk: what it changed of the copy
//	MACHINE.seed.iso     what it needs at its first start
//
// A disk counts only with its note, which is written last; a domain counts as
// ours only with our tag in its metadata, which also names the operation that
// made it. So whatever was lost elsewhere, what is on the hypervisors says
// what was done, and operations go on from there.
package libvirt

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"time"

	"nimblepane/core/estate"
	"nimblepane/core/secret"
	"nimblepane/platform"
	"nimblepane/platform/journal"
)

// Site is one site on libvirt.
type Site struct {
	name        string
	hypervisors []*hypervisor
	classes     map[string]class
	accelerator string
	allowance   func(ctx context.Context, key string) (int64, error) // of deliveries; nil: they are not limited
	secrets     secret.Finder
	file        func(ctx context.Context, digest string) io.ReadCloser
	peer        func(ctx context.Context, site string) (platform.Platform, error)
	bases       platform.Disks // that the service keeps
	log         *slog.Logger
	does        platform.Repertoire
	operations  *journal.Runner
	journal     platform.Journal
	limits      limits
	paused      bool // tests start machines paused
}

// class is what machines of a class are like, in bytes.
type class struct {
	estate.MachineClass
	memory, room int64
}

var (
	_ platform.Platform = (*Site)(nil)
	_ platform.Disks    = (*Site)(nil)
	_ platform.Builder  = (*Site)(nil)
)

// retryAfter is how long after a failure that may pass an operation is tried again.
const retryAfter = 2 * time.Second

// Open is the platform's opener. It does not connect yet: hypervisors may be
// away for a while.
func Open(site estate.Site, env platform.Environment) (platform.Platform, error) {
	return open(site, env)
}

func open(site estate.Site, env platform.Environment) (*Site, error) {
	s := &Site{
		name: site.Name, accelerator: site.Accelerator, classes: map[string]class{}, limits: patient,
		peer: env.Peer, bases: env.Bases, allowance: env.Allowance, log: env.Log, journal: env.Journal,
	}
	for name, c := range site.MachineClasses {
		k := class{MachineClass: c}
		var err error
		if k.memory, err = estate.Bytes(c.Memory); err == nil {
			k.room, err = estate.Bytes(c.Room)
		}
		if err != nil {
			return nil, fmt.Errorf("site %s: machine class %s: %w", site.Name, name, err)
		}
		s.classes[name] = k
	}
	for _, h := range site.Hypervisors {
		hv, err := newHypervisor(site.Name, h, site.Accelerator)
		if err != nil {
			return nil, err
		}
		s.hypervisors = append(s.hypervisors, hv)
	}
	s.secrets, s.file = env.Secrets, env.File
	s.does = s.repertoire()
	s.operations = journal.New(env.Journal, site.Name, retryAfter, env.Log,
		func(ctx context.Context, key string, op platform.Operation, report func(platform.Progress)) (json.RawMessage,
			error,
		) {
			out, err := s.does.Do(ctx, key, op, report)
			return out, explain(err)
		})
	return s, nil
}

// Close stops the operations here and lets go of all connections.
func (s *Site) Close() {
	s.operations.Close()
	for _, h := range s.hypervisors {
		h.close()
	}
}

// Start begins the operation, if it can succeed as far as can be seen now.
func (s *Site) Start(ctx context.Context, key string, op platform.Operation) error {
	if _, err := s.operations.Ask(ctx, key); errors.Is(err, platform.ErrUnknown) {
		if err := s.does.Check(ctx, op); err != nil {
			return explain(err)
		}
	} else if err != nil {
		return err
	}
	return s.operations.Start(ctx, key, op)
}

// Ask returns how the operation stands.
func (s *Site) Ask(ctx context.Context, key string) (platform.Progress, error) {
	return s.operations.Ask(ctx, key)
}

// repertoire is what a site does, by kind of operation.
func (s *Site) repertoire() platform.Repertoire {
	r := platform.Repertoire{}
	deletes := func(ctx context.Context, _ string, d platform.Named, _ func(int)) (platform.Nothing, error) {
		return platform.Nothing{}, s.deleteDisk(ctx, d.Name)
	}
	platform.Perform(r, platform.CaptureMachine, s.checkCapture, s.capture)
	platform.PerformWithProgress(r, platform.DeliverCopy, s.checkDelivery, s.deliver)
	platform.Perform(r, platform.ReadCopy, nil, s.readCopy)
	platform.Perform(r, platform.DeleteCopy, nil, deletes)
	platform.Perform(r, platform.DeleteDisk, nil, deletes)
	platform.Perform(r, platform.RebuildHost, s.checkRebuild, s.rebuild)
	platform.Perform(r, platform.TryHost, nil, s.tryHost)
	platform.Perform(r, platform.DiscardHost, nil, s.discardHost)
	platform.Perform(r, platform.CopyHost, s.checkHostCopy, s.copyHost)
	platform.Perform(r, platform.MakeMachine, nil, s.makeMachine)
	platform.Perform(r, platform.StartMachine, s.checkUnsealed, s.startMachine)
	platform.Perform(r, platform.StopMachine, s.checkUnsealed, s.stopMachine)
	platform.Perform(r, platform.DoStep, s.checkStep, s.doStep)
	platform.Perform(r, platform.InspectMachine, s.checkInspection, s.inspectMachine)
	platform.Perform(r, platform.SealMachine, s.checkSealing, s.sealMachine)
	platform.Perform(r, platform.CheckpointMachine, s.checkCheckpoint, s.checkpointMachine)
	platform.Perform(r, platform.RevertMachine, s.checkRevert, s.revertMachine)
	platform.Perform(r, platform.DiscardMachine, nil, s.discardMachine)
	return r
}

func (s *Site) checkCapture(ctx context.Context, c platform.Capture) error {
	m, err := s.buildMachine(ctx, c.BuildMachine)
	if err != nil {
		return err
	}
	if m.tag.Class != c.MachineClass {
		return refuse("build machine %s is of class %s, and the image of class %s", m.name, m.tag.Class, c.MachineClass)
	}
	if len(m.tag.Sealed) > 0 && m.tag.Stamp != c.Stamp {
		return sealedAs(m.machine, c.Stamp)
	}
	return checkName(c.Disk)
}

func (s *Site) checkStep(ctx context.Context, o platform.StepOrder) error {
	return s.checkUnsealed(ctx, platform.Named{Name: o.BuildMachine})
}

func (s *Site) checkInspection(ctx context.Context, in platform.Inspection) error {
	return s.checkUnsealed(ctx, platform.Named{Name: in.BuildMachine})
}

func (s *Site) checkUnsealed(ctx context.Context, n platform.Named) error {
	b, err := s.buildMachine(ctx, n.Name)
	if err == nil && len(b.tag.Sealed) > 0 {
		return sealedAlready(b.machine)
	}
	return err
}

func (s *Site) checkSealing(ctx context.Context, in platform.Seal) error {
	b, err := s.buildMachine(ctx, in.BuildMachine)
	if err == nil && len(b.tag.Sealed) > 0 && b.tag.Stamp != in.Stamp {
		return sealedAs(b.machine, in.Stamp)
	}
	return err
}

func (s *Site) checkDelivery(ctx context.Context, d platform.Deliver) error {
	for _, copyName := range d.Same {
		if _, n, err := s.withDisk(ctx, copyName); err == nil && n.Digest == d.Digest {
			return nil // it comes from here
		}
	}
	source, err := s.source(ctx, d.Source)
	if err != nil {
		return err
	}
	r, _, err := source.OpenDisk(ctx, d.Disk, 0)
	var refusal *platform.Refusal
	if err != nil && source != platform.Disks(s) && !errors.As(err, &refusal) {
		// It is the other site that does not answer, and this one that would be left alone for it.
		return &platform.Busy{Why: fmt.Sprintf("where it comes from does not answer: %s", err)}
	}
	if err != nil {
		return err
	}
	return r.Close()
}

func (s *Site) checkRebuild(ctx context.Context, r platform.Rebuild) error {
	k, err := s.class(r.MachineClass)
	if err != nil {
		return err
	}
	if err := checkName(r.Host); err != nil {
		return err
	}
	h, found, err := s.place(ctx, r.Host, k)
	if err != nil {
		return err
	}
	if found && !h.machine.ours(kindHost) {
		return notOurs(r.Host, h.hypervisor)
	}
	_, err = h.hypervisor.anyCopy(ctx, r.Copies, r.MachineClass)
	return err
}

func (s *Site) class(name string) (class, error) {
	k, ok := s.classes[name]
	if !ok {
		return k, refuse("site %s does not say what machines of class %q are like: describe it in the estate file",
			s.name, name)
	}
	return k, nil
}

// source returns the site that a disk comes from.
func (s *Site) source(ctx context.Context, site string) (platform.Disks, error) {
	switch site {
	case "", s.name:
		return s, nil
	case platform.OfService:
		return s.bases, nil
	}
	p, err := s.peer(ctx, site)
	if err != nil {
		return nil, err
	}
	d, ok := p.(platform.Disks)
	if !ok {
		return nil, refuse("the disk was captured at %s, which is on another platform: capture the image at a site "+
			"of this platform", site)
	}
	return d, nil
}

func refuse(format string, args ...any) error {
	return &platform.Refusal{Why: fmt.Sprintf(format, args...)}
}

func notOurs(name string, h *hypervisor) error {
	return refuse("there is a machine named %s on %s that Nimble Pane did not make; it is left alone: rename or "+
		"remove it, or give the pool another host prefix", name, h.name)
}

// checkName keeps names that become files to what is safe as one.
func checkName(name string) error {
	if name == "" || len(name) > 120 || strings.Trim(name,
		"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-._") != "" || strings.HasPrefix(name, ".") {
		return refuse("%q cannot be the name of a machine or disk: use letters, digits, - and .", name)
	}
	return nil
}
