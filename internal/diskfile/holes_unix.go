//go:build linux || darwin

package diskfile

import (
	"errors"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// Hole implements image.Holes. Its own position in the file is what it looks up with; nothing else uses that.
func (f *file) Hole(at int64) (hole bool, length int64, err error) {
	return holeIn(f.File, f.size, at)
}

func holeIn(f *os.File, size, at int64) (bool, int64, error) {
	data, err := unix.Seek(int(f.Fd()), at, unix.SEEK_DATA)
	switch {
	case errors.Is(err, unix.ENXIO): // none up to the end
		return true, max(1, size-at), nil
	case err != nil: // not known here
		return false, max(1, size-at), nil //nolint:nilerr // all counts as written
	case data > at:
		return true, data - at, nil
	}
	end, err := unix.Seek(int(f.Fd()), at, unix.SEEK_HOLE)
	if err != nil || end <= at {
		return false, max(1, size-at), nil //nolint:nilerr // all counts as written
	}
	return false, end - at, nil
}

func stored(f *os.File) int64 {
	about, err := f.Stat()
	if err != nil {
		return 0
	}
	if s, is := about.Sys().(*syscall.Stat_t); is {
		return s.Blocks * 512
	}
	return about.Size()
}
