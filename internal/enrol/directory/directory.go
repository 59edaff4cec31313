// Package directory enters machines into a directory server by LDAP (RFC 4511). One attribute of an entry has the mark of whose it
// is.
package directory

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/go-ldap/ldap/v3/gssapi"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/enrol"
	"mintbatch/internal/enrol/kerberos"
	"mintbatch/internal/pinned"
)

// Options are what is to be known of a server.
type Options struct {
	URL         *url.URL // ldaps, or ldap with StartTLS
	Fingerprint secret.Fingerprint
	Login       string // a distinguished name, or a domain's NAME@DOMAIN; empty for none
	Password    string
	Kerberos    *kerberos.Login // instead of both; nil for none
	Attributes  []string        // that are entered
	Mark        string          // the attribute with the mark
}

// Server is a directory server.
type Server struct {
	Options

	mu   sync.Mutex
	link *ldap.Conn
}

// patience is how long an answer is waited for.
const patience = 10 * time.Second

// New returns a server; nothing is sent to it yet.
func New(o Options) *Server { return &Server{Options: o} }

// Close closes the connection.
func (s *Server) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.link != nil {
		_ = s.link.Close()
		s.link = nil
	}
}

// connected returns the connection, which several may use at the same time.
func (s *Server) connected() (*ldap.Conn, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.link != nil && !s.link.IsClosing() {
		return s.link, nil
	}
	security := pinned.Transport(s.URL.Hostname(), s.Fingerprint).TLSClientConfig
	c, err := ldap.DialURL(s.URL.String(), ldap.DialWithTLSConfig(security), ldap.DialWithDialer(&net.Dialer{Timeout: patience}))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", enrol.ErrUnreachable, err)
	}
	c.SetTimeout(patience)
	if s.URL.Scheme == "ldap" {
		err = c.StartTLS(security)
	}
	switch {
	case err != nil:
	case s.Kerberos != nil:
		err = s.Kerberos.Use(func(client *gssapi.Client) error {
			return c.GSSAPIBind(client, "ldap/"+cmp.Or(s.Kerberos.Host, s.URL.Hostname()), "")
		})
	case s.Login != "":
		err = c.Bind(s.Login, s.Password)
	}
	if err != nil {
		_ = c.Close()
		return nil, s.explain(err)
	}
	s.link = c
	return c, nil
}

// explain says whether an error is a word of the server, or the lack of one.
func (s *Server) explain(err error) error {
	var word *ldap.Error
	switch {
	case errors.Is(err, enrol.ErrUnreachable) || errors.Is(err, enrol.ErrRefused):
		return err
	case !errors.As(err, &word), word.ResultCode >= ldap.ErrorNetwork, word.ResultCode == ldap.LDAPResultBusy, word.ResultCode == ldap.LDAPResultUnavailable:
		return fmt.Errorf("%w: %w", enrol.ErrUnreachable, err)
	}
	return fmt.Errorf("%w: the server answers %s%s", enrol.ErrRefused, ldap.LDAPResultCodeMap[word.ResultCode], said(word))
}

func said(word *ldap.Error) string {
	if word.Err == nil || word.Err.Error() == "" {
		return ""
	}
	return " (" + word.Err.Error() + ")"
}

// Look implements enrol.System.
func (s *Server) Look(ctx context.Context, names []string) ([]entry.Seen, error) {
	return s.each(ctx, names, func(c *ldap.Conn, name string) (entry.Seen, error) { return s.look(c, name, s.Attributes) })
}

