package kerberos

import (
	"encoding/hex"
	"errors"
	"fmt"
	"sync"

	krbgss "github.com/go-ldap/ldap/v3/gssapi"
	"github.com/jcmturner/gofork/encoding/asn1"
	"github.com/jcmturner/gokrb5/v8/gssapi"
	"github.com/jcmturner/gokrb5/v8/iana/flags"
	"github.com/jcmturner/gokrb5/v8/iana/keyusage"
	"github.com/jcmturner/gokrb5/v8/spnego"
	"github.com/jcmturner/gokrb5/v8/types"
	"github.com/miekg/dns"
)

// Context is a security context with a server, which signs messages. It is a dns.TsigProvider (RFC 3645).
type Context struct {
	mu   sync.Mutex
	key  types.EncryptionKey
	sent uint64
}

// Agree establishes a context with a service, such as DNS/dc1.brackwater.example; send takes a token there and returns the answer.
func (l *Login) Agree(service string, send func(token []byte) ([]byte, error)) (*Context, error) {
	made := &Context{}
	return made, l.Use(func(c *krbgss.Client) error {
		ticket, _, err := c.InitSecContextWithOptions(service, nil, []int{flags.APOptionMutualRequired})
		if err != nil {
			return fmt.Errorf("a ticket for %s: %w", service, err)
		}
		wrapped := spnego.SPNEGOToken{Init: true, NegTokenInit: spnego.NegTokenInit{MechTypes: []asn1.ObjectIdentifier{gssapi.OIDKRB5.OID()}, MechTokenBytes: ticket}}
		token, err := wrapped.Marshal()
		if err != nil {
			return err
		}
		answer, err := send(token)
		if err != nil {
			return err
		}
		var reply spnego.SPNEGOToken
		if err := reply.Unmarshal(answer); err != nil || reply.Init {
			return errors.Join(errors.New("the server's token cannot be read"), err)
		}
		if _, _, err := c.InitSecContext(service, reply.NegTokenResp.ResponseToken); err != nil {
			return fmt.Errorf("the server's token: %w", err)
		}
		if len(c.Subkey.KeyValue) == 0 {
			return errors.New("the server has agreed on no key")
		}
		made.key = c.Subkey
		return nil
	})
}

// Generate implements dns.TsigProvider.
func (c *Context) Generate(message []byte, _ *dns.TSIG) ([]byte, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	token := gssapi.MICToken{Flags: gssapi.MICTokenFlagAcceptorSubkey, SndSeqNum: c.sent, Payload: message}
	if err := token.SetChecksum(c.key, keyusage.GSSAPI_INITIATOR_SIGN); err != nil {
		return nil, err
	}
	c.sent++
	return token.Marshal()
}

// Verify implements dns.TsigProvider.
func (c *Context) Verify(message []byte, t *dns.TSIG) error {
	mac, err := hex.DecodeString(t.MAC)
	if err != nil {
		return err
	}
	var token gssapi.MICToken
	if err := token.Unmarshal(mac, true); err != nil {
		return fmt.Errorf("%w: %w", dns.ErrSig, err)
	}
	token.Payload = message
	if ok, _ := token.Verify(c.key, keyusage.GSSAPI_ACCEPTOR_SIGN); ok {
		return nil
	}
	return dns.ErrSig
}
