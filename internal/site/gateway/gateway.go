// Package gateway talks to any manager that offers the HTTP API which
// docs/gateway-api.yaml documents.
package gateway

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/hashicorp/go-retryablehttp"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/pinned"
	"mintbatch/internal/site"
)

// Options say which gateway to talk to, and how.
type Options struct {
	URL         *url.URL
	Token       string
	Fingerprint secret.Fingerprint // of its certificate; empty trusts the system's authorities
	// Retries is how often a call without an answer is made again; negative
	// means never.
	Retries int
	// Limit is how long a call may take in all, with every time that it is made again;
	// 0 is three minutes.
	Limit  time.Duration
	Logger *slog.Logger
}

// Gateway is a site behind the gateway API.
type Gateway struct {
	base   string
	token  string
	client *retryablehttp.Client
	long   *retryablehttp.Client // for what is sent for as long as its caller lets it
	limit  time.Duration

	sideBySide atomic.Bool // by the last survey
	waits      atomic.Bool // it has waited with an answer
	noPoll     atomic.Bool // it is asked about each task by itself
	poller     poller
}

// New prepares a gateway; nothing is sent yet.
func New(o Options) *Gateway {
	client := retryablehttp.NewClient()
	client.HTTPClient = &http.Client{Transport: pinned.Transport(o.URL.Hostname(), o.Fingerprint), Timeout: answerLimit,
		// The token and the machines' answers are for the address in the setup alone.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	client.Backoff = backoff
	client.RetryMax = o.Retries
	if o.Retries == 0 {
		client.RetryMax = 5
	} else if o.Retries < 0 {
		client.RetryMax = 0
	}
	client.RetryWaitMin, client.RetryWaitMax = 100*time.Millisecond, 3*time.Second
	client.Logger = nil
	if o.Logger != nil {
		client.Logger = o.Logger
	}
	// The last answer is looked at like any other instead of being thrown away.
	client.ErrorHandler = retryablehttp.PassthroughErrorHandler
	client.CheckRetry = retry
	long := &retryablehttp.Client{HTTPClient: &http.Client{Transport: client.HTTPClient.Transport, CheckRedirect: client.HTTPClient.CheckRedirect}, Logger: client.Logger, RetryWaitMin: client.RetryWaitMin,
		RetryWaitMax: client.RetryWaitMax, RetryMax: client.RetryMax, CheckRetry: client.CheckRetry, Backoff: client.Backoff, ErrorHandler: client.ErrorHandler}
	return &Gateway{long: long, base: strings.TrimRight(o.URL.String(), "/") + "/v1", token: o.Token, client: client, limit: cmp.Or(o.Limit, callLimit)}
}

// callLimit is how long a call may take in all, if nothing else is said; answerLimit
// is how long one answer may take.
const (
	callLimit   = 3 * time.Minute
	answerLimit = 2 * time.Minute
)

// preference asks a gateway to answer for an act, a task or a guest's report once it is
// settled, or after so many seconds (RFC 7240, section 4.3). One that cannot wait answers
// at once.
var preference = fmt.Sprintf("wait=%d", site.Patience/time.Second)

// backoff waits longer each time, and at most a little longer than that where the
// gateway asks for it.
func backoff(least, most time.Duration, attempt int, resp *http.Response) time.Duration {
	return min(retryablehttp.DefaultBackoff(least, most, attempt, resp), 5*most)
}

// retry says whether to make a call again. Every call of the API may be: the
// identity comes from us, so nothing is made twice. A wrong certificate stays
// wrong.
func retry(ctx context.Context, resp *http.Response, err error) (bool, error) {
	var unknown *pinned.CertificateError
	if errors.As(err, &unknown) {
		return false, err
	}
	if resp != nil && resp.StatusCode == http.StatusInsufficientStorage { // which asking does not change
		return false, nil
	}
	return retryablehttp.DefaultRetryPolicy(ctx, resp, err)
}

// problem is an error answer (RFC 9457).
type problem struct {
	Title  string `json:"title"`
	Detail string `json:"detail"`
}

// call makes one call. The body is JSON unless it is bytes.
func (g *Gateway) call(ctx context.Context, method, path string, body, into any) error {
	_, content, err := g.exchange(ctx, method, path, body, nil)
	if err != nil {
		return err
	}
	if err := reasonable(content); err != nil {
		return errIncomplete(err)
	}
	if err := json.Unmarshal(content, into); err != nil {
		return errIncomplete(err)
	}
	return nil
}

// exchange makes one call, with further headers, and returns what was answered.
func (g *Gateway) exchange(ctx context.Context, method, path string, body any, headers map[string]string) (http.Header, []byte, error) {
	var raw any
	kind, length := "application/json", int64(0)
	switch b := body.(type) {
	case nil:
	case []byte:
		raw, kind = b, "application/octet-stream"
	case contract.Image:
		kind, length = "application/octet-stream", b.Size
		raw = retryablehttp.ReaderFunc(func() (io.Reader, error) { return written(b), nil })
	default:
		encoded, err := json.Marshal(b)
		if err != nil {
			return nil, nil, err
		}
		raw = encoded
	}
	limited, cancel, client := ctx, func() {}, g.long
	if length == 0 { // what is long takes as long as its caller lets it
		client = g.client
		limited, cancel = context.WithTimeout(ctx, g.limit)
	}
	defer cancel()
	req, err := retryablehttp.NewRequestWithContext(limited, method, g.base+path, raw)
	if err != nil {
		return nil, nil, err
	}
	if body != nil {
		req.Header.Set("Content-Type", kind)
	}
	if length > 0 {
		req.ContentLength = length
	}
	req.Header.Set("Authorization", "Bearer "+g.token)
	if path != surveyPath && path != specsPath && path != pollPath && headers == nil {
		req.Header.Set("Prefer", preference)
	}
	for name, value := range headers {
		req.Header.Set(name, value)
	}
	resp, err := client.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if limited.Err() != nil {
			return nil, nil, fmt.Errorf("%w: no answer within %s", site.ErrUnreachable, g.limit)
		}
		var unknown *pinned.CertificateError
		if errors.As(err, &unknown) {
			return nil, nil, fmt.Errorf("%w: %w", site.ErrUnreachable, unknown)
		}
		return nil, nil, fmt.Errorf("%w: %w", site.ErrUnreachable, withoutControls(err))
	}
	defer resp.Body.Close()
	if resp.Header.Get("Preference-Applied") != "" {
		g.waits.Store(true)
	}
	content, err := io.ReadAll(io.LimitReader(resp.Body, mostAnswer+1))
	switch {
	case ctx.Err() != nil:
		return nil, nil, ctx.Err()
	case err != nil:
		return nil, nil, fmt.Errorf("%w: the connection was lost in the middle of an answer: %w", site.ErrUnreachable, withoutControls(err))
	case len(content) > mostAnswer:
		return nil, nil, errIncomplete(fmt.Errorf("more than %d MiB", mostAnswer>>20))
	}
	if resp.StatusCode >= 300 {
		return nil, nil, refusal(resp, content)
	}
	return resp.Header, content, nil
}

