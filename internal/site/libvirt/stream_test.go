package libvirt

import (
	"bytes"
	"io"
	"testing"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/assert"
)

// endless is a daemon whose streams do not end.
type endless struct {
	daemon
	brings []string
}

func (e *endless) StorageVolDownload(_ rpc.StorageVol, into io.Writer, _, _ uint64, _ rpc.StorageVolDownloadFlags) error {
	_, _ = io.WriteString(into, e.brings[0])
	e.brings = e.brings[1:]
	select {}
}

func (e *endless) Disconnect() error { return nil }

// All that was asked for has come, so the end of the stream is not waited for.
func TestStreamsWithoutAnEnd(t *testing.T) {
	e := &endless{brings: []string{"tides"}}
	c := connection{live: e}
	var content bytes.Buffer
	assert.NoError(t, c.download(e, rpc.StorageVol{}, &content, 0, 5, 5))
	assert.Equal(t, "tides", content.String())
	assert.Nil(t, c.live, "the connection is given up")
}