// each looks at names one after the other.
func (s *Server) each(ctx context.Context, names []string, look func(*ldap.Conn, string) (entry.Seen, error)) ([]entry.Seen, error) {
	all := make([]entry.Seen, len(names))
	for i, name := range names {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		c, err := s.connected()
		if err == nil {
			all[i], err = look(c, name)
		}
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (s *Server) look(c *ldap.Conn, name string, attributes []string) (entry.Seen, error) {
	seen := entry.Seen{Name: name}
	found, err := c.Search(ldap.NewSearchRequest(name, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, int(patience/time.Second), false, "(objectClass=*)", append(slices.Clone(attributes), s.Mark), nil))
	if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
		return seen, nil
	}
	if err != nil {
		return seen, s.explain(err)
	}
	for _, e := range found.Entries {
		for _, a := range attributes {
			for _, v := range e.GetEqualFoldAttributeValues(a) {
				seen.Values = append(seen.Values, a+": "+v)
			}
		}
		seen.Owner = s.ownerOf(e)
		if len(seen.Values) == 0 { // it is there all the same
			seen.Values = []string{"an entry without them"}
		}
	}
	return seen, nil
}

// ownerOf is the mark of an entry; empty if it has none.
func (s *Server) ownerOf(e *ldap.Entry) (mark string) {
	for _, v := range e.GetEqualFoldAttributeValues(s.Mark) {
		if _, is := entry.ParseOwner(v); is {
			mark = v
		}
	}
	return mark
}

// Change implements enrol.System.
func (s *Server) Change(ctx context.Context, change entry.Change) error {
	return s.settle(ctx, change, func(c *ldap.Conn) (entry.Seen, error) { return s.look(c, change.Name, s.attributesOf(change)) }, func(c *ldap.Conn, verdict entry.Verdict, seen entry.Seen) error {
		switch {
		case verdict == entry.Enter:
			return c.Add(s.addition(change))
		case len(change.Want) == 0:
			return c.Del(ldap.NewDelRequest(change.Name, nil))
		}
		return s.modify(c, change, seen)
	})
}

// attributesOf are those that a change is about: what is entered now, and what was, but for some.
func (s *Server) attributesOf(change entry.Change, but ...string) []string {
	all := slices.Clone(s.Attributes)
	for name := range byAttribute(change.Had) {
		if !slices.Contains(but, name) && !slices.ContainsFunc(all, func(a string) bool { return strings.EqualFold(a, name) }) {
			all = append(all, name)
		}
	}
	return all
}

// mostLooked is how often a name is looked at that changes meanwhile.
const mostLooked = 3

// settle looks at a name, lets the change be judged, and makes it; again, if the name has changed meanwhile.
func (s *Server) settle(ctx context.Context, change entry.Change, look func(*ldap.Conn) (entry.Seen, error), do func(*ldap.Conn, entry.Verdict, entry.Seen) error) error {
	var last error
	for range mostLooked {
		if err := ctx.Err(); err != nil {
			return err
		}
		c, err := s.connected()
		if err != nil {
			return err
		}
		seen, err := look(c)
		if err != nil {
			return err
		}
		verdict, err := change.Judge(seen)
		if err != nil || verdict == entry.Nothing {
			return err
		}
		if last = do(c, verdict, seen); last == nil {
			return nil
		}
		if !ldap.IsErrorAnyOf(last, ldap.LDAPResultEntryAlreadyExists, ldap.LDAPResultNoSuchObject, ldap.LDAPResultNoSuchAttribute, ldap.LDAPResultAttributeOrValueExists) {
			break // else it has changed meanwhile
		}
	}
	return fmt.Errorf("%s: %w", change.Name, s.explain(last))
}

func (s *Server) addition(c entry.Change) *ldap.AddRequest {
	add := ldap.NewAddRequest(c.Name, nil)
	for name, values := range byAttribute(c.Want) {
		add.Attribute(name, values)
	}
	add.Attribute(s.Mark, []string{c.Owner.String()})
	return add
}

// modify brings an entry of ours in line. What others have added to it stays.
func (s *Server) modify(c *ldap.Conn, change entry.Change, seen entry.Seen) error {
	has := func(v string) bool { return slices.Contains(seen.Values, v) }
	gone := slices.DeleteFunc(change.Gone(), func(v string) bool { return !has(v) })
	missing := slices.DeleteFunc(slices.Clone(change.Want), has)
	m := ldap.NewModifyRequest(change.Name, nil)
	for name, values := range byAttribute(gone) {
		m.Delete(name, values)
	}
	for name, values := range byAttribute(missing) {
		m.Add(name, values)
	}
	if seen.Owner != change.Owner.String() {
		m.Delete(s.Mark, []string{seen.Owner})
		m.Add(s.Mark, []string{change.Owner.String()})
	}
	if len(m.Changes) == 0 {
		return nil
	}
	return c.Modify(m)
}

func byAttribute(values []string) map[string][]string {
	all := map[string][]string{}
	for _, v := range values {
		name, value, _ := strings.Cut(v, ": ")
		all[name] = append(all[name], value)
	}
	return all
}