// written is what an image writes, to be read.
func written(image contract.Image) io.Reader {
	r, w := io.Pipe()
	go func() { w.CloseWithError(image.WriteTo(w)) }()
	return r
}

// withoutControls takes the address and method off an error of the HTTP library: what
// they are is said anyway.
func withoutControls(err error) error {
	var outer *url.Error
	for errors.As(err, &outer) {
		err = outer.Err
	}
	return err
}

func refusal(resp *http.Response, content []byte) error {
	var p problem
	text := resp.Status
	if json.Unmarshal(content, &p) == nil && p.Detail != "" {
		text = p.Detail
	}
	switch {
	case resp.StatusCode < 400:
		return fmt.Errorf("%w: it redirects to %q, which is not followed; if that is the gateway, write this address in the setup", site.ErrUnreachable, resp.Header.Get("Location"))
	case resp.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%w: %s", site.ErrNotFound, text)
	case resp.StatusCode == http.StatusInsufficientStorage:
		return fmt.Errorf("%w: %s", site.ErrFull, text)
	case resp.StatusCode == http.StatusLocked:
		return fmt.Errorf("%w: %s", site.ErrNoShutdown, text)
	case resp.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("%w: it does not accept the token: %s", site.ErrUnreachable, text)
	case resp.StatusCode >= 500 || resp.StatusCode == http.StatusTooManyRequests:
		return fmt.Errorf("%w: it answers %s", site.ErrUnreachable, text)
	}
	return fmt.Errorf("%w: %s", site.ErrRefused, text)
}

