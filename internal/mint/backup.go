package mint

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"mintbatch/internal/core/pattern"
	"mintbatch/internal/ledger"
	"mintbatch/internal/output"
)

// BackUp copies the ledger to a file, whole or not at all.
func (d *Desk) BackUp(ctx context.Context, path string, over output.Over) error {
	if err := d.Guard().Check(path, over); err != nil {
		return err
	}
	// Beside the file, so that it can take its name at once.
	dir, err := os.MkdirTemp(filepath.Dir(path), ".mintbatch-")
	if err != nil {
		return fmt.Errorf("back up the ledger: %w", err)
	}
	defer os.RemoveAll(dir)
	whole, err := filepath.Abs(filepath.Join(dir, "ledger"))
	if err != nil {
		return err
	}
	if err := d.Ledger.BackUp(ctx, whole); err != nil {
		return fmt.Errorf("back up the ledger: %w", err)
	}
	return os.Rename(whole, path)
}

// backupName is what the copies are called that are made before runs.
var backupName = pattern.Lazy(`^ledger-[0-9]{6}-[0-9]{6}\.[0-9]{3}\.backup$`)

// backUpFirst copies the ledger before a run, where the setup says so, and deletes the oldest
// copies.
func (d *Desk) backUpFirst(ctx context.Context) error {
	b := d.Setup.Backups
	if b.Keep <= 0 || ledger.IsShared(d.LedgerPath()) {
		return nil
	}
	dir := d.Path(cmp.Or(b.Dir, "mintbatch.backups"))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("back up the ledger: %w", err)
	}
	if err := d.BackUp(ctx, filepath.Join(dir, time.Now().UTC().Format("ledger-060102-150405.000")+".backup"), output.Never); err != nil {
		return err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("back up the ledger: %w", err)
	}
	var names []string
	for _, e := range entries {
		if e.Type().IsRegular() && backupName().MatchString(e.Name()) {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	for _, name := range names[:max(0, len(names)-b.Keep)] {
		err = errors.Join(err, os.Remove(filepath.Join(dir, name)))
	}
	return err
}
