package formats

import (
	"bytes"
	"io"
	"testing"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
)

// memory is a file in memory.
type memory []byte

func (m memory) Size() int64 { return int64(len(m)) }

func (m memory) ReadAt(p []byte, at int64) (int, error) {
	n := copy(p, m[min(at, int64(len(m))):])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (m *memory) WriteAt(p []byte, at int64) (int, error) {
	if need := int(at) + len(p); need > len(*m) {
		*m = append(*m, make([]byte, need-len(*m))...)
	}
	return copy((*m)[at:], p), nil
}

// FuzzOpen spoils an image of a format at two places. Whatever becomes of it, it is refused or read, and nothing that it says
// makes its reader read for ever or run out of memory.
func FuzzOpen(f *testing.F) {
	var files []memory
	for _, format := range all {
		for _, v := range format.Variants {
			var m, flat memory
			order := image.Order{Size: 300 << 10, Variant: v, Identity: uuid.Max, Name: "x", Beside: func(string) (io.WriterAt, error) { return &flat, nil }}
			if v == image.Child {
				if format.Name == "qcow2" {
					order.Parent = &image.Image{Format: Raw}
				} else {
					order.Parent = &image.Image{Format: format.Name, Identity: map[bool]string{false: uuid.NameSpaceDNS.String(), true: "cid 01020304"}[format.Name == "vmdk"]}
				}
				order.ParentName = "base"
			}
			w, err := format.Create(&m, order)
			if err != nil {
				f.Fatal(err)
			}
			put, err := w.Prepare(1<<16, bytes.Repeat([]byte("mint"), 1<<14))
			if err == nil {
				err = put()
			}
			if err != nil {
				f.Fatal(err)
			}
			length, err := w.Close()
			if err != nil {
				f.Fatal(err)
			}
			m = append(m, make([]byte, max(0, length-m.Size()))...)
			files = append(files, m)
		}
	}
	for n, m := range files {
		f.Add(uint8(n), uint32(0), []byte{}, uint32(0), []byte{}, uint32(m.Size()))
		f.Add(uint8(n), uint32(60), []byte{1}, uint32(1536), []byte{0, 0, 0, 9}, uint32(m.Size()))
		f.Add(uint8(n), uint32(3<<20), []byte{7}, uint32(2<<20+40), []byte{0xff}, uint32(m.Size()))
	}
	f.Fuzz(func(t *testing.T, which uint8, at uint32, b []byte, at2 uint32, b2 []byte, length uint32) {
		m := bytes.Clone(files[int(which)%len(files)])
		for _, p := range []struct {
			at uint32
			b  []byte
		}{{at, b}, {at2, b2}} {
			copy(m[int(p.at)%len(m):], p.b)
		}
		file := memory(m[:min(len(m), int(length))])
		format, err := Detect(file)
		if err != nil {
			return
		}
		i, err := format.Open(file, func(string) (image.File, error) { return file, nil })
		if err != nil {
			return
		}
		_, _ = i.Check()
		chain, content := image.Chain{i}, make([]byte, 1<<16)
		for n, at := 0, int64(0); at < i.Length() && n < 64; n++ {
			run, err := chain.Run(at)
			if err != nil {
				return
			}
			if run.Length < 1 || at+run.Length > i.Length() {
				t.Fatalf("%s: a run of %d at %d of %d", format.Name, run.Length, at, i.Length())
			}
			if _, err := chain.ReadAt(content[:min(int64(len(content)), run.Length)], at); err != nil {
				return
			}
			at += run.Length
		}
	})
}
