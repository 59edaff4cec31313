// Package book reserves addresses in an address book of others, by the API of docs/address-book.yaml.
package book

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/enrol"
	"mintbatch/internal/pinned"
)

// Options are what is to be known of an address book.
type Options struct {
	URL         *url.URL
	Token       string
	Fingerprint secret.Fingerprint // of its certificate
}

// Book is an address book.
type Book struct {
	Options
	client *http.Client
}

// New returns an address book; nothing is sent to it yet.
func New(o Options) *Book {
	return &Book{o, &http.Client{Timeout: patience, Transport: pinned.Transport(o.URL.Hostname(), o.Fingerprint), CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// patience is how long an answer is waited for, and mostAnswer how long it may be.
const (
	patience   = 20 * time.Second
	mostAnswer = 64 << 20
)

// Reserved is an address that is taken.
type Reserved struct {
	Address netip.Addr `json:"address"`
	ID      string     `json:"id"` // of whoever has it
	Name    string     `json:"name,omitempty"`
}

// errNone means that the book has nothing of an address.
var errNone = errors.New("not reserved")

// call makes a request.
func (b *Book) call(ctx context.Context, method, path string, body, into any) error {
	var content io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		content = bytes.NewReader(text)
	}
	request, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(b.URL.String(), "/")+"/v1/addresses"+path, content)
	if err != nil {
		return err
	}
	if b.Token != "" {
		request.Header.Set("Authorization", "Bearer "+b.Token)
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	response, err := b.client.Do(request)
	if err != nil {
		return fmt.Errorf("%w: %w", enrol.ErrUnreachable, err)
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(response.Body, mostAnswer+1))
	switch status := response.StatusCode; {
	case err != nil:
		return fmt.Errorf("%w: %w", enrol.ErrUnreachable, err)
	case status == http.StatusNotFound:
		return errNone
	case status >= 500, len(answer) > mostAnswer:
		return fmt.Errorf("%w: it answers %s", enrol.ErrUnreachable, response.Status)
	case status == http.StatusConflict:
		return errTaken
	case status < 200 || status > 299:
		return fmt.Errorf("%w: it answers %s", enrol.ErrRefused, response.Status)
	case into == nil:
		return nil
	}
	if err := json.Unmarshal(answer, into); err != nil {
		return fmt.Errorf("%w: its answer is not that of an address book: %w", enrol.ErrUnreachable, err)
	}
	return nil
}

// errTaken means that somebody else has an address by now.
var errTaken = errors.New("taken")

// List returns all addresses that are taken.
func (b *Book) List(ctx context.Context) ([]Reserved, error) {
	var all struct {
		Addresses *[]Reserved `json:"addresses"`
	}
	err := b.call(ctx, http.MethodGet, "", nil, &all)
	if err == nil && all.Addresses == nil {
		err = fmt.Errorf("%w: its answer lacks the addresses", enrol.ErrUnreachable)
	}
	if errors.Is(err, errNone) {
		err = fmt.Errorf("%w: there is no address book at %s", enrol.ErrRefused, b.URL)
	}
	if err != nil {
		return nil, err
	}
	return *all.Addresses, nil
}

// Look implements enrol.System; names are addresses.
func (b *Book) Look(ctx context.Context, names []string) ([]entry.Seen, error) {
	all := make([]entry.Seen, len(names))
	for i, name := range names {
		seen, err := b.look(ctx, name)
		if err != nil {
			return nil, err
		}
		all[i] = seen
	}
	return all, nil
}

func (b *Book) look(ctx context.Context, name string) (entry.Seen, error) {
	var r Reserved
	seen := entry.Seen{Name: name}
	err := b.call(ctx, http.MethodGet, "/"+url.PathEscape(name), nil, &r)
	if errors.Is(err, errNone) {
		return seen, nil
	}
	if err == nil && r.Address.String() != name {
		err = fmt.Errorf("%w: asked for %s it answers with %s", enrol.ErrUnreachable, name, r.Address)
	}
	if err != nil {
		return seen, err
	}
	seen.Values = []string{r.Name}
	if _, is := entry.ParseOwner(r.ID); is {
		seen.Owner = r.ID
	}
	return seen, nil
}

// mostLooked is how often an address is looked at that changes meanwhile.
const mostLooked = 3

// Change implements enrol.System.
func (b *Book) Change(ctx context.Context, c entry.Change) error {
	path := "/" + url.PathEscape(c.Name)
	for range mostLooked {
		seen, err := b.look(ctx, c.Name)
		if err != nil {
			return err
		}
		verdict, err := c.Judge(seen)
		if err != nil || verdict == entry.Nothing {
			return err
		}
		own := c.Owner.String()
		switch {
		case len(c.Want) == 0, verdict == entry.Update && seen.Owner != own: // it has another id now
			err = b.call(ctx, http.MethodDelete, path+"?id="+url.QueryEscape(seen.Owner), nil, nil)
			if errors.Is(err, errNone) {
				err = nil
			}
			if err == nil && len(c.Want) > 0 {
				err = b.call(ctx, http.MethodPut, path, map[string]string{"id": own, "name": c.Want[0]}, nil)
			}
		default:
			err = b.call(ctx, http.MethodPut, path, map[string]string{"id": own, "name": c.Want[0]}, nil)
		}
		if errors.Is(err, errNone) {
			return fmt.Errorf("%s: %w: it is none of its addresses", c.Name, enrol.ErrRefused)
		}
		if !errors.Is(err, errTaken) {
			return err
		}
	}
	return &entry.Foreign{Name: c.Name, Has: "somebody has just reserved it"}
}
