//go:build linux || darwin

package folder

import "golang.org/x/sys/unix"

// room is how large a file system is, and how much of it is free.
func room(path string) (capacity, free int64, err error) {
	var s unix.Statfs_t
	if err := unix.Statfs(path, &s); err != nil {
		return 0, 0, err
	}
	return int64(s.Blocks) * int64(s.Bsize), int64(s.Bavail) * int64(s.Bsize), nil
}
