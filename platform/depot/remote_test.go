//go:build linux

package depot_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/blocks"
	"nimblepane/platform"
	"nimblepane/platform/depot"
)

// certificates issues those of a server and a client by an authority of their own.
func certificates(t *testing.T) depot.Certificates {
	t.Helper()
	dir := t.TempDir()
	write := func(name, kind string, der []byte) {
		text := pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
	}
	var authority *x509.Certificate
	var signer *ecdsa.PrivateKey
	for i, name := range []string{"ca", "server", "client"} {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		is := &x509.Certificate{
			SerialNumber: big.NewInt(int64(i + 1)), Subject: pkix.Name{CommonName: name + ".example"},
			NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
			KeyUsage:    x509.KeyUsageDigitalSignature,
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
			IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		}
		by, with := authority, signer
		if name == "ca" {
			is.IsCA, is.BasicConstraintsValid, is.KeyUsage, is.ExtKeyUsage = true, true, x509.KeyUsageCertSign, nil
			by, with, signer = is, key, key
		}
		der, err := x509.CreateCertificate(rand.Reader, is, by, &key.PublicKey, with)
		require.NoError(t, err)
		if name == "ca" {
			authority, err = x509.ParseCertificate(der)
			require.NoError(t, err)
		}
		private, err := x509.MarshalECPrivateKey(key)
		require.NoError(t, err)
		write(name+"cert.pem", "CERTIFICATE", der)
		write(name+"key.pem", "EC PRIVATE KEY", private)
	}
	return depot.Certificates{Folder: dir}
}

// serve serves a depot on loopback, and returns where.
func serve(t *testing.T, d depot.Depot, c depot.Certificates, names ...string) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- depot.Serve(ctx, l, d, c, names, slog.New(slog.DiscardHandler)) }()
	t.Cleanup(func() {
		stop()
		require.NoError(t, <-ended)
	})
	return "https://" + l.Addr().String()
}

func dial(t *testing.T, address string, c depot.Certificates) *depot.Remote {
	t.Helper()
	conf, err := c.Client()
	require.NoError(t, err)
	d := depot.Dial(address, conf)
	t.Cleanup(d.Close)
	return d
}

func TestADepotFarAwayIsSentWhatItLacks(t *testing.T) {
	t.Parallel()
	old, updated := update()
	there, here, c := newSite(t), newSite(t), certificates(t)
	there.has(t, "old", old)
	here.has(t, "new", updated)
	far := dial(t, serve(t, there, c), c)
	got, err := deliver(t.Context(), here, far, updated, "old")
	require.NoError(t, err)
	there.requireCopy(t, updated)
	require.Equal(t, 160*kib64, got.There)
	require.Equal(t, 3*kib64+1000, got.Sent)
	require.Less(t, got.Line, got.Lacking+1000)

	// And from there.
	back := newSite(t)
	require.NoError(t, os.Rename(there.file("copy.qcow2"), there.file("new.qcow2")))
	got, err = deliver(t.Context(), far, back, updated)
	require.NoError(t, err)
	back.requireCopy(t, updated)
	require.Equal(t, int64(len(updated))-20*kib64, got.Sent)
	require.NoError(t, far.Remove(t.Context(), "new"))
	require.NoFileExists(t, there.file("new.qcow2"))
	_, err = deliver(t.Context(), far, newSite(t), updated)
	var refusal *platform.Refusal
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, `there is no disk "new"`)
}

// proxy leads to an address, and breaks every connection once so many bytes went through it in a direction.
func proxy(t *testing.T, to string, bytes int64) (address string, connections *atomic.Int32) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	connections = &atomic.Int32{}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to[len("https://"):])
			if err != nil {
				in.Close()
				continue
			}
			connections.Add(1)
			pass := func(w, r net.Conn) {
				_, _ = io.CopyN(w, r, bytes)
				in.Close()
				out.Close()
			}
			go pass(out, in)
			go pass(in, out)
		}
	}()
	return "https://" + l.Addr().String(), connections
}

// TestADepotBehindALineThatBreaksGetsItsCopy has a line that never lasts for a tenth of the copy: only what goes on
// where it was gets through.
func TestADepotBehindALineThatBreaksGetsItsCopy(t *testing.T) {
	t.Parallel()
	content := noise(1, 500)
	there, here, c := newSite(t), newSite(t), certificates(t)
	here.has(t, "new", content)
	address, connections := proxy(t, serve(t, there, c), 3<<20)
	_, err := deliver(t.Context(), here, dial(t, address, c), content)
	require.NoError(t, err)
	there.requireCopy(t, content)
	require.Greater(t, connections.Load(), int32(10))

	// And the line that it comes from.
	there = newSite(t)
	address, connections = proxy(t, serve(t, here, c), 3<<20)
	_, err = deliver(t.Context(), dial(t, address, c), there, content)
	require.NoError(t, err)
	there.requireCopy(t, content)
	require.Greater(t, connections.Load(), int32(10))
}

