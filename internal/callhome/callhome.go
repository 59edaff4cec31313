// Package callhome listens for guests that report by themselves, for the time of a run.
package callhome

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/run"
)

// Take keeps what the guest reports that has the token of a digest; false if no guest is
// waited for that has it.
type Take func(ctx context.Context, digest string, report *contract.Report) (known bool, err error)

// Listener takes the calls of guests.
type Listener struct {
	server http.Server
	ended  chan struct{}
	// Address is where it listens.
	Address netip.AddrPort
}

// The limits of a call.
const (
	mostReport = 256 << 10
	callLimit  = 30 * time.Second
)

// Listen begins to listen. Whoever calls without a token that is waited for is answered by
// 403, and nothing of it is kept.
func Listen(address netip.AddrPort, take Take, log *slog.Logger) (*Listener, error) {
	listener, err := net.Listen("tcp", address.String())
	if err != nil {
		var outer *net.OpError
		if errors.As(err, &outer) {
			err = outer.Err
		}
		return nil, fmt.Errorf("cannot listen at %s for guests that call home: %w", address, err)
	}
	l := &Listener{ended: make(chan struct{}), Address: netip.MustParseAddrPort(listener.Addr().String())}
	mux := http.NewServeMux()
	mux.HandleFunc("POST "+run.CallPath+"{token}", func(w http.ResponseWriter, r *http.Request) {
		status, why := answer(w, r, take)
		if log != nil {
			log.Debug("call home", "from", r.RemoteAddr, "status", status, "error", why)
		}
		w.WriteHeader(status)
	})
	l.server = http.Server{Handler: mux, ReadTimeout: callLimit, WriteTimeout: callLimit, MaxHeaderBytes: 16 << 10, ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)}
	go func() {
		defer close(l.ended)
		_ = l.server.Serve(listener)
	}()
	return l, nil
}

// Close stops listening once the calls that have begun are answered.
func (l *Listener) Close() {
	limited, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if l.server.Shutdown(limited) != nil {
		_ = l.server.Close()
	}
	<-l.ended
}

func answer(w http.ResponseWriter, r *http.Request, take Take) (status int, why error) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostReport))
	if err != nil {
		return http.StatusRequestEntityTooLarge, err
	}
	report, err := Parse(r.Header.Get("Content-Type"), body)
	if err != nil {
		return http.StatusBadRequest, err
	}
	known, err := take(r.Context(), run.TokenDigest(r.PathValue("token")), report)
	switch {
	case err != nil:
		return http.StatusServiceUnavailable, err
	case !known:
		return http.StatusForbidden, errors.New("no guest with this token is waited for")
	}
	return http.StatusNoContent, nil
}

// Parse reads what a guest reports: a JSON document as our own scripts write it, or the form
// of cloud-init's module phone_home, which says no more than the names and the host key.
func Parse(kind string, body []byte) (*contract.Report, error) {
	kind, _, err := mime.ParseMediaType(kind)
	if err != nil {
		return nil, fmt.Errorf("what kind of report it is, is not said: %w", err)
	}
	report := &contract.Report{Finished: true}
	switch kind {
	case "application/json":
		if err := json.Unmarshal(body, report); err != nil {
			return nil, err
		}
		report.Finished, report.Partial = true, ""
	case "application/x-www-form-urlencoded":
		form, err := url.ParseQuery(string(body))
		if err != nil {
			return nil, err
		}
		name, _, _ := strings.Cut(form.Get("hostname"), ".")
		report.Hostname, report.FQDN, report.Instance = name, form.Get("fqdn"), form.Get("instance_id")
		if key := strings.Fields(form.Get("pub_key_ed25519")); len(key) > 1 {
			report.HostKey = key[0] + " " + key[1]
		}
		report.Partial = "it has told its names and host key only"
	default:
		return nil, fmt.Errorf("a report of the kind %q", kind)
	}
	if report.Hostname == "" {
		return nil, errors.New("the report has no host name")
	}
	return report, nil
}
