package handover

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/rogpeppe/go-internal/diff"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
)

// CheckFiles reports whether answers may be written into a folder: into one that is
// new or empty, unless what is there may be replaced.
func CheckFiles(dir string, over output.Over) error {
	entries, err := os.ReadDir(dir)
	switch {
	case err == nil && len(entries) > 0 && over == output.Never:
		return fmt.Errorf("%w: %s: the folder is not empty; give --force to replace files in it", output.ErrRefused, dir)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	return nil
}

// WriteFiles writes the answers and the seed of every machine that the proof
// would mint into a folder of the machine's name. Where secrets are not
// revealed, a marker stands in their place.
func WriteFiles(ctx context.Context, d *mint.Desk, p proof.Proof, dir string, over output.Over, reveal Reveal) (machines int, err error) {
	guard := d.Guard()
	for _, w := range p.Works {
		if w.Slim == nil || w.Word == proof.Taken || !kinds.Of(w.Machine().Guest).Reads() {
			continue
		}
		own := filepath.Join(dir, w.Site, w.Name)
		if err := os.MkdirAll(own, 0o700); err != nil {
			return machines, err
		}
		made, err := answersOf(ctx, d, *w.Machine(), w.Identity.String(), reveal)
		if err != nil {
			return machines, err
		}
		image, err := made.Image()
		if err != nil {
			return machines, err
		}
		name := map[media.Kind]string{media.ISOKind: "seed.iso", media.FATKind: "seed.img"}[made.Kind]
		for _, f := range append(made.Files, answers.File{Name: name, Content: image}) {
			if err := guard.Write(filepath.Join(own, f.Name), f.Content, over, 0o600); err != nil {
				return machines, err
			}
		}
		machines++
	}
	return machines, nil
}

// Reveal says whether secrets are shown.
type Reveal bool

// Whether they are.
const (
	Revealed Reveal = true
	Hidden   Reveal = false
)

// NotMade stands for a secret that is yet to be made.
const NotMade = "(created by the mint)"

// answersOf writes a machine's answers as they are looked at.
func answersOf(ctx context.Context, d *mint.Desk, m machine.Machine, instance string, reveal Reveal) (answers.Seed, error) {
	in := answers.Hidden(m, instance)
	if reveal == Revealed {
		if err := revealed(ctx, d, m, &in); err != nil {
			return answers.Seed{}, err
		}
	}
	return kinds.Write(in)
}

// revealed puts the secrets in, as far as they are made. A hash has another salt
// than the one that the guest got.
func revealed(ctx context.Context, d *mint.Desk, m machine.Machine, in *answers.Input) (err error) {
	if in.Guest, err = m.Guest.Unsealed(func(name string) (string, error) { return d.Vault.Open(ctx, name) }); err != nil {
		return err
	}
	opened := func(name string) (string, error) {
		value, err := d.Vault.Unseal(ctx, m.Key, name)
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
			password, err = d.Vault.Open(ctx, name)
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
	if m.Guest.Joins != "" {
		if in.Secrets.Account, err = opened(run.SealedAccount); err != nil {
			return err
		}
	}
	if in.Secrets.HostKeyPrivate, err = opened(run.SealedHostKey); err != nil {
		return err
	}
	in.Secrets.HostKeyPublic, err = d.Ledger.HostKey(ctx, m.Key)
	return err
}

// Answers writes the answers of one machine: as it was minted last, or, if it
// is not made yet, as it would be.
func Answers(ctx context.Context, d *mint.Desk, name string, reveal Reveal) ([]answers.File, error) {
	before, now, instance, err := versions(ctx, d, name)
	if err != nil {
		return nil, err
	}
	m := now
	if before != nil {
		m = before
	}
	if !kinds.Of(m.Guest).Reads() {
		return nil, fmt.Errorf("%s reads no answers", name)
	}
	made, err := answersOf(ctx, d, *m, instance, reveal)
	return made.Files, err
}

// AnswersDiff reports in what the answers that a machine would be minted with now
// differ from those it was minted with; empty if in nothing.
func AnswersDiff(ctx context.Context, d *mint.Desk, name string) (string, error) {
	before, now, instance, err := versions(ctx, d, name)
	if err != nil {
		return "", err
	}
	texts := [2]map[string]string{{}, {}}
	var order []string
	for i, m := range []*machine.Machine{before, now} {
		if m == nil || !kinds.Of(m.Guest).Reads() {
			continue
		}
		made, err := answersOf(ctx, d, *m, instance, Hidden)
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
func versions(ctx context.Context, d *mint.Desk, name string) (before, now *machine.Machine, instance string, err error) {
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return nil, nil, "", err
	}
	for _, k := range known {
		if k.Name == name {
			before = &machine.Machine{Key: k.Key, Spec: k.Spec()}
			instance = k.ID(d.Ledger.ID).String()
		}
	}
	p, err := d.Compare(ctx, known, nil, nil, plan.DoubtMissing, func(key machine.Key) bool { return key.Name == name })
	if err != nil {
		return nil, nil, "", err
	}
	for _, w := range p.Works {
		if w.Slim != nil && w.Word != proof.Stray {
			now = w.Wanted()
			instance = cmp.Or(instance, w.Identity.String())
		}
	}
	if before == nil && now == nil {
		_, err = d.Matcher([]string{name}, known)
		return nil, nil, "", err
	}
	return before, now, instance, nil
}
