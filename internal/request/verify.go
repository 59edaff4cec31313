package request

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/emersion/go-msgauth/authres"
	"github.com/emersion/go-msgauth/dkim"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/mail"
	"mintbatch/internal/core/setup"
)

// mostSignatures is how many signatures of a message are looked at.
const mostSignatures = 5

// verified reports whether a message is from whom it says: by the verdict of a mail server that the setup trusts, or by a signature of
// their domain (DKIM, RFC 6376). An error means that this could not be found out now.
func verified(ctx context.Context, s setup.RequestSource, m *mail.Message, raw []byte) (bool, error) {
	_, domain, _ := strings.Cut(m.From, "@")
	if s.Unverified == machine.SwitchOn || s.Trust != "" && trusted(s.Trust, m, domain) {
		return true, nil
	}
	if s.DKIM != machine.SwitchOn {
		return false, nil
	}
	options := &dkim.VerifyOptions{MaxVerifications: mostSignatures, LookupTXT: func(name string) ([]string, error) { return resolver(s).LookupTXT(ctx, name) }}
	signatures, err := dkim.VerifyWithOptions(bytes.NewReader(wire(raw)), options)
	for _, signature := range signatures {
		switch {
		case !aligned(signature.Domain, domain):
		case signature.Err == nil && (signature.Expiration.IsZero() || time.Now().Before(signature.Expiration)):
			return true, nil
		case dkim.IsTempFail(signature.Err):
			return false, fmt.Errorf("the signature of %s cannot be checked: %w", domain, signature.Err)
		}
	}
	if err != nil && dkim.IsTempFail(err) {
		return false, err
	}
	return false, nil
}

func resolver(s setup.RequestSource) *net.Resolver {
	if !s.Resolver.IsValid() {
		return net.DefaultResolver
	}
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, s.Resolver.String())
	}}
}

// aligned reports whether a domain that has signed may do so for a sender's: it is the same, or one above it.
func aligned(signing, sender string) bool {
	signing, sender = strings.ToLower(strings.TrimSuffix(signing, ".")), strings.ToLower(sender)
	return signing != "" && strings.Contains(signing, ".") && (sender == signing || strings.HasSuffix(sender, "."+signing))
}

// trusted reports whether the first verdict of a server in a message is that it is from its sender's domain (RFC 8601). A server takes
// out those that others have written in its name (section 5), so that its own is the only one.
func trusted(server string, m *mail.Message, domain string) bool {
	for _, value := range m.Header.Values("Authentication-Results") {
		id, results, err := authres.Parse(value)
		id, _, _ = strings.Cut(id, " ") // a version may follow
		if err != nil || !strings.EqualFold(id, server) {
			continue
		}
		for _, result := range results {
			switch r := result.(type) {
			case *authres.DKIMResult:
				if r.Value == authres.ResultPass && aligned(r.Domain, domain) {
					return true
				}
			case *authres.DMARCResult:
				if r.Value == authres.ResultPass && aligned(r.From, domain) {
					return true
				}
			}
		}
		return false
	}
	return false
}

// wire writes a message with the line ends that it had on its way.
func wire(raw []byte) []byte {
	return bytes.ReplaceAll(bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n")), []byte("\n"), []byte("\r\n"))
}
