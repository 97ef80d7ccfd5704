package depot

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
)

// Certificates are those that a hypervisor and the service show each other for
// libvirt over TLS, which depots take as well: there is nothing else to issue.
type Certificates struct {
	// Folder has cacert.pem and, for each role, its certificate and key; where libvirt has them if not given.
	Folder string
}

func (c Certificates) pair(role string) (*tls.Certificate, error) {
	cert, key := "/etc/pki/libvirt/", "/etc/pki/libvirt/private/"
	if c.Folder != "" {
		cert, key = c.Folder, c.Folder
	}
	pair, err := tls.LoadX509KeyPair(filepath.Join(cert, role+"cert.pem"), filepath.Join(key, role+"key.pem"))
	if err != nil {
		return nil, fmt.Errorf("the %s's certificate: %w", role, err)
	}
	return &pair, nil
}

func (c Certificates) authority() (*x509.CertPool, error) {
	file := "/etc/pki/CA/cacert.pem"
	if c.Folder != "" {
		file = filepath.Join(c.Folder, "cacert.pem")
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the authority's certificate: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("the authority's certificate: %s has none", file)
	}
	return pool, nil
}

// Client is how depots are asked. The certificate is read whenever it is shown, so that a new one is taken at once.
func (c Certificates) Client() (*tls.Config, error) {
	pool, err := c.authority()
	if err != nil {
		return nil, err
	}
	return &tls.Config{
		MinVersion: tls.VersionTLS12, RootCAs: pool,
		GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return c.pair("client") },
	}, nil
}

// Server is how a depot answers those whose certificates are of the authority and, if names are given, of one of them.
func (c Certificates) Server(names []string) (*tls.Config, error) {
	pool, err := c.authority()
	if err != nil {
		return nil, err
	}
	if _, err := c.pair("server"); err != nil {
		return nil, err
	}
	return &tls.Config{
		MinVersion: tls.VersionTLS12, ClientCAs: pool, ClientAuth: tls.RequireAndVerifyClientCert,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return c.pair("server") },
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(names) > 0 && !slices.Contains(names, s.PeerCertificates[0].Subject.CommonName) {
				return errors.New("the certificate is of " + s.PeerCertificates[0].Subject.CommonName +
					", who is not let in here")
			}
			return nil
		},
	}, nil
}
