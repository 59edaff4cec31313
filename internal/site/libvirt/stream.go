package libvirt

import (
	"errors"
	"io"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
)

// streamEnd is how long the end of a stream of which all has come is waited for.
const streamEnd = 2 * time.Second

// download reads a part of the file of a volume, or all of it if the length is 0, of which so many
// bytes are expected. The library may wait for ever for the end of a stream, and with it all that
// use the connection: then that is given up.
func (c *connection) download(l daemon, vol rpc.StorageVol, into io.Writer, at, length uint64, expected int64) error {
	t := &tally{into: into, left: expected, full: make(chan struct{})}
	ended := make(chan error, 1)
	go func() { ended <- l.StorageVolDownload(vol, t, at, length, 0) }()
	select {
	case err := <-ended:
		return err
	case <-t.full:
	}
	select {
	case err := <-ended:
		return err
	case <-time.After(streamEnd):
		c.drop(l)
		return nil
	}
}

// tally tells when all has come.
type tally struct {
	into io.Writer
	left int64
	full chan struct{}
}

// Write implements io.Writer.
func (t *tally) Write(p []byte) (int, error) {
	if t.left > 0 && int64(len(p)) > t.left {
		return 0, errors.New("more of a disk has come than there is of it")
	}
	n, err := t.into.Write(p)
	if t.left -= int64(n); t.left == 0 && err == nil {
		close(t.full)
	}
	return n, err
}
