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

func room(path string) (capacity, free int64, err error) {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return 0, 0, err
	}
	var available, total, all uint64
	err = windows.GetDiskFreeSpaceEx(name, &available, &total, &all)
	return int64(total), int64(available), err
}
