package formats

import (
	"bytes"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/imagetest"
)

// parts are an image, and a file beside it.
type parts struct{ file, beside imagetest.Memory }

// FuzzOpen spoils an image of a format at two places. Whatever becomes of it, it is refused or read, and nothing that it says
// makes its reader read for ever or run out of memory.
func FuzzOpen(f *testing.F) {
	var files []parts
	for _, format := range all {
		for _, v := range format.Variants {
			var m, flat imagetest.Memory
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
			files = append(files, parts{m, flat})
		}
	}
	for _, kind := range []string{"vmfsSparse", "seSparse"} {
		files = append(files, parts{imagetest.Memory("# Disk DescriptorFile\nCID=01020304\nparentCID=ffffffff\nRW 8192 " + strings.ToUpper(kind) + " \"x\"\n"), imagetest.Deltas()[kind]})
	}
	for n, both := range files {
		m := both.file
		f.Add(uint8(n), uint32(0), []byte{}, uint32(0), []byte{}, uint32(m.Size()))
		f.Add(uint8(n), uint32(60), []byte{1}, uint32(1536), []byte{0, 0, 0, 9}, uint32(m.Size()))
		f.Add(uint8(n), uint32(3<<20), []byte{7}, uint32(2<<20+40), []byte{0xff}, uint32(m.Size()))
	}
	f.Fuzz(func(t *testing.T, which uint8, at uint32, b []byte, at2 uint32, b2 []byte, length uint32) {
		of := files[int(which)%len(files)]
		m := slices.Concat(of.file, of.beside)
		for _, p := range []struct {
			at uint32
			b  []byte
		}{{at, b}, {at2, b2}} {
			copy(m[int(p.at)%len(m):], p.b)
		}
		file, beside := m[:min(of.file.Size(), int64(length))], m[of.file.Size():]
		format, err := Detect(file)
		if err != nil {
			return
		}
		i, err := format.Open(file, func(string) (image.File, error) { return beside, nil })
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
