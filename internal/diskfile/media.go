package diskfile

import (
	"errors"
	"os"
)

// KeepsHoles reports whether the file system of a folder stores what was never written of a file as nothing.
func KeepsHoles(dir string) bool {
	f, err := os.CreateTemp(dir, ".part-*")
	if err != nil {
		return false
	}
	defer os.Remove(f.Name()) //nolint:errcheck // it is empty
	const length = 4 << 20
	err = errors.Join(f.Truncate(length), f.Sync())
	holes := err == nil && stored(f) < length
	return errors.Join(err, f.Close()) == nil && holes
}