func (g *Gateway) act(ctx context.Context, method string, id uuid.UUID, part string, body any) (contract.Task, error) {
	var t contract.Task
	err := g.call(ctx, method, "/machines/"+id.String()+part, body, &t)
	return requireFields(t, err)
}

const (
	surveyPath = "/survey?specs=no"
	specsPath  = "/specs"
)

// Survey implements site.Site.
func (g *Gateway) Survey(ctx context.Context) (*contract.Survey, error) {
	var s wholeSurvey
	if err := g.call(ctx, http.MethodGet, surveyPath, nil, &s); err != nil {
		return nil, err
	}
	answer, err := s.survey()
	if err != nil {
		return nil, errIncomplete(err)
	}
	g.sideBySide.Store(answer.SideBySide)
	return answer, nil
}

// Specs implements site.SpecSource. A gateway that has no such call has told them in its survey.
func (g *Gateway) Specs(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]*machine.Spec, error) {
	var specs map[uuid.UUID]*machine.Spec
	err := g.call(ctx, http.MethodPost, specsPath, ids, &specs)
	if errors.Is(err, site.ErrNotFound) || errors.Is(err, site.ErrRefused) { // such as 405
		return nil, nil
	}
	return specs, err
}

// SideBySide implements site.Concurrent.
func (g *Gateway) SideBySide() bool { return g.sideBySide.Load() }

// Clone implements site.Site.
func (g *Gateway) Clone(ctx context.Context, o contract.CloneOrder) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, o.Identity, "", o)
}

// Shape implements site.Site.
func (g *Gateway) Shape(ctx context.Context, id uuid.UUID, s machine.Shape, restart contract.Restart) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/shape"+query(restart), s)
}

// Wire implements site.Site.
func (g *Gateway) Wire(ctx context.Context, id uuid.UUID, adapters []machine.Card, restart contract.Restart) (contract.Task, error) {
	wires := make([]wire, len(adapters))
	for i, a := range adapters {
		wires[i] = wire{a.Network, a.MAC, a.VLAN, a.Model, a.Unplugged, a.Lease}
	}
	return g.act(ctx, http.MethodPut, id, "/adapters"+query(restart), wires)
}

func query(restart contract.Restart) string {
	if restart == contract.NoRestart {
		return "?restart=no"
	}
	return ""
}

// wire is all that a site has to know of an adapter; the rest is the guest's.
type wire struct {
	Network string `json:"network"`
	MAC     string `json:"mac"`
	VLAN    int    `json:"vlan,omitempty"`
	Model   string `json:"model,omitempty"`
	// Unplugged means that it is there, and its cable is not.
	Unplugged bool `json:"unplugged,omitempty"`
	// Lease is the address that the network's DHCP server is to keep for it.
	Lease netip.Prefix `json:"lease,omitzero"`
}

// Seed implements site.Site.
func (g *Gateway) Seed(ctx context.Context, id uuid.UUID, image []byte) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/seed", image)
}

// Checkpoint implements site.Site.
func (g *Gateway) Checkpoint(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/checkpoints/"+url.PathEscape(name), nil)
}

