//go:build unix

package output

import (
	"io/fs"
	"os"
	"syscall"
)

// keepOwner gives a file the owner and the group of the one that it replaces.
func keepOwner(f *os.File, info fs.FileInfo) error {
	is, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	own, err := f.Stat()
	if err != nil {
		return err
	}
	if now, ok := own.Sys().(*syscall.Stat_t); ok && now.Uid == is.Uid && now.Gid == is.Gid {
		return nil
	}
	return f.Chown(int(is.Uid), int(is.Gid))
}
