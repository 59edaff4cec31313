package ova

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/ovf"
)

// Write writes a machine with one disk as an archive: description, disk, manifest. It goes over the disk once, and what of the
// description and of the headers is known only then is filled in at the end. The same machine and disk give the same bytes.
func Write(ctx context.Context, to *os.File, m ovf.Machine, disk image.Chain, identity uuid.UUID, done func(at int64)) error {
	base := FileName(m.Name)
	m.Disks = []ovf.Disk{{File: base + "-disk1.vmdk", Size: machine.Size(disk.Length()), Format: ovf.FormatURI("stream")}}
	w := &writer{to: to}
	room := len(m.Describe()) + len(` ovf:size="9223372036854775807"`)
	description := w.reserve(int64(room))
	disk1 := w.reserve(0)
	stream := &sequential{to: io.NewOffsetWriter(to, w.at), sum: sha256.New()}
	vmdk, _ := formats.Of("vmdk")
	image1, err := vmdk.Create(stream, image.Order{Size: disk.Length(), Variant: image.Stream, Identity: identity, Name: m.Disks[0].File})
	if err == nil {
		err = image.Copy(ctx, image1, disk, nil, done)
	}
	if err == nil {
		_, err = image1.Close()
	}
	if err != nil {
		return err
	}
	m.Disks[0].Length = stream.at
	w.at += stream.at
	w.pad()
	text := m.Describe()
	text = append(bytes.TrimSuffix(text, []byte("\n")), strings.Repeat(" ", room-len(text))...)
	text = append(text, '\n')
	manifest := fmt.Sprintf("SHA256(%s.ovf)= %x\nSHA256(%s)= %x\n", base, sha256.Sum256(text), m.Disks[0].File, stream.sum.Sum(nil))
	last := w.reserve(int64(len(manifest)))
	for _, part := range []struct {
		at   int64
		name string
		text []byte
		size int64
	}{{last, base + ".mf", []byte(manifest), int64(len(manifest))}, {disk1, m.Disks[0].File, nil, stream.at}, {description, base + ".ovf", text, int64(len(text))}} {
		head, err := header(part.name, part.size)
		if err != nil {
			return err
		}
		if _, err := to.WriteAt(head, part.at); err != nil {
			return err
		}
		if _, err := to.WriteAt(part.text, part.at+int64(len(head))); err != nil {
			return err
		}
	}
	w.at += 1024 // the end of an archive
	return errors.Join(to.Truncate((w.at+10239)/10240*10240), to.Sync())
}

// FileName is a name of a machine that is safe as one of a file.
func FileName(name string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`/\:*?"<>|()@`, r) {
			return '-'
		}
		return r
	}, name)
}

// writer hands out places in an archive.
type writer struct {
	to *os.File
	at int64
}

// reserve makes room for a header and so many bytes after it, and returns where the header goes. With no bytes, they are written next.
func (w *writer) reserve(size int64) int64 {
	at := w.at
	w.at += 512 + size
	w.pad()
	return at
}

func (w *writer) pad() { w.at = (w.at + 511) / 512 * 512 }

// header is that of a file in an archive, which is one block.
func header(name string, size int64) ([]byte, error) {
	var b bytes.Buffer
	h := tar.Header{Name: name, Size: size, Mode: 0o644, ModTime: time.Unix(0, 0), Format: tar.FormatUSTAR}
	if size >= 8<<30 { // more than the octal digits of USTAR can tell
		h.Format = tar.FormatGNU
	}
	if err := tar.NewWriter(&b).WriteHeader(&h); err != nil {
		return nil, fmt.Errorf("%s cannot be in an archive: %w", name, err)
	}
	return b.Bytes(), nil
}

// sequential takes what is written from the beginning to the end, and sums it.
type sequential struct {
	to  io.Writer
	at  int64
	sum hash.Hash
}

var errOrder = errors.New("an image is not written from its beginning to its end")

// WriteAt implements io.WriterAt.
func (s *sequential) WriteAt(b []byte, at int64) (int, error) {
	if at != s.at {
		return 0, errOrder
	}
	n, err := s.to.Write(b)
	s.sum.Write(b[:n])
	s.at += int64(n)
	return n, err
}
