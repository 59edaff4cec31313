// Package pinned connects by HTTPS to servers of which the certificate is known by its fingerprint, or signed by an
// authority of the system.
package pinned

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/secret"
)

// CertificateError says that a server's certificate is signed by nobody whom
// this system trusts, and is not the one that the setup names.
type CertificateError struct {
	Fingerprint secret.Fingerprint // what the server showed
	Named       secret.Fingerprint // what the setup names; may be empty
}

// Error reports what to compare and what to write.
func (e *CertificateError) Error() string {
	if !e.Named.IsZero() {
		return fmt.Sprintf("its certificate has the fingerprint %s, but the setup has %s; if the certificate was renewed, compare the fingerprint at the server and change the setup: `fingerprint: %s`",
			e.Fingerprint, e.Named, e.Fingerprint)
	}
	return fmt.Sprintf("its certificate is not signed by a trusted authority; compare its fingerprint at the server and, if it matches, add to the setup, beside the url: `fingerprint: %s`", e.Fingerprint)
}

// Transport trusts the certificate with the fingerprint and no other, or, when
// none is named, what the system's authorities have signed.
func Transport(host string, fingerprint secret.Fingerprint) *http.Transport {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.MaxIdleConnsPerHost = 64
	t.TLSClientConfig = &tls.Config{
		MinVersion: tls.VersionTLS12,
		// Verified below instead, so that the error can say what to do.
		InsecureSkipVerify: true,
		VerifyConnection: func(c tls.ConnectionState) error {
			shown := secret.FingerprintOf(c.PeerCertificates[0].Raw)
			if !fingerprint.IsZero() {
				if fingerprint != shown {
					return &CertificateError{Fingerprint: shown, Named: fingerprint}
				}
				return nil
			}
			between := x509.NewCertPool()
			for _, cert := range c.PeerCertificates[1:] {
				between.AddCert(cert)
			}
			_, err := c.PeerCertificates[0].Verify(x509.VerifyOptions{DNSName: host, Intermediates: between})
			var invalid x509.CertificateInvalidError
			var otherHost x509.HostnameError
			switch {
			case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
				return fmt.Errorf("%w: valid from %s to %s, and the local time is %s", ErrExpired, day(c.PeerCertificates[0].NotBefore), day(c.PeerCertificates[0].NotAfter), day(time.Now()))
			case errors.As(err, &otherHost):
				return fmt.Errorf("%w %q: it is for %s", ErrHost, host, strings.Join(named(c.PeerCertificates[0]), ", "))
			case err != nil:
				return &CertificateError{Fingerprint: shown}
			}
			return nil
		},
	}
	return t
}

// What is wrong with a certificate that an authority has signed.
var (
	ErrExpired = errors.New("its certificate has expired, or is not valid yet")
	ErrHost    = errors.New("its certificate is not for the host")
)

func day(t time.Time) string { return t.UTC().Format(time.DateOnly) }

// named lists whom a certificate is for.
func named(c *x509.Certificate) []string {
	all := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		all = append(all, ip.String())
	}
	return all
}
