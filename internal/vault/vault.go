// Package vault opens and seals the secrets that a ledger keeps.
package vault

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"sync"

	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
)

// ErrNoIdentity means that the setup names no identity file.
var ErrNoIdentity = errors.New("the setup names no identity file; add it under secrets: identity")

// ErrIdentity means that an identity file is not to be trusted.
var ErrIdentity = errors.New("the identity file is not safe")

// ErrNoRecipients means that the setup names nobody to seal to.
var ErrNoRecipients = errors.New("the setup names no recipients; make a key with `mintbatch secret keygen` and add it under secrets: recipients")

// Vault is the sealed values of a ledger, and the keys to them.
type Vault struct {
	*input.Batch
	Ledger *ledger.Ledger
}

// OpenOne opens one sealed value of the ledger that a setup names.
func OpenOne(b *input.Batch, name string) (string, error) {
	ctx := context.Background()
	l, err := ledger.Open(ctx, b.LedgerPath())
	if err != nil {
		return "", err
	}
	defer l.Close()
	return (&Vault{b, l}).Open(ctx, name)
}

// Sealing is what a run needs to make secrets and to keep them.
func (v *Vault) Sealing(ctx context.Context) run.Sealing {
	return run.Sealing{Recipients: v.Setup.Secrets.Recipients, Policy: v.Setup.Secrets.Passwords,
		Open:      func(name string) (string, error) { return v.Open(ctx, name) },
		Authority: sync.OnceValues(v.Authority)}
}

// Authority is who signs the guests' SSH host keys; nil if nobody does.
func (v *Vault) Authority() (*secret.Authority, error) {
	if v.Setup.Secrets.HostAuthority.IsZero() {
		return nil, nil
	}
	private, err := v.Resolve(v.Setup.Secrets.HostAuthority)
	if err != nil {
		return nil, fmt.Errorf("the SSH authority under secrets: ssh_host_ca: %w", err)
	}
	return secret.NewAuthority(private)
}

// Password opens the sealed password of one of a machine's logins; that of its
// row if none is named.
func (v *Vault) Password(ctx context.Context, name, login string) (string, error) {
	m, err := v.knownOne(ctx, name)
	if err != nil {
		return "", err
	}
	for _, a := range m.Spec().Guest.Accounts() {
		if shared, is := a.Password.Shared(); is && (a.User == login || login == "" && a.Main) {
			return v.Open(ctx, shared)
		}
	}
	return v.Unseal(ctx, m.Key, run.SealedPassword(m.Spec().Guest, login))
}

// Reseal seals everything anew, to those whom the setup names now, and returns
// how many values that were.
func (v *Vault) Reseal(ctx context.Context) (int, error) {
	recipients := v.Setup.Secrets.Recipients
	if len(recipients) == 0 {
		return 0, ErrNoRecipients
	}
	all, err := v.opened(ctx)
	if err != nil {
		return 0, err
	}
	for i := range all {
		if all[i].Value, err = recipients.Seal(all[i].Value); err != nil {
			return 0, err
		}
	}
	return len(all), v.Ledger.Reseal(ctx, all)
}

// opened lists all sealed values in clear.
func (v *Vault) opened(ctx context.Context) ([]ledger.Sealed, error) {
	all, err := v.Ledger.Sealed(ctx)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	identity, err := v.identity()
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
func (v *Vault) Credentials(ctx context.Context, names []string) ([]Credential, error) {
	known, err := v.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	all := []machine.Key{}
	for _, k := range known {
		all = append(all, k.Key)
	}
	keep, err := glob.KeyMatcher(names, all, "the ledger")
	if err != nil {
		return nil, err
	}
	values, err := v.opened(ctx)
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
	credentials := []Credential{}
	for _, m := range known {
		if !keep(m.Key) {
			continue
		}
		for _, a := range m.Spec().Guest.Accounts() {
			password, has := clear[m.Key][run.SealedPassword(m.Spec().Guest, a.User)]
			if has {
				credentials = append(credentials, Credential{m.Key, a.User, password})
			}
		}
	}
	return credentials, nil
}

// SetSecret seals a value to the setup's recipients under a name.
func (v *Vault) SetSecret(ctx context.Context, name, value string) error {
	recipients := v.Setup.Secrets.Recipients
	if len(recipients) == 0 {
		return ErrNoRecipients
	}
	sealed, err := recipients.Seal(value)
	if err != nil {
		return err
	}
	return v.Ledger.SetSecret(ctx, name, sealed)
}

// Open opens the sealed value of a name.
func (v *Vault) Open(ctx context.Context, name string) (string, error) {
	return v.Unseal(ctx, machine.Key{}, name)
}

// Unseal opens a sealed value of a machine, or of the setup for an empty key.
func (v *Vault) Unseal(ctx context.Context, key machine.Key, name string) (string, error) {
	sealed, err := v.Ledger.Secret(ctx, key, name)
	if err != nil {
		return "", err
	}
	identity, err := v.identity()
	if err != nil {
		return "", err
	}
	return secret.Open(identity, sealed)
}

// identity reads the identity file. One that others can read is not a secret.
func (v *Vault) identity() (string, error) {
	if v.Setup.Secrets.Identity == "" {
		return "", ErrNoIdentity
	}
	path := v.Path(v.Setup.Secrets.Identity)
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("%w: other users can read %s (%s); run chmod 600 %[2]s, and consider who may have read it", ErrIdentity, path, info.Mode().Perm())
	}
	content, err := os.ReadFile(path)
	return string(content), err
}

// knownOne finds a machine of the ledger by its name, or by its site and name.
func (v *Vault) knownOne(ctx context.Context, name string) (ledger.Machine, error) {
	known, err := v.Ledger.Machines(ctx)
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
		_, err = glob.Matcher([]string{name}, all, "the ledger")
		return ledger.Machine{}, cmp.Or(err, fmt.Errorf("%w: %s", glob.ErrNoMatch, name))
	}
	return ledger.Machine{}, fmt.Errorf("%w: %s exists at several sites; write %s", glob.ErrNoMatch, name, found[0].Key)
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

// Resolve follows a reference to where the value stands.
func (v *Vault) Resolve(r setup.Reference) (string, error) {
	switch r.Kind {
	case "file":
		if err := input.OwnOnly(v.Path(r.Name)); err != nil {
			return "", err
		}
		return v.Fetch(r.Kind, r.Name)
	case "env":
		return v.Fetch(r.Kind, r.Name)
	case "secret":
		return v.Open(context.Background(), r.Name)
	}
	return r.Name, nil
}
