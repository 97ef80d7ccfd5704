package libvirt

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"hash"
	"io"
	"strings"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"
)

// Endings of volumes.
const (
	diskEnding = ".qcow2"
	noteEnding = ".note"
	ownEnding  = ".own.qcow2"
	seedEnding = ".seed.iso"
	listEnding = ".software"
)

// note says what was true of a disk when it was complete. As long as size and
// time of the file are what they were then, so is the digest; if they are not,
// the file is read again before anything is cloned from it.
type note struct {
	Digest       string   `json:"digest"` // "sha256:..." of the file
	Size         int64    `json:"size"`   // of the file, in bytes
	Modified     string   `json:"modified"`
	MachineClass string   `json:"machine_class"`
	SizeBefore   int64    `json:"size_before,omitempty"`
	Sealing      []string `json:"sealing,omitempty"`
}

// volumeXML is libvirt's volume description, as far as it is used here.
type volumeXML struct {
	XMLName    xml.Name  `xml:"volume"`
	Name       string    `xml:"name"`
	Capacity   bytesXML  `xml:"capacity"`
	Allocation bytesXML  `xml:"allocation"`
	Physical   *bytesXML `xml:"physical"`
	Target     struct {
		Path        string    `xml:"path,omitempty"`
		Format      formatXML `xml:"format"`
		Permissions *permsXML `xml:"permissions"`
		Compat      string    `xml:"compat,omitempty"`
		Timestamps  *timesXML `xml:"timestamps"`
		Encryption  *struct{} `xml:"encryption"`
	} `xml:"target"`
	Backing *backingXML `xml:"backingStore"`
}

type bytesXML struct {
	Unit  string `xml:"unit,attr,omitempty"`
	Value int64  `xml:",chardata"`
}

type formatXML struct {
	Type string `xml:"type,attr"`
}

type permsXML struct {
	Mode string `xml:"mode"`
}

type timesXML struct {
	Modified string `xml:"mtime"`
}

type backingXML struct {
	Path   string    `xml:"path"`
	Format formatXML `xml:"format"`
}

func marshal(v any) string {
	text, err := xml.Marshal(v)
	if err != nil {
		panic(err) // the types are ours
	}
	return string(text)
}

// describe returns what libvirt knows of a volume now.
func describe(l *libvirt.Libvirt, v libvirt.StorageVol) (d volumeXML, err error) {
	text, err := l.StorageVolGetXMLDesc(v, 0)
	if err == nil {
		err = xml.Unmarshal([]byte(text), &d)
	}
	return d, err
}

// volume finds one by name, with a look at the storage itself if libvirt does not know it.
func (h *hypervisor) volume(l *libvirt.Libvirt, name string) (libvirt.StorageVol, error) {
	p, err := h.pool(l)
	if err != nil {
		return libvirt.StorageVol{}, err
	}
	return l.StorageVolLookupByName(p, name)
}

// remove deletes a volume if it is there.
func (h *hypervisor) remove(l *libvirt.Libvirt, name string) error {
	v, err := h.volume(l, name)
	if err == nil {
		err = l.StorageVolDelete(v, 0)
	}
	if notFound(err) {
		return nil
	}
	return err
}

// create makes a volume, in place of one that is there.
func (h *hypervisor) create(l *libvirt.Libvirt, d volumeXML) (libvirt.StorageVol, error) {
	p, err := h.pool(l)
	if err != nil {
		return libvirt.StorageVol{}, err
	}
	if err := h.remove(l, d.Name); err != nil {
		return libvirt.StorageVol{}, err
	}
	v, err := l.StorageVolCreateXML(p, marshal(d), 0)
	if err == nil || !strings.Contains(err.Error(), "exist") {
		return v, err
	}
	// A file that libvirt did not know of stands in the way until it is found.
	if err := h.refresh(l, p); err != nil {
		return v, err
	}
	if err := h.remove(l, d.Name); err != nil {
		return v, err
	}
	return l.StorageVolCreateXML(p, marshal(d), 0)
}

// busyPool is what libvirt says of a storage pool in which a volume is being
// written just now. It passes.
const busyPool = "has asynchronous jobs running"

