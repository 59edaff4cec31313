// Package kerberos logs in to a Kerberos realm (RFC 4120) for the systems around machines.
package kerberos

import (
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"

	"github.com/go-ldap/ldap/v3/gssapi"
	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/keytab"

	"mintbatch/internal/enrol"
)

// Login is one of a realm.
type Login struct {
	Realm    string
	Servers  []string // of the realm, with or without a port; empty: found by DNS
	Name     string
	Password string
	Keytab   []byte // instead of a password
	Host     string // the name that a server has in the realm; may be empty

	mu   sync.Mutex
	used *client.Client
}

// configuration is what krb5.conf would say. Requests go by TCP: tickets of Windows domains do not fit into one packet.
func (l *Login) configuration() (*config.Config, error) {
	realm := strings.ToUpper(l.Realm)
	text := fmt.Sprintf("[libdefaults]\n default_realm = %s\n dns_lookup_kdc = %t\n udp_preference_limit = 1\n rdns = false\n[realms]\n %[1]s = {\n", realm, len(l.Servers) == 0)
	for _, s := range l.Servers {
		if _, _, err := net.SplitHostPort(s); err != nil {
			s = net.JoinHostPort(strings.Trim(s, "[]"), "88")
		}
		text += "  kdc = " + s + "\n"
	}
	return config.NewFromString(text + " }\n")
}

// Use calls a function with a context that is not established yet.
func (l *Login) Use(do func(*gssapi.Client) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.used == nil {
		c, err := l.open()
		if err != nil {
			return err
		}
		l.used = c
	}
	return do(&gssapi.Client{Client: l.used})
}

func (l *Login) open() (*client.Client, error) {
	conf, err := l.configuration()
	if err != nil {
		return nil, err
	}
	realm := strings.ToUpper(l.Realm)
	var c *client.Client
	if l.Keytab != nil {
		keys := keytab.New()
		if err := keys.Unmarshal(l.Keytab); err != nil {
			return nil, fmt.Errorf("%w: the keytab cannot be read: %w", enrol.ErrRefused, err)
		}
		c = client.NewWithKeytab(l.Name, realm, keys, conf, client.DisablePAFXFAST(true))
	} else {
		c = client.NewWithPassword(l.Name, realm, l.Password, conf, client.DisablePAFXFAST(true))
	}
	if err := c.Login(); err != nil {
		var network net.Error
		if errors.As(err, &network) || strings.Contains(err.Error(), "Networking_Error") {
			return nil, fmt.Errorf("%w: log in to the realm %s: %w", enrol.ErrUnreachable, realm, err)
		}
		return nil, fmt.Errorf("%w: log in to the realm %s as %s: %w", enrol.ErrRefused, realm, l.Name, err)
	}
	return c, nil
}
