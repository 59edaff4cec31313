package sandbox

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"
)

// linuxDisk is the disk that templates of Linux guests have: made by disk/make.sh, and made up.
//
//go:embed disk/linux.gz
var linuxDisk []byte

// diskChanged is when that was.
var diskChanged = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

var unpackedDisk = sync.OnceValues(func() ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(linuxDisk))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
})

// content is answered as it is, or a part of it.
type content []byte

// disk answers with the disk of a template or machine.
func (s *Sandbox) templateDisk(c *call) (any, error) {
	s.mu.Lock()
	t, _, err := s.toClone(c, c.PathValue("name"))
	s.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if strings.HasPrefix(t.Hostname, "WIN") {
		return nil, refuse(http.StatusConflict, "the sandbox has no disk of template %q to read", t.Name)
	}
	whole, err := unpackedDisk()
	return content(whole), err
}
