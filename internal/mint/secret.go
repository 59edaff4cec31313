package mint

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"sync"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
)

// ErrNoIdentity means that the setup names no identity file.
var ErrNoIdentity = errors.New("the setup names no identity file; add it under secrets: identity")

// ErrIdentity means that an identity file is not to be trusted.
var ErrIdentity = errors.New("the identity file is not safe")

// ErrNoRecipients means that the setup names nobody to seal to.
var ErrNoRecipients = errors.New("the setup names no recipients; make a key with `mintbatch secret keygen` and add it under secrets: recipients")

// sealing is what a run needs to make secrets and to keep them.
func (s *Session) sealing(ctx context.Context) (run.Sealing, error) {
	from := s.Setup.Secrets
	recipients, err := secret.ParseRecipients(from.Recipients)
	if err != nil {
		return run.Sealing{}, err
	}
	policy, err := secret.NewPolicy(from.Passwords.Length, from.Passwords.Classes)
	if err != nil {
		return run.Sealing{}, err
	}
	return run.Sealing{Recipients: recipients, Policy: policy,
		Open:      func(name string) (string, error) { return s.OpenSecret(ctx, name) },
		Authority: sync.OnceValues(s.authority)}, nil
}

// authority is who signs the guests' SSH host keys; nil if nobody does.
func (s *Session) authority() (*secret.Authority, error) {
	if s.Setup.Secrets.HostAuthority == "" {
		return nil, nil
	}
	private, err := s.resolve(s.Setup.Secrets.HostAuthority)
	if err != nil {
		return nil, fmt.Errorf("the SSH authority under secrets: host_authority: %w", err)
	}
	return secret.NewAuthority(private)
}

// Password opens the sealed password of one of a machine's logins; that of its
// row if none is named.
func (s *Session) Password(ctx context.Context, name, login string) (string, error) {
	m, err := s.knownOne(ctx, name)
	if err != nil {
		return "", err
	}
	for _, a := range m.Spec.Guest.Accounts() {
		if shared, is := a.Password.Shared(); is && (a.User == login || login == "" && a.Main) {
			return s.OpenSecret(ctx, shared)
		}
	}
	return s.unseal(ctx, m.Key, run.SealedPassword(m.Spec.Guest, login))
}

// Reseal seals everything anew, to those whom the setup names now, and returns
// how many values that were.
func (s *Session) Reseal(ctx context.Context) (int, error) {
	recipients, err := secret.ParseRecipients(s.Setup.Secrets.Recipients)
	if err != nil {
		return 0, err
	}
	if len(recipients) == 0 {
		return 0, ErrNoRecipients
	}
	all, err := s.opened(ctx)
	if err != nil {
		return 0, err
	}
	for i := range all {
		if all[i].Value, err = recipients.Seal(all[i].Value); err != nil {
			return 0, err
		}
	}
	return len(all), s.Ledger.Reseal(ctx, all)
}

// opened lists all sealed values in clear.
func (s *Session) opened(ctx context.Context) ([]ledger.Sealed, error) {
	all, err := s.Ledger.Sealed(ctx)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	identity, err := s.identity()
	if err != nil {
		return nil, err
	}
	for i, v := range all {
		if all[i].Value, err = secret.Open(identity, v.Value); err != nil {
			return nil, fmt.Errorf("%s of %s: %w", v.Label, cmp.Or(v.Name, "the setup"), err)
		}
	}
	return all, nil
}

// Credential is a login of a machine, with its password in clear.
type Credential struct {
	machine.Key
	Login    string `json:"login"`
	Password string `json:"password"`
}

// Credentials opens the passwords of the machines whose names match.
func (s *Session) Credentials(ctx context.Context, names []string) ([]Credential, error) {
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	keep, err := s.matcher(names, known)
	if err != nil {
		return nil, err
	}
	values, err := s.opened(ctx)
	if err != nil {
		return nil, err
	}
	clear := map[machine.Key]map[string]string{}
	for _, v := range values {
		if clear[v.Key] == nil {
			clear[v.Key] = map[string]string{}
		}
		clear[v.Key][v.Label] = v.Value
	}
	all := []Credential{}
	for _, m := range known {
		if !keep(m.Name) {
			continue
		}
		for _, a := range m.Spec.Guest.Accounts() {
			password, has := clear[m.Key][run.SealedPassword(m.Spec.Guest, a.User)]
			if has {
				all = append(all, Credential{m.Key, a.User, password})
			}
		}
	}
	return all, nil
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
	identity, err := s.identity()
	if err != nil {
		return "", err
	}
	return secret.Open(identity, sealed)
}

// identity reads the identity file. One that others can read is not a secret.
func (s *Session) identity() (string, error) {
	if s.Setup.Secrets.Identity == "" {
		return "", ErrNoIdentity
	}
	path := s.path(s.Setup.Secrets.Identity)
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("%w: %s can be read by others (%s): chmod 600 %[2]s, and think of who may have read it", ErrIdentity, path, info.Mode().Perm())
	}
	content, err := os.ReadFile(path)
	return string(content), err
}

// knownOne finds a machine of the ledger by its name, or by its site and name.
func (s *Session) knownOne(ctx context.Context, name string) (ledger.Machine, error) {
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return ledger.Machine{}, err
	}
	var all []string
	var found []ledger.Machine
	for _, k := range known {
		if k.Name == name || k.Key.String() == name {
			found = append(found, k)
		}
		all = append(all, k.Name)
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		_, err = Matcher([]string{name}, all)
		return ledger.Machine{}, cmp.Or(err, fmt.Errorf("%w: %s", ErrNoMachine, name))
	}
	return ledger.Machine{}, fmt.Errorf("%w: %s is at several sites; write %s", ErrNoMachine, name, found[0].Key)
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
