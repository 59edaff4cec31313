//go:build !linux

package diskfile

// Forget has a file be read from its medium the next time; not on this system.
func Forget(string) error { return nil }

// TooLarge reports whether a file has become larger than its file system can have one; not on this system.
func TooLarge(error) bool { return false }
