package diskfile

import (
	"errors"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// Forget has a file be read from its medium the next time, and not from memory.
func Forget(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	_ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) // a hint; where it is not taken, less is checked
	return f.Close()
}

// TooLarge reports whether a file has become larger than its file system can have one.
func TooLarge(err error) bool { return errors.Is(err, syscall.EFBIG) }
