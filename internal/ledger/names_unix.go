//go:build unix

package ledger

import (
	"io/fs"
	"syscall"
)

// names counts the names that a file has.
func names(info fs.FileInfo) uint64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(s.Nlink)
	}
	return 1
}
