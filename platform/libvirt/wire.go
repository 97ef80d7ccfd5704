package libvirt

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os/user"
	"strings"

	libvirt "github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket"
	"github.com/digitalocean/go-libvirt/socket/dialers"
)

// connection is a connection to a libvirtd, with the line below it: closing
// the line is the one way to end a call that does not return.
type connection struct {
	*libvirt.Libvirt
	line net.Conn
}

// connect opens a connection as libvirt's URI says: local socket, TLS or SSH.
func connect(u *url.URL) (*connection, error) {
	dialer, err := dialerOf(u)
	if err != nil {
		return nil, err
	}
	c := &connection{}
	c.Libvirt = libvirt.NewWithDialer(dialFunc(func() (net.Conn, error) {
		line, err := dialer.Dial()
		if err != nil {
			return nil, err
		}
		c.line = newInOrder(line)
		return c.line, nil
	}))
	if err := c.ConnectToURI(libvirt.RemoteURI(u)); err != nil {
		if c.line != nil {
			c.line.Close()
		}
		return nil, err
	}
	return c, nil
}

type dialFunc func() (net.Conn, error)

func (f dialFunc) Dial() (net.Conn, error) { return f() }

func dialerOf(u *url.URL) (socket.Dialer, error) {
	_, transport, _ := strings.Cut(u.Scheme, "+")
	if transport == "" && u.Host != "" {
		transport = "tls"
	}
	q := u.Query()
	switch transport {
	case "", "unix":
		var o []dialers.LocalOption
		if s := q.Get("socket"); s != "" {
			o = append(o, dialers.WithSocket(s))
		}
		return dialers.NewLocal(o...), nil
	case "tls":
		var o []dialers.TLSOption
		if p := u.Port(); p != "" {
			o = append(o, dialers.UseTLSPort(p))
		}
		if p := q.Get("pkipath"); p != "" {
			o = append(o, dialers.UsePKIPath(p))
		}
		return dialers.NewTLS(u.Hostname(), o...), nil
	case "ssh":
		me, err := user.Current()
		if err != nil {
			return nil, err
		}
		o := []dialers.SSHOption{dialers.WithSystemSSHDefaults(me)}
		if p := u.Port(); p != "" {
			o = append(o, dialers.UseSSHPort(p))
		}
		if name := u.User.Username(); name != "" {
			o = append(o, dialers.UseSSHUsername(name))
		}
		if s := q.Get("socket"); s != "" {
			o = append(o, dialers.WithRemoteSocket(s))
		}
		if f := q.Get("keyfile"); f != "" {
			o = append(o, dialers.UseKeyFile(f))
		}
		if f := q.Get("known_hosts"); f != "" {
			o = append(o, dialers.UseKnownHostsFile(f))
		}
		return dialers.NewSSH(u.Hostname(), o...), nil
	}
	return nil, fmt.Errorf("transport %q of %s is not known: use qemu:///system, qemu+tls:// or qemu+ssh://", transport,
		u.Redacted())
}

// inOrder hands libvirt's packets on in the order in which the client library
// understands them. libvirtd answers a call that opens a stream in one thread
// and sends the stream from another, so that now and then the first packets of
// a stream are on the line before the answer. They are told apart by the type
// in their header, which the library does not look at: it would take data for
// the answer, the answer for the end of the stream, and then wait for ever. So
// packets of a stream are held back here until the call of their serial number
// was answered.
//
// A packet is its length (4 bytes, with these), then program, version,
// procedure, type, serial and status (4 bytes each), then its payload, as
// libvirt's RPC protocol describes it.
type inOrder struct {
	net.Conn
	in       *bufio.Reader
	out      []byte              // what Read hands out next
	answered map[uint32]bool     // serials of streams
	held     map[uint32][][]byte // packets by serial
}

const (
	headerSize = 28
	largest    = 64 << 20 // bytes of a packet; libvirt sends at most 32 MiB

	typeReply  = 1
	typeStream = 3
	typeHole   = 6

	statusOK       = 0
	statusContinue = 2

	procUpload     = 208
	procDownload   = 209
	procScreenshot = 211
)

func newInOrder(c net.Conn) *inOrder {
	return &inOrder{
		Conn: c, in: bufio.NewReaderSize(c, 512<<10), answered: map[uint32]bool{},
		held: map[uint32][][]byte{},
	}
}

// Read is net.Conn's.
func (o *inOrder) Read(p []byte) (int, error) {
	for len(o.out) == 0 {
		if err := o.next(); err != nil {
			return 0, err
		}
	}
	n := copy(p, o.out)
	o.out = o.out[n:]
	return n, nil
}

func (o *inOrder) next() error {
	var length [4]byte
	if _, err := io.ReadFull(o.in, length[:]); err != nil {
		return err
	}
	size := binary.BigEndian.Uint32(length[:])
	if size < headerSize || size > largest {
		return errors.New("what came is no packet of libvirt's")
	}
	packet := make([]byte, size)
	copy(packet, length[:])
	if _, err := io.ReadFull(o.in, packet[4:]); err != nil {
		return err
	}
	word := func(n int) uint32 { return binary.BigEndian.Uint32(packet[4*n:]) }
	procedure, kind, serial, status := word(3), word(4), word(5), word(6)
	switch {
	case kind == typeReply && (procedure == procUpload || procedure == procDownload || procedure == procScreenshot):
		if status == statusOK { // else no stream follows
			o.answered[serial] = true
		}
		o.out = packet
		for _, p := range o.held[serial] {
			o.out = append(o.out, p...)
		}
		delete(o.held, serial)
	case (kind == typeStream || kind == typeHole) && !o.answered[serial]:
		o.held[serial] = append(o.held[serial], packet)
	default:
		if kind == typeStream && (status != statusContinue || size == headerSize) {
			delete(o.answered, serial) // its end
		}
		o.out = packet
	}
	return nil
}
