package run

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/core/step"
	"mintbatch/internal/ledger"
)

// Sealing is what an engine needs to make secrets and to keep them.
type Sealing struct {
	Recipients secret.Recipients
	Policy     secret.Policy
	// Open opens the sealed value of a name.
	Open func(name string) (string, error)
	// PreviousHostKey opens the host key that a machine had; nil if each gets a new one.
	PreviousHostKey func(key machine.Key) (string, error)
	// Authority returns who signs the SSH host keys of guests; nil if nobody does.
	Authority func() (*secret.Authority, error)
}

// seed makes the machine's secrets, keeps them sealed and only then hands them
// to the guest. Interrupted, it starts over with new ones; what the ledger has
// last is what the guest gets.
func (j *job) seed(ctx context.Context) error {
	if j.loseOldSecrets() {
		m, err := j.site.Machine(ctx, j.work.Identity)
		if err != nil {
			return err
		}
		if m.Report != nil && m.Report.HostKey != "" { // it was started, with a seed, and reads no other
			return j.takeOver(ctx, m.Report.HostKey)
		}
	}
	made, sealed, err := j.makeSeed()
	if err != nil {
		return err
	}
	if err := j.Ledger.Seal(context.WithoutCancel(ctx), j.work.Key, made.hostKey, sealed); err != nil {
		return err
	}
	if err := j.enrolKey(ctx, made.hostKey); err != nil {
		return err
	}
	if err := j.prepareAccount(ctx, made.account); err != nil {
		return err
	}
	if made.token != "" {
		if err := j.Ledger.ExpectCall(context.WithoutCancel(ctx), j.work.Key, j.work.Generation, made.token); err != nil {
			return err
		}
	}
	return j.perform(ctx, step.Seed, func(ctx context.Context) (contract.Task, error) { return j.site.Seed(ctx, j.work.Identity, made.image) })
}

// loseOldSecrets reports whether the machine may have been started with secrets that the ledger
// does not have: a ledger that was made again counts what is unfinished as started, and
// does not know of its seed. One that was begun after that was none that it has started with.
func (j *job) loseOldSecrets() bool {
	seeded := j.past[string(step.Seed)].State == ledger.Done
	start, ok := j.past[string(step.Start)]
	return ok && start.State == ledger.Begun && !seeded
}

// takeOver takes the host key that a guest has into the ledger. What else was sealed
// for it goes, unless it is of the same seed: it is unknown which seed the guest has read.
func (j *job) takeOver(ctx context.Context, hostKey string) error {
	known, err := j.Ledger.HostKey(ctx, j.work.Key)
	if err != nil || strings.HasPrefix(known, hostKey) {
		return err
	}
	if err := j.Ledger.Seal(context.WithoutCancel(ctx), j.work.Key, hostKey, nil); err != nil {
		return err
	}
	return j.enrolKey(ctx, hostKey)
}

// enrolKey enters the host key that a machine has got where its name is.
func (j *job) enrolKey(ctx context.Context, hostKey string) error {
	if !j.enrols(j.work.Machine()) {
		return nil
	}
	return j.enrol(ctx, j.work.Machine(), hostKey, false)
}

// madeSeed is a seed with the public host key that is on it.
type madeSeed struct {
	image   []byte
	hostKey string
	account string // the password of its account in a domain; empty if it joins none
	token   string // the digest of that with which the guest calls home; empty if it does not
}

// makeSeed makes new secrets and the seed that has them; nothing is written.
func (j *job) makeSeed() (made madeSeed, sealed map[string]string, err error) {
	in := answers.Input{Machine: *j.work.Machine(), Instance: j.work.Identity.String()}
	if in.Guest, err = in.Guest.Unsealed(j.Sealing.Open); err != nil {
		return made, nil, err
	}
	if in.Secrets, sealed, err = j.secrets(); err != nil {
		return made, nil, err
	}
	if in.Guest.Confirm == machine.CallHome {
		token := make([]byte, 24)
		if _, err := io.ReadFull(j.Random, token); err != nil {
			return made, nil, err
		}
		text := hex.EncodeToString(token)
		in.Home, made.token = j.Home+CallPath+text, TokenDigest(text)
	}
	s, err := kinds.Write(in)
	if err != nil {
		return made, nil, err
	}
	made.hostKey, made.account = in.Secrets.HostKeyPublic, in.Secrets.Account
	made.image, err = s.Image()
	return made, sealed, err
}

