package diskfile

import "golang.org/x/sys/windows"

// Room is how large a file system is, and how much of it is free.
func Room(path string) (capacity, free int64, err error) {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return 0, 0, err
	}
	var available, total, all uint64
	err = windows.GetDiskFreeSpaceEx(name, &available, &total, &all)
	return int64(total), int64(available), err
}