// TestDepotsOfASiteAskEachOther has the second copy of a site come from its first, not from where that came from.
func TestDepotsOfASiteAskEachOther(t *testing.T) {
	t.Parallel()
	content := noise(1, 50)
	first, second, c := newSite(t), newSite(t), certificates(t)
	first.has(t, "new", content)
	one, other := dial(t, serve(t, first, c), c), dial(t, serve(t, second, c), c)
	got, err := deliver(t.Context(), one, other, content)
	require.NoError(t, err)
	second.requireCopy(t, content)
	require.Equal(t, int64(len(content)), got.Sent)
	require.Zero(t, got.Line, "nothing came through who asked for it")

	// What the first cannot give is said.
	f, err := os.OpenFile(first.file("new.qcow2"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{1}, 3*kib64)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, second.Remove(t.Context(), "copy"))
	_, err = deliver(t.Context(), one, other, content)
	var refusal *platform.Refusal
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, "its block 3 is not what it was")
}

func TestWhatGoesWrongInADepotFarAwayIsSaid(t *testing.T) {
	t.Parallel()
	content := noise(1, 50)
	there, here, c := newSite(t), newSite(t), certificates(t)
	here.has(t, "new", content)
	far := dial(t, serve(t, there, c), c)
	from := &wrong{Depot: here, sends: func(_ int, w io.Writer) io.Writer { return &flip{w, 20} }}
	_, err := deliver(t.Context(), from, far, content)
	var refusal *platform.Refusal
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, "something between the sites changes what is sent")

	_, err = far.Lacks(t.Context(), "copy", []blocks.Run{{First: 40, Count: 100}})
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, "does not have these blocks")
	err = far.Finish(t.Context(), "never-begun", func(int) {})
	require.ErrorContains(t, err, "was not begun")
	_, err = far.Begin(t.Context(), depot.Coming{Copy: "../x"}, &blocks.Map{Block: blocks.Size}, func(int) {})
	require.ErrorAs(t, err, &refusal)

	// A disk that is found changed while it is sent.
	f, err := os.OpenFile(here.file("new.qcow2"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{1}, 45*kib64)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = deliver(t.Context(), dial(t, serve(t, here, c), c), newSite(t), content)
	require.ErrorAs(t, err, &refusal)
	require.ErrorContains(t, err, "its block 45 is not what it was")
}

func TestStrangersAreNotAnswered(t *testing.T) {
	t.Parallel()
	s, c := newSite(t), certificates(t)
	address := serve(t, s, c)
	require.NoError(t, dial(t, address, c).Remove(t.Context(), "x"))
	require.Error(t, dial(t, address, certificates(t)).Remove(t.Context(), "x"), "of another authority")
	require.Error(t, dial(t, serve(t, s, c, "someone-else"), c).Remove(t.Context(), "x"))
	require.NoError(t, dial(t, serve(t, s, c, "client.example"), c).Remove(t.Context(), "x"))
	conf, err := c.Client()
	require.NoError(t, err)
	conf.GetClientCertificate = nil
	require.Error(t, depot.Dial(address, conf).Remove(t.Context(), "x"), "without a certificate")
	require.ErrorContains(t, depot.Dial("https://127.0.0.1:1", conf).Remove(t.Context(), "x"), "depot "+
		"https://127.0.0.1:1")

	for _, missing := range []string{"servercert.pem", "cacert.pem"} {
		require.NoError(t, os.Remove(filepath.Join(c.Folder, missing)))
		_, err = c.Server(nil)
		require.ErrorContains(t, err, missing)
	}
	_, err = c.Client()
	require.ErrorContains(t, err, "cacert.pem")
}

func TestADepotThatAnswersNonsenseIsNotBelieved(t *testing.T) {
	t.Parallel()
	content := noise(1, 4)
	here := newSite(t)
	here.has(t, "new", content)
	for _, answer := range []string{
		"", "hello", `{"percent":3}`, `{"done":{"lacking":[{"first":2,"count":9}]}}`,
		`{"failed":"the folder cannot be read"}`,
	} {
		s := httptest.NewTLSServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
			_, _ = io.WriteString(rw, answer)
		}))
		far := depot.Dial(s.URL, s.Client().Transport.(*http.Transport).TLSClientConfig)
		_, err := deliver(t.Context(), here, far, content)
		require.ErrorContains(t, err, "begin copy copy: depot https://127.0.0.1:", answer)
		_, err = far.Map(t.Context(), "new", digestOf(content), func(int) {})
		require.Error(t, err)
		far.Close()
		s.Close()
	}
}