// Restore implements site.Site.
func (g *Gateway) Restore(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/state", map[string]string{"checkpoint": name})
}

// Drop implements site.Site.
func (g *Gateway) Drop(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	t, err := g.act(ctx, http.MethodDelete, id, "/checkpoints/"+url.PathEscape(name), nil)
	if errors.Is(err, site.ErrNotFound) {
		return contract.Task{State: contract.Done}, nil
	}
	return t, err
}

// Detach implements site.Site.
func (g *Gateway) Detach(ctx context.Context, id uuid.UUID) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/kind", map[string]machine.CloneKind{"kind": machine.Full})
}

// Record implements site.Site.
func (g *Gateway) Record(ctx context.Context, id uuid.UUID, mark contract.Mark) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/mark", mark)
}

// Insert implements site.Site.
func (g *Gateway) Insert(ctx context.Context, id uuid.UUID, image string) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/media", map[string]string{"image": image})
}

// Carry implements site.Site.
func (g *Gateway) Carry(ctx context.Context, id uuid.UUID, image contract.Image) (contract.Task, error) {
	if image.WriteTo == nil {
		return g.act(ctx, http.MethodPut, id, "/carry", []byte{})
	}
	return g.act(ctx, http.MethodPut, id, "/carry", image)
}

// Rename implements site.Site.
func (g *Gateway) Rename(ctx context.Context, id uuid.UUID, name string, mark contract.Mark, restart contract.Restart) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/name"+query(restart), struct {
		Name string        `json:"name"`
		Mark contract.Mark `json:"mark"`
	}{name, mark})
}

// TellName implements site.Teller.
func (g *Gateway) TellName(ctx context.Context, id uuid.UUID, hostname, fqdn string) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/guest-name", map[string]string{"hostname": hostname, "fqdn": fqdn})
}

// Power implements site.Site.
func (g *Gateway) Power(ctx context.Context, id uuid.UUID, power machine.Power) (contract.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/power", map[string]machine.Power{"power": power})
}

// Machine implements site.Site.
func (g *Gateway) Machine(ctx context.Context, id uuid.UUID) (*contract.Machine, error) {
	return g.machine(ctx, id, "")
}

// AwaitReport implements site.Reporter.
func (g *Gateway) AwaitReport(ctx context.Context, id uuid.UUID) (*contract.Machine, error) {
	if g.together() {
		if m, told, err := g.pollMachine(ctx, id); told {
			return m, err
		}
	}
	return g.machine(ctx, id, "?await=report")
}

func (g *Gateway) machine(ctx context.Context, id uuid.UUID, query string) (*contract.Machine, error) {
	var w wholeMachine
	if err := g.call(ctx, http.MethodGet, "/machines/"+id.String()+query, nil, &w); err != nil {
		return nil, err
	}
	return w.of(id)
}

// Examine implements site.Site.
func (g *Gateway) Examine(ctx context.Context, id uuid.UUID, checks []contract.Check) ([]contract.Check, error) {
	var lacks []contract.Check
	return lacks, g.call(ctx, http.MethodPost, "/machines/"+id.String()+"/checks", checks, &lacks)
}

// Remove implements site.Site.
func (g *Gateway) Remove(ctx context.Context, id uuid.UUID, disks contract.Disks) (contract.Task, error) {
	query := ""
	if disks != contract.DeleteDisks {
		query = "?disks=" + string(disks)
	}
	t, err := g.act(ctx, http.MethodDelete, id, query, nil)
	if errors.Is(err, site.ErrNotFound) {
		return contract.Task{State: contract.Done}, nil
	}
	return t, err
}

// Task implements site.Site.
func (g *Gateway) Task(ctx context.Context, id string) (contract.Task, error) {
	if g.together() {
		if t, told, err := g.pollTask(ctx, id); told {
			return t, err
		}
	}
	var t contract.Task
	err := g.call(ctx, http.MethodGet, "/tasks/"+url.PathEscape(id), nil, &t)
	return requireFields(t, err)
}
