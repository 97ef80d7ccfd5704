package libvirt

import (
	"encoding/binary"
	"io"
	"net"
	"net/url"
	"testing"

	"github.com/stretchr/testify/require"
)

func packet(procedure, kind, serial, status uint32, payload string) []byte {
	p := make([]byte, headerSize, headerSize+len(payload))
	for n, word := range []uint32{uint32(headerSize + len(payload)), 0x20008086, 1, procedure, kind, serial, status} {
		binary.BigEndian.PutUint32(p[4*n:], word)
	}
	return append(p, payload...)
}

// TestPacketsComeInOrder has libvirtd send the data of a stream before the
// answer to the call that opened it.
func TestPacketsComeInOrder(t *testing.T) {
	t.Parallel()
	for _, procedure := range []uint32{procUpload, procDownload, procScreenshot} {
		packetsComeInOrder(t, procedure)
	}
}

func packetsComeInOrder(t *testing.T, procedure uint32) {
	t.Helper()
	reply := packet(procedure, typeReply, 7, statusOK, "")
	data := packet(procedure, typeStream, 7, statusContinue, "tides")
	end := packet(procedure, typeStream, 7, statusContinue, "")
	other := packet(1, typeReply, 8, statusOK, "another call's answer")
	// A serial number that is used again, by a call that fails.
	failed := packet(procedure, typeReply, 7, 1, "no such volume")

	here, there := net.Pipe()
	go func() {
		for _, p := range [][]byte{data, other, end, reply, reply[:10], reply[10:], data, end, failed} {
			_, _ = there.Write(p)
		}
		there.Close()
	}()
	got, err := io.ReadAll(newInOrder(here))
	require.NoError(t, err)
	var want []byte
	for _, p := range [][]byte{other, reply, data, end, reply, data, end, failed} {
		want = append(want, p...)
	}
	require.Equal(t, want, got)
}

func TestWhatIsNoPacketIsSaid(t *testing.T) {
	t.Parallel()
	here, there := net.Pipe()
	go func() {
		_, _ = there.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n and some more to fill a header"))
		there.Close()
	}()
	_, err := io.ReadAll(newInOrder(here))
	require.ErrorContains(t, err, "no packet of libvirt's")
}

func TestAddresses(t *testing.T) {
	t.Parallel()
	for address, good := range map[string]bool{
		"qemu:///system": true, "qemu+unix:///session?socket=/run/x": true, "qemu://hv-1/system": true,
		"qemu+tls://hv-1:16514/system?pkipath=/etc/pki":                             true,
		"qemu+ssh://panes@hv-1:2222/system?keyfile=/k&known_hosts=/h&socket=/run/x": true,
		"qemu+tcp://hv-1/system":                                                    false,
		"qemu+pigeon://hv-1/system":                                                 false,
	} {
		u, err := url.Parse(address)
		require.NoError(t, err)
		_, err = dialerOf(u)
		require.Equal(t, good, err == nil, "%s: %v", address, err)
	}
}
