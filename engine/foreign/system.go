package foreign

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/diskfs/go-diskfs/backend"
	"github.com/diskfs/go-diskfs/filesystem/ext4"

	"nimblepane/core/base"
	"nimblepane/core/disk"
)

// inside adds to the facts of a disk what stands on its file systems of kind
// ext4, the first that an operating system is on. Of others nothing is said:
// what cannot be seen is not held against a base.
func inside(image *disk.Image, parts disk.Partitions, facts *base.Facts) {
	for _, p := range parts.Parts {
		if p.Encrypted == "" && system(image, p, facts) {
			return
		}
	}
}

// programs are those whose presence is a fact.
var programs = map[string][]string{
	"pane-agent":       {"usr/bin/pane-agent"},
	"qemu-guest-agent": {"usr/sbin/qemu-ga", "usr/bin/qemu-ga"},
	"cloud-init":       {"usr/bin/cloud-init"},
}

// system says whether there is an operating system on a part of a disk, and adds what it is. What makes no sense of a
// file system is as if there were none: it was made by somebody else.
func system(image *disk.Image, p disk.Part, facts *base.Facts) (is bool) {
	defer func() {
		if recover() != nil {
			is = false
		}
	}()
	if !plausible(image, p) {
		return false
	}
	files, err := ext4.Read(&part{image: image, size: image.Size}, p.Length, p.Start, 0)
	if err != nil {
		return false
	}
	release := first(files, 64<<10, "usr/lib/os-release", "etc/os-release")
	if release == nil {
		return false
	}
	says := map[string]string{}
	for line := range strings.Lines(string(release)) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		says[key] = Clip(strings.Trim(value, `"'`), 100)
	}
	facts.System = strings.TrimSpace("linux " + says["ID"])
	facts.Edition, facts.Release = says["PRETTY_NAME"], says["VERSION_ID"]
	facts.Architecture = architecture(first(files, 64, "usr/bin/env", "usr/bin/bash", "bin/bash", "bin/busybox"))
	for _, name := range []string{"pane-agent", "qemu-guest-agent", "cloud-init"} {
		if first(files, 1, programs[name]...) != nil {
			facts.Agents = append(facts.Agents, name)
		}
	}
	return true
}

// plausible says whether there could be an ext4 on a part whose tables are no larger than it is (superblock of
// "ext4 Data Structures and Algorithms", Documentation/filesystems/ext4 of Linux).
func plausible(image io.ReaderAt, p disk.Part) bool {
	const at, magic, mostGroups = 1024, 0xef53, 1 << 20
	super := make([]byte, 1024)
	if _, err := image.ReadAt(super, p.Start+at); err != nil {
		return false
	}
	le := binary.LittleEndian
	shift, inGroup := le.Uint32(super[24:]), uint64(le.Uint32(super[32:]))
	blocks := uint64(le.Uint32(super[4:])) | uint64(le.Uint32(super[0x150:]))<<32
	return le.Uint16(super[56:]) == magic && shift <= 6 && inGroup >= 256 && blocks/inGroup < mostGroups &&
		blocks <= uint64(p.Length)>>(10+shift)
}

// first returns the beginning of the first of the files that is there, nil if none is.
func first(files fs.FS, most int64, names ...string) []byte {
	for _, name := range names {
		f, err := files.Open(name)
		if err != nil {
			continue
		}
		text, err := io.ReadAll(io.LimitReader(f, most))
		_ = f.Close()
		if err == nil && len(text) > 0 {
			return text
		}
	}
	return nil
}

// architectures are machines of the ELF header, by "System V Application Binary Interface", e_machine.
var architectures = map[uint16]string{3: "i386", 40: "arm", 62: "x86_64", 183: "aarch64", 243: "riscv64"}

// architecture is that of a program, "" if that is not seen.
func architecture(program []byte) string {
	if len(program) < 20 || !bytes.HasPrefix(program, []byte("\x7fELF")) || program[5] != 1 {
		return ""
	}
	return architectures[binary.LittleEndian.Uint16(program[18:])]
}

// Clip returns the first characters of a foreign text, without control characters.
func Clip(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "?"))
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}

// part is a disk as the library reads it. It is never written.
type part struct {
	image *disk.Image
	size  int64
	at    int64
}

var _ backend.Storage = (*part)(nil)

func (p *part) ReadAt(b []byte, at int64) (int, error) { return p.image.ReadAt(b, at) }

func (p *part) Read(b []byte) (int, error) {
	n, err := p.image.ReadAt(b, p.at)
	p.at += int64(n)
	return n, err
}

func (p *part) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += p.at
	case io.SeekEnd:
		offset += p.size
	}
	if offset < 0 {
		return 0, fmt.Errorf("seek to %d", offset)
	}
	p.at = offset
	return offset, nil
}

func (*part) Close() error                            { return nil }
func (*part) Sys() (*os.File, error)                  { return nil, backend.ErrNotSuitable }
func (*part) Writable() (backend.WritableFile, error) { return nil, errors.New("it is only read") }
func (*part) Path() string                            { return "" }
func (p *part) Stat() (fs.FileInfo, error)            { return statOf{p.size}, nil }

// statOf is what is known of a disk that is no file.
type statOf struct{ size int64 }

func (statOf) Name() string       { return "" }
func (s statOf) Size() int64      { return s.size }
func (statOf) Mode() fs.FileMode  { return 0o400 }
func (statOf) ModTime() time.Time { return time.Time{} }
func (statOf) IsDir() bool        { return false }
func (statOf) Sys() any           { return nil }
