// Package base says what a base is, that versions are made from: a disk image
// that was brought in from somewhere, checked and converted, and what is known
// of what is in it.
package base

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"nimblepane/core/disk"
)

// State of a base.
type State string

const (
	Receiving  State = "receiving"  // pieces of it are sent
	Fetching   State = "fetching"   // from an address
	Converting State = "converting" // to the form in which disks are kept, and looked into
	Ready      State = "ready"
	Failed     State = "failed"
	Retired    State = "retired" // its disk is gone, and its record stays
)

// States are all of them, in the order of a base's life.
func States() []State { return []State{Receiving, Fetching, Converting, Ready, Failed, Retired} }

// Coming says whether there is more of it to come.
func (s State) Coming() bool { return s == Receiving || s == Fetching || s == Converting }

// Labels are what people call a base by, beside its name.
type Labels struct {
	Publisher string `json:"publisher,omitempty"`
	Product   string `json:"product,omitempty"`
	Edition   string `json:"edition,omitempty"`
	Release   string `json:"release,omitempty"`
}

// Text is all of them in a line.
func (l Labels) Text() string {
	var said []string
	for _, s := range []string{l.Publisher, l.Product, l.Edition, l.Release} {
		if s != "" {
			said = append(said, s)
		}
	}
	return strings.Join(said, " ")
}

// Facts are what was found in a base.
type Facts struct {
	DiskSize     int64    `json:"disk_size"`              // of the disk that a machine sees, in bytes
	Firmware     []string `json:"firmware,omitempty"`     // that can start it: bios, uefi; none if that cannot be seen
	Encrypted    []string `json:"encrypted,omitempty"`    // parts of it, and by what
	System       string   `json:"system,omitempty"`       // such as "linux debian"; "" if that cannot be seen
	Edition      string   `json:"edition,omitempty"`      // such as "Debian GNU/Linux 12 (bookworm)"
	Release      string   `json:"release,omitempty"`      // such as "12"
	Architecture string   `json:"architecture,omitempty"` // such as "x86_64"
	Agents       []string `json:"agents,omitempty"`       // that are inside: pane-agent, qemu-guest-agent, cloud-init
}

// Architecture of hosts.
const Architecture = "x86_64"

// Wanted is what a base is to be used for.
type Wanted struct {
	Class    string
	Firmware string // that starts machines of the class: bios or uefi; "" if that is not known
	System   string // of the image's versions so far; "" if that is not known
	// Disk that the machine is to have, and the largest that machines of its class may have, in bytes; 0 if any.
	Disk, ClassDisk int64
}

// Misfits are the reasons why a base cannot be used for that, none if it can.
// What cannot be seen of it is not held against it.
func (f Facts) Misfits(w Wanted) (why []string) {
	if len(f.Encrypted) > 0 {
		why = append(why, fmt.Sprintf("%s of its disk is encrypted, and a version could not be made of it: decrypt it "+
			"before it is brought in", strings.Join(f.Encrypted, " and ")))
	}
	if w.Firmware != "" && len(f.Firmware) > 0 && !slices.Contains(f.Firmware, w.Firmware) {
		why = append(why, fmt.Sprintf("its disk is started by %s, and machines of class %s by %s: take a base for "+
			"%[3]s, or a class for %[1]s", strings.Join(f.Firmware, " and "), w.Class, w.Firmware))
	}
	if f.Architecture != "" && f.Architecture != Architecture {
		why = append(why, fmt.Sprintf("it is for machines of architecture %s, and hosts are %s", f.Architecture,
			Architecture))
	}
	if w.System != "" && f.System != "" && w.System != f.System {
		why = append(why, fmt.Sprintf("its operating system is %s, and that of the image's versions %s: make an image "+
			"of its own for it", f.System, w.System))
	}
	if w.Disk > 0 && f.DiskSize > w.Disk {
		why = append(why, fmt.Sprintf("its disk has %d bytes, and the machine is to have one of %d: give the machine "+
			"a larger one", f.DiskSize, w.Disk))
	}
	if w.ClassDisk > 0 && max(f.DiskSize, w.Disk) > w.ClassDisk {
		why = append(why, fmt.Sprintf("its disk has %d bytes, and machines of class %s have at most %d: take a "+
			"smaller base, or allow the class more (disk, in the estate file)", max(f.DiskSize, w.Disk),
			w.Class, w.ClassDisk))
	}
	return why
}

// From are the facts that a disk's partitions say.
func From(size int64, p disk.Partitions) Facts {
	f := Facts{DiskSize: size, Encrypted: p.Encrypted()}
	if p.Known && p.BIOS {
		f.Firmware = append(f.Firmware, "bios")
	}
	if p.Known && p.UEFI {
		f.Firmware = append(f.Firmware, "uefi")
	}
	return f
}

var (
	nameForm   = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,59}$`)
	digestForm = regexp.MustCompile(`^[0-9a-f]{64}$`)
)

// CheckName returns an error if a base cannot be called that.
func CheckName(name string) error {
	if !nameForm.MatchString(name) {
		return fmt.Errorf("%q is no name of a base: use small letters, digits, points and hyphens, at most 60, such "+
			"as debian-12", name)
	}
	return nil
}

// CheckDigest returns an error if that is no SHA-256 digest in hexadecimal digits.
func CheckDigest(digest string) error {
	if !digestForm.MatchString(digest) {
		return fmt.Errorf("%.80q is no digest: give the file's SHA-256 in 64 hexadecimal digits, as sha256sum prints "+
			"it", digest)
	}
	return nil
}

// MostBytes is how large a file may be, in bytes.
const MostBytes = 4 << 40
