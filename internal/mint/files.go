package mint

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/rogpeppe/go-internal/diff"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/seed"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
)

// WriteFiles writes the answers and the seed of every machine that the proof
// would mint into a folder of the machine's name. Where secrets are not
// revealed, a marker stands in their place.
func (s *Session) WriteFiles(ctx context.Context, p proof.Proof, dir string, reveal bool) (machines int, err error) {
	for _, w := range p.Works {
		if w.Machine == nil || w.Word == proof.Taken || w.Machine.Guest.Answers == machine.NoAnswers {
			continue
		}
		own := filepath.Join(dir, w.Site, w.Name)
		if err := os.MkdirAll(own, 0o700); err != nil {
			return machines, err
		}
		made, err := s.answersOf(ctx, *w.Machine, w.Identity.String(), reveal)
		if err != nil {
			return machines, err
		}
		image, err := made.Image()
		if err != nil {
			return machines, err
		}
		name := map[media.Kind]string{media.ISOKind: "seed.iso", media.FATKind: "seed.img"}[made.Kind]
		for _, f := range append(made.Files, answers.File{Name: name, Content: image}) {
			if err := os.WriteFile(filepath.Join(own, f.Name), f.Content, 0o600); err != nil {
				return machines, err
			}
		}
		machines++
	}
	return machines, nil
}

// NotMade stands for a secret that is yet to be made.
const NotMade = "(made by the mint)"

// answersOf writes a machine's answers as they are looked at.
func (s *Session) answersOf(ctx context.Context, m machine.Machine, instance string, reveal bool) (seed.Seed, error) {
	in := answers.Hidden(m, instance)
	if reveal {
		if err := s.reveal(ctx, m, &in); err != nil {
			return seed.Seed{}, err
		}
	}
	return seed.Of(in)
}

// reveal puts the secrets in, as far as they are made. A hash has another salt
// than the one that the guest got.
func (s *Session) reveal(ctx context.Context, m machine.Machine, in *answers.Input) (err error) {
	if in.Guest, err = m.Guest.Unsealed(func(name string) (string, error) { return s.OpenSecret(ctx, name) }); err != nil {
		return err
	}
	opened := func(name string) (string, error) {
		value, err := s.unseal(ctx, m.Key, name)
		if errors.Is(err, ledger.ErrNoSecret) {
			return NotMade, nil
		}
		return value, err
	}
	for _, a := range m.Guest.Accounts() {
		if a.Password == machine.NoPassword {
			continue
		}
		password, err := opened(run.SealedPassword(m.Guest, a.User))
		if name, shared := a.Password.Shared(); shared && err == nil {
			password, err = s.OpenSecret(ctx, name)
		}
		if err != nil {
			return err
		}
		in.Secrets.Clear[a.User], in.Secrets.Hashes[a.User] = password, password
		if password != NotMade {
			if in.Secrets.Hashes[a.User], err = secret.Hash(rand.Reader, m.Guest.Hash, password); err != nil {
				return err
			}
		}
	}
	if in.Secrets.HostKeyPrivate, err = opened(run.SealedHostKey); err != nil {
		return err
	}
	in.Secrets.HostKeyPublic, err = s.Ledger.HostKey(ctx, m.Key)
	return err
}

// Answers writes the answers of one machine: as it was minted last, or, if it
// is not made yet, as it would be.
func (s *Session) Answers(ctx context.Context, name string, reveal bool) ([]answers.File, error) {
	before, now, instance, err := s.versions(ctx, name)
	if err != nil {
		return nil, err
	}
	m := now
	if before != nil {
		m = before
	}
	if m.Guest.Answers == machine.NoAnswers {
		return nil, fmt.Errorf("%s takes no answers", name)
	}
	made, err := s.answersOf(ctx, *m, instance, reveal)
	return made.Files, err
}

// AnswersDiff tells in what the answers that a machine would be minted with now
// differ from those it was minted with; empty if in nothing.
func (s *Session) AnswersDiff(ctx context.Context, name string) (string, error) {
	before, now, instance, err := s.versions(ctx, name)
	if err != nil {
		return "", err
	}
	texts := [2]map[string]string{{}, {}}
	var order []string
	for i, m := range []*machine.Machine{before, now} {
		if m == nil || m.Guest.Answers == machine.NoAnswers {
			continue
		}
		made, err := s.answersOf(ctx, *m, instance, false)
		if err != nil {
			return "", err
		}
		for _, f := range made.Files {
			if _, seen := texts[0][f.Name]; !seen || i == 0 {
				order = append(order, f.Name)
			}
			texts[i][f.Name] = string(f.Content)
		}
	}
	var b strings.Builder
	for _, file := range order {
		b.Write(diff.Diff("minted/"+file, []byte(texts[0][file]), "now/"+file, []byte(texts[1][file])))
	}
	return b.String(), nil
}

// versions finds a machine as it was minted last and as the sheet wants it now;
// nil where the ledger or the sheet does not have it. The instance is that of
// the former, else of the latter.
func (s *Session) versions(ctx context.Context, name string) (before, now *machine.Machine, instance string, err error) {
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return nil, nil, "", err
	}
	for _, k := range known {
		if k.Name == name {
			before = &machine.Machine{Key: k.Key, Spec: k.Spec}
			instance = machine.Identity(s.Ledger.ID, k.Key, k.Generation).String()
		}
	}
	p, err := s.compared(ctx, known, nil, func(n string) bool { return n == name })
	if err != nil {
		return nil, nil, "", err
	}
	for _, w := range p.Works {
		if w.Machine != nil && w.Word != proof.Stray {
			now = w.Machine
			instance = cmp.Or(instance, w.Identity.String())
		}
	}
	if before == nil && now == nil {
		_, err = s.matcher([]string{name}, known)
		return nil, nil, "", err
	}
	return before, now, instance, nil
}
