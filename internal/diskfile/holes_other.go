//go:build !linux && !darwin

package diskfile

import "os"

func holeIn(_ *os.File, size, at int64) (bool, int64, error) { return false, max(1, size-at), nil }

func stored(f *os.File) int64 {
	about, err := f.Stat()
	if err != nil {
		return 0
	}
	return about.Size()
}
