package folder

import (
	"errors"

	"golang.org/x/sys/windows"
)

func isFull(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}

func isReadOnly(err error) bool { return errors.Is(err, windows.ERROR_WRITE_PROTECT) }

func isGone(err error) bool {
	return errors.Is(err, windows.ERROR_NOT_READY) || errors.Is(err, windows.ERROR_BAD_NETPATH) || errors.Is(err, windows.ERROR_NETNAME_DELETED)
}

// isUnsupported is so of folders, which are not opened for writing.
func isUnsupported(err error) bool {
	return errors.Is(err, windows.ERROR_ACCESS_DENIED) || errors.Is(err, windows.ERROR_INVALID_HANDLE)
}
