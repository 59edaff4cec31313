// Package announce tells other systems by HTTP what has become of machines.
package announce

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
	"unicode"

	"mintbatch/internal/core/notice"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/pinned"
)

// Options are what is to be known of a receiver.
type Options struct {
	Form        notice.Form
	Method      string
	ContentType string
	Headers     map[string]string
	Fingerprint secret.Fingerprint // of its certificate
	// Token, or Login and Password, are sent along; Sign is the key of the signature. Each may be empty.
	Token, Login, Password, Sign string
	Patience                     time.Duration
}

// Receiver is a system that is told of events.
type Receiver struct{ Options }

// ErrSilent means that there was no answer.
var ErrSilent = errors.New("no answer")

// ErrRefused means that a receiver has answered, and does not take the notice.
var ErrRefused = errors.New("the receiver answers")

// mostAnswer is how long an answer may be.
const mostAnswer = 1 << 20

// Tell sends an event and returns the answer. A notice that was sent before has the same key again.
func (r *Receiver) Tell(ctx context.Context, e notice.Envelope) ([]byte, error) {
	u, err := r.Form.Address(e)
	if err != nil {
		return nil, err
	}
	body, err := r.Form.Content(e)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, r.Patience)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, r.Method, u.String(), bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Content-Type", r.ContentType)
	request.Header.Set(notice.KeyHeader, e.ID)
	for name, value := range r.Headers {
		request.Header.Set(name, value)
	}
	switch {
	case r.Token != "":
		request.Header.Set("Authorization", "Bearer "+r.Token)
	case r.Login != "":
		request.SetBasicAuth(r.Login, r.Password)
	}
	if r.Sign != "" {
		request.Header.Set(notice.SignatureHeader, notice.Signature(r.Sign, e.ID, body))
	}
	client := &http.Client{Transport: pinned.Transport(u.Hostname(), r.Fingerprint), CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	defer client.CloseIdleConnections()
	response, err := client.Do(request)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSilent, err)
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(response.Body, mostAnswer+1))
	switch {
	case response.StatusCode < 200 || response.StatusCode > 299:
		return nil, fmt.Errorf("%w %s%s", ErrRefused, response.Status, r.excerpt(answer))
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrSilent, err)
	case len(answer) > mostAnswer:
		return nil, fmt.Errorf("%w with more than 1 MiB", ErrRefused)
	}
	return answer, nil
}

// excerpt is the beginning of an answer, without what must not be shown.
func (r *Receiver) excerpt(answer []byte) string {
	const most = 160
	text := string(answer[:min(len(answer), 4*most)])
	var problem struct{ Detail string }
	if json.Unmarshal(answer, &problem) == nil && problem.Detail != "" { // RFC 9457
		text = problem.Detail[:min(len(problem.Detail), 4*most)]
	}
	for _, s := range []string{r.Token, r.Password, r.Sign} {
		if s != "" {
			text = strings.ReplaceAll(text, s, "(hidden)")
		}
	}
	text = strings.Join(strings.FieldsFunc(text, func(c rune) bool { return unicode.IsSpace(c) || !unicode.IsPrint(c) }), " ")
	if runes := []rune(text); len(runes) > most {
		text = string(runes[:most]) + "..."
	}
	if text == "" {
		return ""
	}
	return ": " + text
}
