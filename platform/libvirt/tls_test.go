package libvirt

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/platform"
	"nimblepane/platform/libvirt/locald"
)

// authority issues certificates for a test.
type authority struct {
	*testing.T
	dir  string
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

func (a *authority) write(name, kind string, content []byte) {
	require.NoError(a, os.WriteFile(filepath.Join(a.dir, name),
		pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: content}), 0o644))
}

// issue writes NAMEcert.pem and NAMEkey.pem, where libvirt's names for them are.
func (a *authority) issue(name string, serial int64, usage x509.ExtKeyUsage) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(a, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment, ExtKeyUsage: []x509.ExtKeyUsage{usage},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	issuer, signer := a.cert, a.key
	if issuer == nil {
		template.IsCA, template.BasicConstraintsValid, template.KeyUsage, template.ExtKeyUsage = true, true,
			x509.KeyUsageCertSign, nil
		issuer, signer, a.key = template, key, key
	}
	der, err := x509.CreateCertificate(rand.Reader, template, issuer, &key.PublicKey, signer)
	require.NoError(a, err)
	if a.cert == nil {
		a.cert, err = x509.ParseCertificate(der)
		require.NoError(a, err)
	}
	a.write(name+"cert.pem", "CERTIFICATE", der)
	private, err := x509.MarshalECPrivateKey(key)
	require.NoError(a, err)
	a.write(name+"key.pem", "EC PRIVATE KEY", private)
}

// TestAHypervisorOverTLS has both sides show certificates, and turns away who has none of the authority's.
func TestAHypervisorOverTLS(t *testing.T) {
	t.Parallel()
	hv := server(t)
	pki := filepath.Join(hv.Dir, "pki")
	require.NoError(t, os.Mkdir(pki, 0o755))
	ca := &authority{T: t, dir: pki}
	ca.issue("ca", 1, x509.ExtKeyUsageAny)
	ca.issue("server", 2, x509.ExtKeyUsageServerAuth)
	ca.issue("client", 3, x509.ExtKeyUsageClientAuth)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := listener.Addr().(*net.TCPAddr).Port
	listener.Close()
	settings := filepath.Join(hv.Dir, "libvirtd.conf")
	require.NoError(t, os.WriteFile(settings, fmt.Appendf(nil,
		"listen_tls = 1\nlisten_tcp = 0\nlisten_addr = \"127.0.0.1\"\ntls_port = \"%d\"\nkey_file = "+
			"\"%[2]s/serverkey.pem\"\ncert_file = \"%[2]s/servercert.pem\"\nca_file = \"%[2]s/cacert.pem\"\n", port,
		pki),
		0o644))
	require.NoError(t, hv.Own(hv.Dir))
	hv.Kill()
	hv.Args = []string{"--listen", "--config", settings}
	require.NoError(t, hv.Run(t.Context()))

	e := locald.Site("far-quay", hv)
	e.Hypervisors[0].Address = fmt.Sprintf("qemu+tls://127.0.0.1:%d/session?pkipath=%s", port, url.QueryEscape(pki))
	far := site(t, e)
	nodes, err := far.Nodes(t.Context())
	require.NoError(t, err)
	require.Empty(t, nodes[0].Unreachable)
	require.Equal(t, hv.Pool, nodes[0].StoragePath)
	emptyDisk(t, hv, "blank.qcow2", "1M")
	require.NoError(t, far.Create(t.Context(), platform.BuildSpec{
		Name: "bm", MachineClass: "standard",
		BaseDisk: "blank.qcow2", Base: "disk blank.qcow2",
	}))

	other := &authority{T: t, dir: t.TempDir()}
	other.issue("ca", 1, x509.ExtKeyUsageAny)
	other.issue("client", 2, x509.ExtKeyUsageClientAuth)
	e.Hypervisors[0].Address = fmt.Sprintf("qemu+tls://127.0.0.1:%d/session?pkipath=%s", port,
		url.QueryEscape(other.dir))
	nodes, err = site(t, e).Nodes(t.Context())
	require.NoError(t, err)
	require.Contains(t, nodes[0].Unreachable, "certificate")
}