// CallPath is what stands before the token in the address at which a guest calls.
const CallPath = "/v1/home/"

// TokenDigest is what is kept of a token.
func TokenDigest(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// SealedHostKey is the name of a sealed host key.
const SealedHostKey = "host-key"

// SealedAccount is the name of the sealed password with which a guest joins a domain.
const SealedAccount = "domain-account"

// accountPolicy is that of passwords of computer accounts, which nobody types.
var accountPolicy = secret.Policy{Length: 48}

// SealedPassword is the name of the sealed password of one of a machine's
// logins; that of the row itself is the one that is asked for most.
func SealedPassword(g machine.Guest, login string) string {
	if login == "" || login == g.Login {
		return "password"
	}
	return "password:" + login
}

func (j *job) secrets() (s answers.Secrets, sealed map[string]string, err error) {
	g := j.work.Machine().Guest
	s.Hashes, s.Clear = map[string]string{}, map[string]string{}
	clear := map[string]string{}
	kind := kinds.Of(g)
	if kind.HostKey {
		key, err := j.hostKey()
		if err != nil {
			return s, nil, err
		}
		s.HostKeyPrivate, s.HostKeyPublic = key.Private, key.Public
		clear[SealedHostKey] = key.Private
		authority, err := j.Sealing.Authority()
		if err != nil {
			return s, nil, err
		}
		if authority != nil {
			if s.HostCertificate, err = authority.SignHost(j.Random, key, j.work.Key.String(), Names(j.work.Machine())); err != nil {
				return s, nil, err
			}
		}
	}
	if g.Joins != "" {
		if s.Account, err = accountPolicy.NewPassword(j.Random); err != nil {
			return s, nil, err
		}
		clear[SealedAccount] = s.Account
	}
	for _, a := range g.Accounts() {
		if a.Password == machine.NoPassword {
			continue
		}
		password, err := j.password(a.Password)
		if err != nil {
			return s, nil, err
		}
		clear[SealedPassword(g, a.User)] = password
		if kind.Clear {
			s.Clear[a.User] = password
		}
		if !kind.Hashes {
			continue
		}
		if s.Hashes[a.User], err = secret.Hash(j.Random, g.Hash, password); err != nil {
			return s, nil, err
		}
	}
	sealed = map[string]string{}
	if len(j.Sealing.Recipients) > 0 {
		for name, value := range clear {
			if sealed[name], err = j.Sealing.Recipients.Seal(value); err != nil {
				return s, nil, err
			}
		}
	}
	return s, sealed, nil
}

// hostKey is the one that the machine had, if it is to keep that, else a new one.
func (j *job) hostKey() (secret.HostKey, error) {
	if j.Sealing.PreviousHostKey != nil {
		private, err := j.Sealing.PreviousHostKey(j.work.Key)
		if err == nil {
			return secret.ReadHostKey(private, j.work.Name)
		}
		if !errors.Is(err, ledger.ErrNoSecret) {
			return secret.HostKey{}, err
		}
	}
	return secret.NewHostKey(j.Random, j.work.Name)
}

// Names are those by which people reach a machine: its host name, with and
// without the domain, and its addresses.
func Names(m *machine.Machine) []string {
	names := []string{m.Guest.Hostname}
	if m.Guest.Domain != "" {
		names = append(names, m.Guest.FQDN())
	}
	for _, a := range m.Adapters {
		for _, p := range a.Addresses {
			names = append(names, p.Addr().String())
		}
		if a.Lease.IsValid() {
			names = append(names, a.Lease.Addr().String())
		}
	}
	return names
}

// password makes a new password, or opens the sealed one that the row names.
func (j *job) password(kind machine.PasswordKind) (string, error) {
	if name, ok := kind.Shared(); ok {
		return j.Sealing.Open(name)
	}
	return j.Sealing.Policy.NewPassword(j.Random)
}
