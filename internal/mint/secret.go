package mint

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/run"
)

// ErrNoIdentity means that the setup names no identity file.
var ErrNoIdentity = errors.New("the setup names no identity file; add it under secrets: identity")

// ErrNoRecipients means that the setup names nobody to seal to.
var ErrNoRecipients = errors.New("the setup names no recipients; make a key with `mintbatch secret keygen` and add it under secrets: recipients")

// Password opens the sealed password of a machine.
func (s *Session) Password(ctx context.Context, name string) (string, error) {
	key, err := s.keyOf(ctx, name)
	if err != nil {
		return "", err
	}
	return s.unseal(ctx, key, run.SealedPassword)
}

// SetSecret seals a value to the setup's recipients under a name.
func (s *Session) SetSecret(ctx context.Context, name, value string) error {
	recipients, err := secret.ParseRecipients(s.Setup.Secrets.Recipients)
	if err != nil {
		return err
	}
	if len(recipients) == 0 {
		return ErrNoRecipients
	}
	sealed, err := recipients.Seal(value)
	if err != nil {
		return err
	}
	return s.Ledger.SetSecret(ctx, name, sealed)
}

// OpenSecret opens the sealed value of a name.
func (s *Session) OpenSecret(ctx context.Context, name string) (string, error) {
	return s.unseal(ctx, machine.Key{}, name)
}

func (s *Session) unseal(ctx context.Context, key machine.Key, name string) (string, error) {
	sealed, err := s.Ledger.Secret(ctx, key, name)
	if err != nil {
		return "", err
	}
	if s.Setup.Secrets.Identity == "" {
		return "", ErrNoIdentity
	}
	content, err := os.ReadFile(s.path(s.Setup.Secrets.Identity))
	if err != nil {
		return "", err
	}
	return secret.Open(string(content), sealed)
}

func (s *Session) keyOf(ctx context.Context, name string) (machine.Key, error) {
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return machine.Key{}, err
	}
	var all []string
	var found []machine.Key
	for _, k := range known {
		if k.Name == name || k.Key.String() == name {
			found = append(found, k.Key)
		}
		all = append(all, k.Name)
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		_, err = Matcher([]string{name}, all)
		return machine.Key{}, cmp.Or(err, fmt.Errorf("%w: %s", ErrNoMachine, name))
	}
	return machine.Key{}, fmt.Errorf("%w: %s is at several sites; write %s", ErrNoMachine, name, found[0])
}

// NewIdentity makes an identity file that only its owner can read, and returns
// the recipient to name in the setup. An existing file is left alone.
func NewIdentity(path string) (recipient string, err error) {
	content, recipient, err := secret.NewIdentity()
	if err != nil {
		return "", err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	_, err = f.WriteString(content)
	return recipient, errors.Join(err, f.Close())
}
