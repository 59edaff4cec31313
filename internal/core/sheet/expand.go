package sheet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"encoding/xml"
	"errors"
	"io"

	"golang.org/x/text/encoding/charmap"
)

// maxExpanded bounds what an archive may expand to.
const maxExpanded = 1 << 30

// largePart is a part, in bytes, in which elements could be within each other by the million, or have as many attributes. Whoever reads
// it remembers them all.
const largePart = 16 << 20

// deepest is how far elements may be within each other.
const deepest = 100

var errDeep = errors.New("its elements are nested too deeply")

func (s Source) expanded() uint64 { return cmp.Or(s.Expanded, maxExpanded) }

// overgrown refuses an archive of a few bytes that would fill the memory.
func overgrown(s Source) *broken {
	content, most := s.Content, s.expanded()
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return unreadable("the workbook is damaged: %s", err)
	}
	var total uint64
	for _, f := range z.File {
		if total += f.UncompressedSize64; f.UncompressedSize64 > most || total > most {
			return tooLarge("split it", "the workbook expands to more than %d MiB", most>>20)
		}
	}
	for _, f := range z.File {
		if f.UncompressedSize64 > largePart {
			if err := outsize(z, f.Name); err != nil {
				return unreadable("the workbook is damaged: %s", err)
			}
		}
	}
	return nil
}

// outsize says why whoever reads a part would fill the memory; nil if not, as far as it can be read.
func outsize(z *zip.Reader, name string) error {
	content, err := partUpTo(z, name, maxExpanded)
	if err != nil {
		return nil
	}
	r, err := readElements(content)
	for depth := 0; err == nil && depth <= deepest; {
		var t token
		switch t, err = r.next(); {
		case t.start != "":
			depth++
		case t.end != "":
			depth--
		case t.text == nil && err == nil:
			return nil
		}
	}
	if err == nil {
		return errDeep
	}
	return outsizeXML(content)
}

// outsizeXML is outsize of any part, which takes some times as long. Whatever its encoding, elements are begun by the same bytes.
func outsizeXML(content []byte) error {
	from := &measured{Reader: bytes.NewReader(content)}
	d := xml.NewDecoder(from)
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) {
		from.Reader = bufio.NewReader(charmap.ISO8859_1.NewDecoder().Reader(from.Reader))
		return from, nil
	}
	for depth := 0; depth <= deepest; from.since = 0 {
		switch t, err := d.RawToken(); t.(type) {
		case xml.StartElement:
			depth++
		case xml.EndElement:
			depth--
		default:
			if err != nil {
				return from.err
			}
		}
	}
	return errDeep
}

// longest is how many bytes a text or a tag may have.
const longest = 1 << 20

var errLong = errors.New("a text or an element in it is too long")

// measured reads bytes up to so many since they were counted anew.
type measured struct {
	Reader interface {
		io.Reader
		io.ByteReader
	}
	since int
	err   error
}

func (m *measured) ReadByte() (byte, error) {
	if m.since++; m.since > longest {
		m.err = errLong
		return 0, errLong
	}
	return m.Reader.ReadByte()
}

func (m *measured) Read(into []byte) (int, error) { return m.Reader.Read(into) }
