// Package mailbox takes messages out of mailboxes, and sends others.
package mailbox

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"mintbatch/internal/core/mail"
)

// taken is the folder of a mailbox for the messages that were taken.
const taken = "taken"

// Each hands over a message: by what it is known for as long as it is there, and how it is read. If it is taken it is put away.
type Each func(id string, read func() ([]byte, error)) (take bool, err error)

// Maildir is a mailbox in a folder, a file for each message.
type Maildir struct{ root *os.Root }

// OpenMaildir opens one.
func OpenMaildir(dir string) (*Maildir, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	m := &Maildir{root}
	for _, folder := range []string{"new", "cur"} {
		if info, err := root.Stat(folder); err != nil || !info.IsDir() {
			return nil, errors.Join(fmt.Errorf("%s is no Maildir: it has no folder %s", dir, folder), root.Close())
		}
	}
	return m, nil
}

// Close ends it.
func (m *Maildir) Close() error { return m.root.Close() }

// Messages hands over each message, the oldest name first. One that cannot be read does not keep others from being.
func (m *Maildir) Messages(ctx context.Context, each Each) (failed error) {
	for _, folder := range []string{"new", "cur"} {
		dir, err := m.root.Open(folder)
		if err != nil {
			return errors.Join(failed, err)
		}
		entries, err := dir.ReadDir(-1)
		if err := errors.Join(err, dir.Close()); err != nil {
			return errors.Join(failed, err)
		}
		slices.SortFunc(entries, func(a, b os.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
		for _, e := range entries {
			if ctx.Err() != nil {
				return errors.Join(failed, ctx.Err())
			}
			if !e.Type().IsRegular() || strings.HasPrefix(e.Name(), ".") {
				continue
			}
			base, _, _ := strings.Cut(e.Name(), ":") // without its flags
			take, err := each(base, func() ([]byte, error) { return m.read(path.Join(folder, e.Name())) })
			if err == nil && take {
				err = m.put(path.Join(folder, e.Name()), base)
			}
			if err != nil && !errors.Is(err, fs.ErrNotExist) { // else somebody has moved it meanwhile
				failed = errors.Join(failed, err)
			}
		}
	}
	return failed
}

func (m *Maildir) read(name string) ([]byte, error) {
	f, err := m.root.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, mail.MostBytes+1))
}

// put moves a message into the folder of those that were taken, as seen.
func (m *Maildir) put(name, base string) error {
	for _, folder := range []string{"new", "cur", "tmp"} {
		if err := m.root.MkdirAll(path.Join("."+taken, folder), 0o700); err != nil {
			return err
		}
	}
	return m.root.Rename(name, path.Join("."+taken, "cur", base+":2,S"))
}
