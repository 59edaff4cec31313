package sheet

import (
	"archive/zip"
	"bytes"
	"cmp"
	"encoding/xml"
	"errors"
	"io"

	"golang.org/x/text/encoding/charmap"
)

// maxExpanded bounds what an archive may expand to.
const maxExpanded = 1 << 30

// largePart is a part, in bytes, in which elements could be within each other by the million. Whoever reads
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
		if f.UncompressedSize64 > largePart && isDeep(z, f.Name) {
			return unreadable("the workbook is damaged: %s", errDeep)
		}
	}
	return nil
}

// isDeep reports whether a part has elements too far within each other, as far as it can be read.
func isDeep(z *zip.Reader, name string) bool {
	content, err := partUpTo(z, name, maxExpanded)
	if err != nil {
		return false
	}
	deep, err := deepElements(content)
	if err != nil {
		return deepXML(content)
	}
	return deep
}

func deepElements(content []byte) (bool, error) {
	r, err := readElements(content)
	for depth := 0; err == nil && depth <= deepest; {
		var t token
		switch t, err = r.next(); {
		case t.start != "":
			depth++
		case t.end != "":
			depth--
		case t.text == nil:
			return false, err
		}
	}
	return err == nil, err
}

// deepXML is deepElements of any part, which takes some times as long. Whatever its encoding, elements are begun by the same bytes.
func deepXML(content []byte) bool {
	d := xml.NewDecoder(bytes.NewReader(content))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return charmap.ISO8859_1.NewDecoder().Reader(r), nil }
	for depth := 0; depth <= deepest; {
		switch t, err := d.RawToken(); t.(type) {
		case xml.StartElement:
			depth++
		case xml.EndElement:
			depth--
		default:
			if err != nil {
				return false
			}
		}
	}
	return true
}
