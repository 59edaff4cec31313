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

// cleanDisk is that of a guest that was cleaned.
//
//go:embed disk/clean.gz
var cleanDisk []byte

// diskChanged is when that was.
var diskChanged = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// The disks as they are, unpacked when they are first asked for.
var (
	unpackedDisk  = unpacked(linuxDisk)
	unpackedClean = unpacked(cleanDisk)
)

func unpacked(disk []byte) func() ([]byte, error) {
	return sync.OnceValues(func() ([]byte, error) {
		r, err := gzip.NewReader(bytes.NewReader(disk))
		if err != nil {
			return nil, err
		}
		return io.ReadAll(r)
	})
}

// CleanDisk is the disk of a template from which all was cleaned that clones should not get.
func CleanDisk() ([]byte, error) { return unpackedClean() }

// disk answers with the disk of a template or machine.
func (s *Sandbox) templateDisk(c *call) (any, error) {
	s.mu.Lock()
	t, source, err := s.toClone(c, c.PathValue("name"))
	clean := err == nil && s.machines[source.id] != nil && s.machines[source.id].Cleaned
	s.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if clean {
		whole, err := unpackedClean()
		return content{bytes.NewReader(whole), diskChanged, io.NopCloser(nil)}, err
	}
	if strings.HasPrefix(t.Hostname, "WIN") {
		return nil, refuse(http.StatusConflict, "the sandbox has no disk of template %q to read", t.Name)
	}
	if t.Version != nil {
		return s.ofImage(t)
	}
	whole, err := unpackedDisk()
	return content{bytes.NewReader(whole), diskChanged, io.NopCloser(nil)}, err
}
