// Package tlstest signs certificates for tests.
package tlstest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// Authority signs certificates.
type Authority struct {
	dir  string
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

// New makes an authority, whose own certificate is the file authority.
func New(t *testing.T) *Authority {
	t.Helper()
	a := &Authority{dir: t.TempDir()}
	a.cert, a.key = a.Sign(t, "authority", nil)
	return a
}

// File is where the certificate of a name is, KeyFile where its key.
func (a *Authority) File(name string) string { return filepath.Join(a.dir, name+".pem") }

// KeyFile is where the key of a name is.
func (a *Authority) KeyFile(name string) string {
	return filepath.Join(a.dir, name+"-key.pem")
}

// Sign writes NAME.pem and NAME-key.pem for names and addresses.
func (a *Authority) Sign(t *testing.T, name string, hosts []string) (*x509.Certificate, *ecdsa.PrivateKey) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	serial, _ := rand.Int(rand.Reader, big.NewInt(1<<62))
	c := &x509.Certificate{
		SerialNumber: serial,
		Subject:      pkix.Name{CommonName: name},
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().Add(time.Hour),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}
	for _, h := range hosts {
		if ip := net.ParseIP(h); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else {
			c.DNSNames = append(c.DNSNames, h)
		}
	}
	parent, by := a.cert, a.key
	if parent == nil {
		c.IsCA, c.BasicConstraintsValid, c.KeyUsage = true, true, x509.KeyUsageCertSign
		parent, by = c, key
	}
	raw, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, by)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	// The key first: a service may look at any moment.
	if err := os.WriteFile(a.KeyFile(name), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret}),
		0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(a.File(name), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}),
		0o600); err != nil {
		t.Fatal(err)
	}
	signed, err := x509.ParseCertificate(raw)
	if err != nil {
		t.Fatal(err)
	}
	return signed, key
}

// Trusting is a client that trusts the authority.
func (a *Authority) Trusting(more *tls.Config) *http.Client {
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	more.RootCAs = pool
	return &http.Client{
		Timeout:   time.Minute,
		Transport: &http.Transport{TLSClientConfig: more, DisableKeepAlives: true},
	}
}