// refresh has libvirt look at the storage itself.
func (h *hypervisor) refresh(l *libvirt.Libvirt, p libvirt.StoragePool) error {
	const tries = 50
	for n := 0; ; n++ {
		err := l.StoragePoolRefresh(p, 0)
		if err == nil || n == tries || !strings.Contains(err.Error(), busyPool) {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// ownDisk makes a machine's own disk on another one, larger than that if so many bytes are asked for.
func (h *hypervisor) ownDisk(l *libvirt.Libvirt, name, backing string, bytes int64) (path string, err error) {
	below, err := h.volume(l, backing)
	if err != nil {
		return "", err
	}
	b, err := describe(l, below)
	if err != nil {
		return "", err
	}
	d := volumeXML{
		Name: name, Capacity: bytesXML{Value: max(b.Capacity.Value, bytes)},
		Backing: &backingXML{Path: b.Target.Path, Format: formatXML{"qcow2"}},
	}
	d.Target.Format, d.Target.Compat = formatXML{"qcow2"}, "1.1"
	v, err := h.create(l, d)
	return v.Key, err
}

// write makes a small volume with the content.
func (h *hypervisor) write(l *libvirt.Libvirt, name string, content []byte) (path string, err error) {
	d := volumeXML{
		Name: name, Capacity: bytesXML{Value: int64(len(content))},
		Allocation: bytesXML{Value: int64(len(content))},
	}
	d.Target.Format, d.Target.Permissions = formatXML{"raw"}, &permsXML{"0600"}
	v, err := h.create(l, d)
	if err != nil {
		return "", err
	}
	return v.Key, l.StorageVolUpload(v, bytes.NewReader(content), 0, uint64(len(content)), 0)
}

// noteOf reads a disk's note.
func (h *hypervisor) noteOf(l *libvirt.Libvirt, disk string) (n note, err error) {
	v, err := h.volume(l, disk+noteEnding)
	if err != nil {
		return n, err
	}
	d, err := describe(l, v)
	if err != nil {
		return n, err
	}
	var text bytes.Buffer
	if err := download(l, v, &text, 0, d.physical()); err != nil {
		return n, err
	}
	if err := json.Unmarshal(text.Bytes(), &n); err != nil {
		return n, refuse("the note of disk %s on %s cannot be read (%s): deliver the version again", disk, h.name, err)
	}
	return n, nil
}

// download reads a volume from an offset to its end, which is at size.
func download(l *libvirt.Libvirt, v libvirt.StorageVol, into io.Writer, offset, size int64) error {
	c := &counter{w: into}
	if err := l.StorageVolDownload(v, c, uint64(offset), 0, 0); err != nil {
		return err
	}
	if c.n != size-offset {
		return fmt.Errorf("volume %s: %d of %d bytes came", v.Name, c.n, size-offset)
	}
	return nil
}

type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// complete writes a disk's note, after its file has been read and found to have the digest.
func (h *hypervisor) complete(l *libvirt.Libvirt, disk string, n note) error {
	v, err := h.volume(l, disk+diskEnding)
	if err != nil {
		return err
	}
	d, err := describe(l, v)
	if err != nil {
		return err
	}
	n.Size, n.Modified = d.physical(), d.modified()
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	if _, err := h.write(l, disk+noteEnding, text); err != nil {
		return err
	}
	_, err = h.noteOf(l, disk)
	return err
}

// physical is the length of the volume's file.
func (d volumeXML) physical() int64 {
	if d.Physical == nil {
		return 0
	}
	return d.Physical.Value
}

func (d volumeXML) modified() string {
	if d.Target.Timestamps == nil {
		return ""
	}
	return d.Target.Timestamps.Modified
}

// readNote is a note as it was read last, with what its own file was like then.
type readNote struct {
	note
	size     int64
	modified string
}

// known returns a disk's note, and whether the disk's file is unchanged since then. A cached note is read again if its
// own file has changed: another process may have removed it because the disk is corrupt.
func (h *hypervisor) known(l *libvirt.Libvirt, disk string) (n note, same bool, err error) {
	v, err := h.volume(l, disk+diskEnding)
	if err != nil {
		return n, false, err
	}
	of, err := h.volume(l, disk+noteEnding)
	if err != nil {
		return n, false, err
	}
	file, err := describe(l, of)
	if err != nil {
		return n, false, err
	}
	h.mu.Lock()
	read, cached := h.notes[disk]
	h.mu.Unlock()
	if !cached || read.size != file.physical() || read.modified != file.modified() {
		read = readNote{size: file.physical(), modified: file.modified()}
		if read.note, err = h.noteOf(l, disk); err != nil {
			return n, false, err
		}
		h.mu.Lock()
		h.notes[disk] = read
		h.mu.Unlock()
	}
	d, err := describe(l, v)
	if err != nil {
		return n, false, err
	}
	return read.note, d.physical() == read.Size && d.modified() == read.Modified, nil
}

// intact makes sure that a disk has the digest: by its note, or by reading it
// if the file was touched since.
func (h *hypervisor) intact(ctx context.Context, disk, digest string, report func(int)) error {
	var n note
	var same bool
	err := h.connected(ctx, func(l *libvirt.Libvirt) (err error) {
		n, same, err = h.known(l, disk)
		return err
	})
	if err != nil {
		return err
	}
	if same && n.Digest == digest {
		return nil
	}
	got, err := h.digest(ctx, disk, report)
	if err != nil {
		return err
	}
	if got != digest {
		return refuse("disk %s on %s was changed: it has digest %s and should have %s; deliver the version again", disk,
			h.name, got, digest)
	}
	n.Digest = digest
	return h.connected(ctx, func(l *libvirt.Libvirt) error { return h.complete(l, disk, n) })
}

// digest reads a disk's file.
func (h *hypervisor) digest(ctx context.Context, disk string, report func(int)) (string, error) {
	sum := &measured{hash: sha256.New(), report: report}
	err := h.dedicated(ctx, func(l *libvirt.Libvirt) error {
		v, err := h.volume(l, disk+diskEnding)
		if err != nil {
			return err
		}
		d, err := describe(l, v)
		if err != nil {
			return err
		}
		sum.size = d.physical()
		return download(l, v, sum, 0, sum.size)
	})
	return "sha256:" + hex.EncodeToString(sum.hash.Sum(nil)), err
}

// measured is a hash that tells how far it is.
type measured struct {
	hash   hash.Hash
	n      int64
	size   int64
	report func(int)
}

func (m *measured) Write(p []byte) (int, error) {
	m.n += int64(len(p))
	if m.report != nil && m.size > 0 {
		m.report(int(100 * m.n / m.size))
	}
	return m.hash.Write(p)
}

// OpenDisk is platform.Disks's.
func (s *Site) OpenDisk(ctx context.Context, disk string, offset int64) (io.ReadCloser, int64, error) {
	h, n, err := s.withDisk(ctx, disk)
	if notFound(err) {
		return nil, 0, refuse("there is no disk %q at %s", disk, s.name)
	}
	if err != nil {
		return nil, 0, err
	}
	return &reading{ctx: ctx, hypervisor: h, disk: disk, offset: offset, size: n.Size}, n.Size, nil
}

// reading is a disk that is being read, from the first Read on, by a connection
// of its own.
type reading struct {
	ctx          context.Context
	hypervisor   *hypervisor
	disk         string
	offset, size int64

	pipe *io.PipeReader
	stop context.CancelFunc
}

// Read is io.Reader's.
func (r *reading) Read(p []byte) (int, error) {
	if r.pipe == nil {
		var ctx context.Context
		ctx, r.stop = context.WithCancel(r.ctx)
		var w *io.PipeWriter
		r.pipe, w = io.Pipe()
		go func() {
			err := r.hypervisor.dedicated(ctx, func(l *libvirt.Libvirt) error {
				v, err := r.hypervisor.volume(l, r.disk+diskEnding)
				if err != nil {
					return err
				}
				return download(l, v, &untilClosed{w: w}, r.offset, r.size)
			})
			w.CloseWithError(err) // nil: the end
		}()
	}
	return r.pipe.Read(p)
}

// Close is io.Closer's.
func (r *reading) Close() error {
	if r.pipe == nil {
		return nil
	}
	r.stop()
	return r.pipe.Close()
}

// untilClosed takes what comes although nobody reads any more: a stream whose
// data is not taken would block the library's other half.
type untilClosed struct {
	w      *io.PipeWriter
	closed bool
}

func (u *untilClosed) Write(p []byte) (int, error) {
	if !u.closed {
		if _, err := u.w.Write(p); err != nil {
			u.closed = true
		}
	}
	return len(p), nil
}

// withDisk returns a hypervisor that has the disk, and the disk's note; notFound
// is true of the error if none has it.
func (s *Site) withDisk(ctx context.Context, disk string) (h *hypervisor, n note, err error) {
	for _, h = range s.hypervisors {
		err = h.connected(ctx, func(l *libvirt.Libvirt) (err error) {
			n, _, err = h.known(l, disk)
			return err
		})
		if !notFound(err) {
			break
		}
	}
	return h, n, err
}
