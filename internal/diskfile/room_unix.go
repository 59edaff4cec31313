//go:build linux || darwin

package diskfile

import "golang.org/x/sys/unix"

// Room is how large a file system is, and how much of it is free.
func Room(path string) (capacity, free int64, err error) {
	var s unix.Statfs_t
	if err := unix.Statfs(path, &s); err != nil {
		return 0, 0, err
	}
	return int64(s.Blocks) * int64(s.Bsize), int64(s.Bavail) * int64(s.Bsize), nil
}
