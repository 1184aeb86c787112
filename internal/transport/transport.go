// Package transport knows how this program calls others over HTTP: whose certificates it trusts, and where a token may go.
package transport

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"net/http"
)

// New is a transport that trusts certificates (PEM) beside the system's; nil for none.
func New(certificates []byte) (*http.Transport, error) {
	roots, err := rootsWith(certificates)
	if err != nil {
		return nil, err
	}
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.TLSClientConfig = &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}
	return t, nil
}

func rootsWith(certificates []byte) (*x509.CertPool, error) {
	if certificates == nil {
		return nil, nil
	}
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	if !roots.AppendCertsFromPEM(certificates) {
		return nil, errors.New("there is no certificate in the file of --ca: it holds PEM, as in -----BEGIN CERTIFICATE-----")
	}
	return roots, nil
}

// IsLoopback reports whether a host is this machine, so that what goes there isn't seen by others.
func IsLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
