// Package gateway talks to any manager that offers the HTTP API which
// docs/gateway-api.yaml documents.
package gateway

import (
	"bytes"
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
	"time"

	"github.com/google/uuid"
	"github.com/hashicorp/go-retryablehttp"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/site"
)

// Options say which gateway to talk to, and how.
type Options struct {
	URL         string
	Token       string
	Fingerprint string // of its certificate; empty trusts the system's authorities
	// Retries is how often a call without an answer is made again; negative
	// means never.
	Retries int
	Logger  *slog.Logger
}

// Gateway is a site behind the gateway API.
type Gateway struct {
	base   string
	token  string
	client *retryablehttp.Client
}

// New prepares a gateway; nothing is sent yet.
func New(o Options) (*Gateway, error) {
	u, err := url.Parse(o.URL)
	if err != nil {
		return nil, err
	}
	client := retryablehttp.NewClient()
	client.HTTPClient = &http.Client{Transport: transport(u.Hostname(), o.Fingerprint), Timeout: 2 * time.Minute}
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
	return &Gateway{base: strings.TrimRight(o.URL, "/") + "/v1", token: o.Token, client: client}, nil
}

// retry says whether to make a call again. Every call of the API may be: the
// identity comes from us, so nothing is made twice. A wrong certificate stays
// wrong.
func retry(ctx context.Context, resp *http.Response, err error) (bool, error) {
	var unknown *CertificateError
	if errors.As(err, &unknown) {
		return false, err
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
	var raw any
	kind := "application/json"
	switch b := body.(type) {
	case nil:
	case []byte:
		raw, kind = b, "application/octet-stream"
	default:
		encoded, err := json.Marshal(b)
		if err != nil {
			return err
		}
		raw = encoded
	}
	req, err := retryablehttp.NewRequestWithContext(ctx, method, g.base+path, raw)
	if err != nil {
		return err
	}
	if body != nil {
		req.Header.Set("Content-Type", kind)
	}
	req.Header.Set("Authorization", "Bearer "+g.token)
	resp, err := g.client.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var unknown *CertificateError
		if errors.As(err, &unknown) {
			return fmt.Errorf("%w: %w", site.ErrUnreachable, unknown)
		}
		return fmt.Errorf("%w: %w", site.ErrUnreachable, bare(err))
	}
	defer resp.Body.Close()
	content, err := io.ReadAll(io.LimitReader(resp.Body, 1<<30))
	if err != nil {
		return fmt.Errorf("%w: %w", site.ErrUnreachable, bare(err))
	}
	if resp.StatusCode >= 300 {
		return refusal(resp, content)
	}
	if err := json.NewDecoder(bytes.NewReader(content)).Decode(into); err != nil {
		return fmt.Errorf("%w: its answer is not what the gateway API says: %w", site.ErrUnreachable, err)
	}
	return nil
}

// bare takes the address and method off an error of the HTTP library: what
// they are is said anyway.
func bare(err error) error {
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
	case resp.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%w: %s", site.ErrNotFound, text)
	case resp.StatusCode == http.StatusLocked:
		return fmt.Errorf("%w: %s", site.ErrDeaf, text)
	case resp.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("%w: it does not accept the token: %s", site.ErrUnreachable, text)
	case resp.StatusCode >= 500 || resp.StatusCode == http.StatusTooManyRequests:
		return fmt.Errorf("%w: it answers %s", site.ErrUnreachable, text)
	}
	return fmt.Errorf("%w: %s", site.ErrRefused, text)
}

func (g *Gateway) act(ctx context.Context, method string, id uuid.UUID, part string, body any) (survey.Task, error) {
	var t survey.Task
	err := g.call(ctx, method, "/machines/"+id.String()+part, body, &t)
	return t, err
}

// Survey implements site.Site.
func (g *Gateway) Survey(ctx context.Context) (*survey.Survey, error) {
	var s survey.Survey
	return &s, g.call(ctx, http.MethodGet, "/survey", nil, &s)
}

// Clone implements site.Site.
func (g *Gateway) Clone(ctx context.Context, o survey.CloneOrder) (survey.Task, error) {
	return g.act(ctx, http.MethodPut, o.Identity, "", o)
}

// Shape implements site.Site.
func (g *Gateway) Shape(ctx context.Context, id uuid.UUID, s machine.Shape, restart survey.Restart) (survey.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/shape"+query(restart), s)
}

// Wire implements site.Site.
func (g *Gateway) Wire(ctx context.Context, id uuid.UUID, adapters []machine.Adapter, restart survey.Restart) (survey.Task, error) {
	wires := make([]wire, len(adapters))
	for i, a := range adapters {
		wires[i] = wire{a.Network, a.MAC, a.VLAN, a.Model, a.Unplugged, a.Lease}
	}
	return g.act(ctx, http.MethodPut, id, "/adapters"+query(restart), wires)
}

func query(restart survey.Restart) string {
	if restart == survey.NoRestart {
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
func (g *Gateway) Seed(ctx context.Context, id uuid.UUID, image []byte) (survey.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/seed", image)
}

// Checkpoint implements site.Site.
func (g *Gateway) Checkpoint(ctx context.Context, id uuid.UUID, name string) (survey.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/checkpoints/"+url.PathEscape(name), nil)
}

// Record implements site.Site.
func (g *Gateway) Record(ctx context.Context, id uuid.UUID, mark survey.Mark) (survey.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/mark", mark)
}

// Power implements site.Site.
func (g *Gateway) Power(ctx context.Context, id uuid.UUID, power machine.Power) (survey.Task, error) {
	return g.act(ctx, http.MethodPut, id, "/power", map[string]machine.Power{"power": power})
}

// Machine implements site.Site.
func (g *Gateway) Machine(ctx context.Context, id uuid.UUID) (*survey.Machine, error) {
	var m survey.Machine
	return &m, g.call(ctx, http.MethodGet, "/machines/"+id.String(), nil, &m)
}

// Examine implements site.Site.
func (g *Gateway) Examine(ctx context.Context, id uuid.UUID, checks []survey.Check) ([]survey.Check, error) {
	var lacks []survey.Check
	return lacks, g.call(ctx, http.MethodPost, "/machines/"+id.String()+"/checks", checks, &lacks)
}

// Remove implements site.Site.
func (g *Gateway) Remove(ctx context.Context, id uuid.UUID, disks survey.Disks) (survey.Task, error) {
	query := ""
	if disks == survey.KeepDisks {
		query = "?disks=keep"
	}
	t, err := g.act(ctx, http.MethodDelete, id, query, nil)
	if errors.Is(err, site.ErrNotFound) {
		return survey.Task{State: survey.Done}, nil
	}
	return t, err
}

// Task implements site.Site.
func (g *Gateway) Task(ctx context.Context, id string) (survey.Task, error) {
	var t survey.Task
	err := g.call(ctx, http.MethodGet, "/tasks/"+url.PathEscape(id), nil, &t)
	return t, err
}
