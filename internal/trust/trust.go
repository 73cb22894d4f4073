// Package trust reaches peers whose certificates an authority of one's own signed.
package trust

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/netip"
	"os"
)

// Transport holds the certificates of peers against those of a file, beside the system's;
// without a file against the system's alone.
func Transport(file string) (*http.Transport, error) {
	t := http.DefaultTransport.(*http.Transport).Clone()
	if file == "" {
		return t, nil
	}
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read certificates: %w", err)
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s holds no certificate", file)
	}
	t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return t, nil
}

// IsHere reports whether a host is this machine, which needs no TLS.
func IsHere(host string) bool {
	a, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && a.IsLoopback()
}
