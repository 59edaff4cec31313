package gateway

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"strings"

	"mintbatch/internal/core/secret"
)

// CertificateError says that a gateway's certificate is signed by nobody whom
// this system trusts, and is not the one that the setup names.
type CertificateError struct {
	Fingerprint string // what the gateway showed
	Named       string // what the setup names; may be empty
}

// Error tells what to compare and what to write.
func (e *CertificateError) Error() string {
	if e.Named != "" {
		return fmt.Sprintf("its certificate has the fingerprint %s, the setup names %s; if the certificate was renewed, compare it at the gateway and write that line anew: `fingerprint: %s`",
			e.Fingerprint, e.Named, e.Fingerprint)
	}
	return fmt.Sprintf("no authority that this system trusts has signed its certificate; compare its fingerprint at the gateway and, if it is right, add to the site in the setup: `fingerprint: %s`", e.Fingerprint)
}

// transport trusts the certificate with the fingerprint and no other, or, when
// none is named, what the system's authorities have signed.
func transport(host, fingerprint string) *http.Transport {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.MaxIdleConnsPerHost = 64
	t.TLSClientConfig = &tls.Config{
		MinVersion: tls.VersionTLS12,
		// Verified below instead, so that the error can say what to do.
		InsecureSkipVerify: true,
		VerifyConnection: func(c tls.ConnectionState) error {
			shown := secret.Fingerprint(c.PeerCertificates[0].Raw)
			if fingerprint != "" {
				if normal(fingerprint) != normal(shown) {
					return &CertificateError{Fingerprint: shown, Named: fingerprint}
				}
				return nil
			}
			between := x509.NewCertPool()
			for _, cert := range c.PeerCertificates[1:] {
				between.AddCert(cert)
			}
			_, err := c.PeerCertificates[0].Verify(x509.VerifyOptions{DNSName: host, Intermediates: between})
			if err != nil {
				return &CertificateError{Fingerprint: shown}
			}
			return nil
		},
	}
	return t
}

// normal lets a fingerprint be written with colons and in either case.
func normal(s string) string {
	s = strings.ToLower(s)
	s = strings.TrimPrefix(strings.TrimPrefix(s, "sha256:"), "sha-256:")
	return strings.ReplaceAll(s, ":", "")
}
