// Package around opens the systems around the machines of a setup, each once.
package around

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"mintbatch/internal/announce"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/enrol"
	"mintbatch/internal/enrol/book"
	"mintbatch/internal/enrol/directory"
	"mintbatch/internal/enrol/dns"
	"mintbatch/internal/enrol/kerberos"
	"mintbatch/internal/input"
	"mintbatch/internal/vault"
)

// Systems are those of a setup.
type Systems struct {
	vault *vault.Vault

	mu     sync.Mutex
	opened map[string]enrol.System
}

// New returns the systems of a setup; none is opened yet.
func New(v *vault.Vault) *Systems { return &Systems{vault: v, opened: map[string]enrol.System{}} }

// Close closes the systems that were opened.
func (s *Systems) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, opened := range s.opened {
		if c, ok := opened.(interface{ Close() }); ok {
			c.Close()
		}
	}
}

// Use replaces a system, for tests.
func (s *Systems) Use(name string, by func(enrol.System) enrol.System) error {
	opened, err := s.System(name)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.opened[name] = by(opened)
	return nil
}

// ErrUnknown means that the setup does not have a system any more in which something was entered.
var ErrUnknown = errors.New("the setup has no such system any more: put it back, so that what was entered there can be taken out")

// System opens a system; nothing is sent to it yet.
func (s *Systems) System(name string) (enrol.System, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if opened, ok := s.opened[name]; ok {
		return opened, nil
	}
	var opened enrol.System
	var err error
	if d, is := s.vault.Setup.DNS[name]; is {
		opened, err = s.dns(d)
	} else if d, is := s.vault.Setup.Directory[name]; is {
		opened, err = s.directory(d)
	} else if b, is := s.vault.Setup.Books()[name]; is {
		opened, err = s.book(b)
	} else {
		err = ErrUnknown
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	s.opened[name] = opened
	return opened, nil
}

// usualPatience is how long the answer to a notice is waited for, where the setup does not say.
const usualPatience = 30 * time.Second

// Receiver opens the receiver of a notice.
func (s *Systems) Receiver(name string) (*announce.Receiver, map[string]string, error) {
	n, is := s.vault.Setup.Notices[name]
	if !is {
		return nil, nil, fmt.Errorf("the setup has no notice %s any more: put it back, or drop what is waiting for it", name)
	}
	o := announce.Options{Form: n.Form(), Method: string(cmp.Or(n.Method, "POST")), ContentType: n.Kind(), Headers: n.Headers, Fingerprint: n.Fingerprint, Login: n.Login, Patience: cmp.Or(n.Timeout, usualPatience)}
	for _, r := range []struct {
		from setup.Reference
		to   *string
		what string
	}{{n.Token, &o.Token, "token"}, {n.Password, &o.Password, "password"}, {n.Sign, &o.Sign, "key"}} {
		value, err := s.secret(r.what, r.from)
		if err != nil {
			return nil, nil, err
		}
		*r.to = value
	}
	return &announce.Receiver{Options: o}, n.Take, nil
}

// secret resolves what the setup says of a secret; what says what it is.
func (s *Systems) secret(what string, from setup.Reference) (string, error) {
	value, err := s.vault.Resolve(from)
	if err != nil {
		return "", fmt.Errorf("its %s: %w", what, err)
	}
	return strings.TrimSpace(value), nil
}

// usualTTL is how long others may keep what is entered, where the setup does not say.
const usualTTL = time.Hour

func (s *Systems) dns(d setup.DNS) (enrol.System, error) {
	o := dns.Options{Server: d.Server.AddrPort, Key: d.Key.Name, Algorithm: string(cmp.Or(d.Key.Algorithm, "hmac-sha256")), Zones: d.Zones, TTL: cmp.Or(d.TTL, usualTTL)}
	var err error
	if o.Kerberos, err = s.kerberos(d.Kerberos); err != nil {
		return nil, err
	}
	if o.Secret, err = s.secret("key", d.Key.Secret); err != nil {
		return nil, err
	}
	return dns.New(o), nil
}

func (s *Systems) directory(d setup.Directory) (enrol.System, error) {
	password, err := s.secret("password", d.Password)
	if err != nil {
		return nil, err
	}
	login, err := s.kerberos(d.Kerberos)
	if err != nil {
		return nil, err
	}
	o := directory.Options{URL: d.URL.URL, Fingerprint: d.Fingerprint, Login: d.Login, Password: password, Kerberos: login, Attributes: slices.Sorted(maps.Keys(d.Attributes)), Mark: d.MarkedBy()}
	if d.IsDomain() {
		return directory.NewDomain(o, d.Domain, d.Groups, directory.AtRetire{Keep: cmp.Or(d.AtRetire, setup.DeleteAccount) != setup.DeleteAccount, Unit: d.RetiredUnit}), nil
	}
	return directory.New(o), nil
}

// kerberos resolves a login of a realm; nil for none.
func (s *Systems) kerberos(k setup.Kerberos) (*kerberos.Login, error) {
	if k.IsZero() {
		return nil, nil
	}
	l := &kerberos.Login{Realm: k.Realm, Servers: k.Servers, Name: k.Login, Host: k.Host}
	if path, is := k.Keytab.File(); is {
		var err error
		path = s.vault.Path(path)
		if err = input.OwnOnly(path); err == nil {
			l.Keytab, err = os.ReadFile(path)
		}
		if err != nil {
			return nil, fmt.Errorf("its keytab: %w", err)
		}
		return l, nil
	}
	var err error
	l.Password, err = s.secret("password", k.Password)
	return l, err
}

func (s *Systems) book(b setup.Book) (enrol.System, error) {
	token, err := s.secret("token", b.Token)
	if err != nil {
		return nil, err
	}
	return book.New(book.Options{URL: b.URL.URL, Token: token, Fingerprint: b.Fingerprint}), nil
}

// Taken lists what is reserved in the address book of a pool.
func (s *Systems) Taken(ctx context.Context, pool string) ([]book.Reserved, error) {
	opened, err := s.System(pool)
	if err != nil {
		return nil, err
	}
	b, is := opened.(interface {
		List(context.Context) ([]book.Reserved, error)
	})
	if !is {
		return nil, nil
	}
	return b.List(ctx)
}
