package ledger

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// ErrReader means that a ledger was opened by somebody who may only read it.
var ErrReader = errors.New("you may read this ledger, and not write to it; it is its owner who makes and changes machines")

// onlyReader reports whether a ledger's file is there, and may be read but not written to by
// whoever runs this.
func onlyReader(path string) bool {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err == nil {
		_ = f.Close()
		return false
	}
	if !errors.Is(err, fs.ErrPermission) {
		return false
	}
	f, err = os.Open(path)
	if err != nil {
		return false
	}
	return f.Close() == nil
}

// openReader opens a copy of a ledger for somebody who may only read it: a database cannot be
// read without taking part in its locks, which is writing. Nothing is changed through it. A
// copy that is torn, because something was just being written, is tried again.
func openReader(ctx context.Context, path string) (*Ledger, error) {
	dir, err := os.MkdirTemp("", "mintbatch-reader-")
	if err != nil {
		return nil, err
	}
	remove := func() error { return os.RemoveAll(dir) }
	for tries := 0; ; tries++ {
		l, err := copied(ctx, path, filepath.Join(dir, fmt.Sprintf("%d.ledger", tries)))
		if err == nil {
			l.reader, l.cleanup = true, remove
			return l, nil
		}
		if tries == 4 || ctx.Err() != nil {
			return nil, errors.Join(err, remove())
		}
	}
}

// copied opens a copy of a ledger, and looks at every row of it.
func copied(ctx context.Context, path, to string) (*Ledger, error) {
	for _, ending := range []string{"", "-wal"} {
		if err := copyFile(path+ending, to+ending); err != nil && (ending == "" || !errors.Is(err, fs.ErrNotExist)) {
			return nil, fmt.Errorf("%w: %s: %w", ErrLedger, path, err)
		}
	}
	l, err := Open(ctx, to)
	if err != nil {
		return nil, err
	}
	if err := l.checkCopy(ctx, to); err != nil {
		return nil, errors.Join(l.explain(err), l.Close())
	}
	return l, nil
}

func copyFile(from, to string) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	copied, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(copied, f)
	return errors.Join(err, copied.Close())
}
