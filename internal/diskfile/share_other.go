//go:build !linux

package diskfile

import (
	"errors"
	"os"
)

func share(*os.File, *os.File) error { return errors.ErrUnsupported }
