package mailbox

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"mintbatch/internal/core/secret"
	"mintbatch/internal/pinned"
)

// Server is how a mail server is reached.
type Server struct {
	URL         *url.URL // smtp or smtps, imap or imaps; the former upgrade to TLS, unless the server is on this computer
	Login       string
	Password    string
	Fingerprint secret.Fingerprint
}

// ErrUnsure means that nobody knows whether a message was taken: the connection was lost at its end.
var ErrUnsure = errors.New("the connection was lost before the server said whether it has taken the message")

// address is that of a server, with the usual port of its scheme.
func (s Server) address() string {
	ports := map[string]string{"smtp": "587", "smtps": "465", "imap": "143", "imaps": "993"}
	port := s.URL.Port()
	if port == "" {
		port = ports[s.URL.Scheme]
	}
	return net.JoinHostPort(s.URL.Hostname(), port)
}

// bare reports whether a server need not offer TLS: it is on this computer, where nobody listens in between, and is not known by a
// certificate either.
func (s Server) bare() bool {
	host := s.URL.Hostname()
	ip := net.ParseIP(host)
	return s.Fingerprint.IsZero() && (host == "localhost" || ip != nil && ip.IsLoopback())
}

// tls is how its certificate is verified.
func (s Server) tls() *tls.Config {
	return pinned.Transport(s.URL.Hostname(), s.Fingerprint).TLSClientConfig
}

// Send hands a message to a server. Before it is complete, so that nobody can have taken it yet, commit says whether it is to be. What was
// refused is an error, and so is what may have been taken: ErrUnsure.
func Send(s Server, from string, to []string, raw []byte, commit func() error) error {
	c, err := s.smtp()
	if err != nil {
		return err
	}
	defer c.Close()
	c.CommandTimeout, c.SubmissionTimeout = time.Minute, 5*time.Minute
	if s.Login != "" {
		if err := c.Auth(sasl.NewPlainClient("", s.Login, s.Password)); err != nil {
			return fmt.Errorf("log in as %s: %w", s.Login, err)
		}
	}
	if err := c.Mail(from, nil); err != nil {
		return err
	}
	for _, address := range to {
		if err := c.Rcpt(address, nil); err != nil {
			return fmt.Errorf("%s: %w", address, err)
		}
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := bytes.NewReader(raw).WriteTo(w); err != nil {
		return err
	}
	if err := commit(); err != nil {
		return err
	}
	err = w.Close()
	var said *smtp.SMTPError
	if err != nil && !errors.As(err, &said) {
		return fmt.Errorf("%w (%w)", ErrUnsure, err)
	}
	if err == nil {
		_ = c.Quit() // it has been taken, whatever the server says to that
	}
	return err
}

// smtp connects.
func (s Server) smtp() (*smtp.Client, error) {
	switch {
	case s.URL.Scheme == "smtps":
		return smtp.DialTLS(s.address(), s.tls())
	case s.bare():
		return smtp.Dial(s.address())
	}
	return smtp.DialStartTLS(s.address(), s.tls())
}
