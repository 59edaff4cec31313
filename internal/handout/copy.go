package handout

import (
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/output"
	"mintbatch/internal/report"
)

const listName = "handout.json"

// readList reads what was handed out to a folder before.
func readList(dir string) (*List, error) {
	text, err := os.ReadFile(filepath.Join(dir, listName))
	if errors.Is(err, os.ErrNotExist) {
		return &List{Schema: schema}, nil
	}
	if err != nil {
		return nil, err
	}
	l := &List{}
	if err := json.Unmarshal(text, l); err != nil || l.Schema != schema {
		return nil, refuse("%s is not the list of a handout that can be read", filepath.Join(dir, listName))
	}
	return l, nil
}

// Do copies. What is copied is listed at once, so that the same command goes on where this one was ended.
func (p *Plan) Do(ctx context.Context, done func(at int64)) error {
	if err := p.writeLists(); err != nil { // a folder that cannot be written to is told first
		return err
	}
	var before int64
	for _, f := range p.Files {
		sum, err := p.copy(ctx, f, func(at int64) {
			if done != nil {
				done(before + at)
			}
		})
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, explain(err))
		}
		before += min(f.Size, diskfile.StoredIn(f.from))
		f.SHA256 = sum
		p.list.Files = slices.DeleteFunc(p.list.Files, func(of File) bool { return of.Name == f.Name })
		p.list.Files = append(p.list.Files, f)
		if err := p.writeJSON(); err != nil {
			return explain(err)
		}
	}
	for _, m := range p.Copied {
		p.list.Machines = slices.DeleteFunc(p.list.Machines, func(of Machine) bool { return of.Name == m.Name })
		p.list.Machines = append(p.list.Machines, m)
	}
	slices.SortFunc(p.list.Machines, func(a, b Machine) int { return strings.Compare(a.Name, b.Name) })
	return explain(p.writeLists())
}

// explain adds what to do about a failure.
func explain(err error) error {
	if diskfile.TooLarge(err) {
		return fmt.Errorf("%w: the file system cannot have files as large; format the stick as exFAT", err)
	}
	return err
}

// copy copies a file and reads back what was written.
func (p *Plan) copy(ctx context.Context, f File, done func(at int64)) (sum string, err error) {
	to := p.at(f.Name)
	if err := os.MkdirAll(filepath.Dir(to), 0o777); err != nil {
		return "", err
	}
	part := filepath.Join(filepath.Dir(to), ".part-"+filepath.Base(to))
	if err := os.RemoveAll(part); err != nil {
		return "", err
	}
	defer os.Remove(part) //nolint:errcheck // it was renamed, or is of no use
	if err := diskfile.Copy(ctx, part, f.from, done); err != nil {
		return "", err
	}
	want, err := digest(ctx, f.from)
	if err != nil {
		return "", err
	}
	now, err := os.Stat(f.from)
	if err != nil || now.Size() != f.Size || !now.ModTime().UTC().Equal(f.Changed) {
		return "", errors.Join(err, errors.New("it was changed while it was copied: the machine must not run"))
	}
	if err := diskfile.Forget(part); err != nil {
		return "", err
	}
	is, err := digest(ctx, part)
	if err != nil {
		return "", err
	}
	if is != want {
		return "", fmt.Errorf("what was written to %s is not what is read from there: the stick is damaged", p.Dir)
	}
	mode := now.Mode().Perm() // a seed is not for everybody
	if f.base {
		mode = 0o444
	}
	if err := errors.Join(os.Chtimes(part, time.Time{}, f.Changed), os.Chmod(part, mode)); err != nil {
		return "", err
	}
	if there, err := os.Lstat(to); err == nil && there.Mode().Perm()&0o200 == 0 {
		if err := os.Chmod(to, 0o600); err != nil { // else some systems do not replace it
			return "", err
		}
	}
	return want, os.Rename(part, to)
}

// digest is the SHA-256 of a file.
func digest(ctx context.Context, path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close() //nolint:errcheck // it was only read
	h, piece := sha256.New(), make([]byte, 1<<20)
	for {
		n, err := f.Read(piece)
		h.Write(piece[:n])
		if errors.Is(err, io.EOF) {
			return hex.EncodeToString(h.Sum(nil)), nil
		}
		if err = errors.Join(err, ctx.Err()); err != nil {
			return "", err
		}
	}
}

//go:embed takein
var scripts embed.FS

// writeJSON writes the list.
func (p *Plan) writeJSON() error {
	slices.SortFunc(p.list.Files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	text, err := json.MarshalIndent(p.list, "", "  ")
	if err != nil {
		return err
	}
	return p.write(listName, append(text, '\n'), 0o644)
}

// writeLists writes all that is beside the machines.
func (p *Plan) writeLists() error {
	var sums, names strings.Builder
	for _, f := range p.list.Files {
		fmt.Fprintf(&sums, "%s  %s\n", f.SHA256, f.Name)
	}
	for _, m := range p.list.Machines {
		fmt.Fprintf(&names, "%s\t%s\n", m.Name, m.Folder)
	}
	page, err := p.page().HTML()
	if err != nil {
		return err
	}
	err = errors.Join(p.writeJSON(), p.write("handout.sha256", []byte(sums.String()), 0o644), p.write("handout.list", []byte(names.String()), 0o644), p.write("handout.html", page, 0o644))
	for _, name := range []string{"take-in.sh", "take-in.ps1"} {
		text, failed := scripts.ReadFile("takein/" + name)
		if strings.HasSuffix(name, ".ps1") {
			text = []byte(strings.ReplaceAll(string(text), "\n", "\r\n"))
		}
		err = errors.Join(err, failed, p.write(name, text, 0o755))
	}
	return err
}

func (p *Plan) write(name string, text []byte, mode os.FileMode) error {
	return output.Guard{}.Write(p.at(name), text, output.Replace, mode)
}

func (p *Plan) page() report.HandoutPage {
	page := report.HandoutPage{}
	for _, m := range p.list.Machines {
		page.Machines = append(page.Machines, []string{m.Name, m.Owner, m.Folder, fmt.Sprintf("%d CPUs, %s", m.CPUs, machine.Size(m.Memory)), strings.Join(m.Addresses, " ")})
	}
	return page
}
