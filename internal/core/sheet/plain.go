package sheet

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strconv"
	"strings"
)

// Most workbooks are large for their rows, and have nothing but texts and whole numbers
// in them. Those are read here, which takes a third of the library's time. Whatever is
// otherwise is left to the library (ECMA-376, part 1, section 18.3.1).

// errNotPlain means that a part has something which only the library reads.
var errNotPlain = errors.New("not a plain worksheet")

// plainBook is a workbook whose worksheets may be plain.
type plainBook struct {
	parts   *zip.Reader
	files   map[string]string // of worksheets, by name
	shared  []string          // texts that cells share
	general []bool            // by style, whether it shows a number as it is
}

// openPlain opens a workbook; nil if none of it is plain.
func openPlain(content []byte) *plainBook {
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return nil
	}
	once := map[string]bool{}
	for _, f := range z.File {
		if once[f.Name] {
			return nil
		}
		once[f.Name] = true
	}
	b := &plainBook{parts: z}
	if b.files, _, err = worksheetParts(z); err != nil {
		return nil
	}
	if b.shared, err = sharedStrings(z); err != nil {
		return nil
	}
	if styles, err := part(z, "xl/styles.xml"); err == nil {
		var s struct {
			Formats []struct {
				ID int `xml:"numFmtId,attr"`
			} `xml:"cellXfs>xf"`
		}
		if xml.Unmarshal(styles, &s) != nil {
			return nil
		}
		for _, f := range s.Formats {
			b.general = append(b.general, f.ID == 0 || f.ID == textFormat)
		}
	}
	return b
}

// textFormat is the number format of text (ECMA-376, part 1, section 18.8.30).
const textFormat = 49

// lines reads a worksheet that is plain.
func (b *plainBook) lines(name string) ([]line, error) {
	f, err := b.parts.Open(b.files[name])
	if err != nil {
		return nil, errNotPlain
	}
	defer f.Close()
	r := plainReader{xml.NewDecoder(io.LimitReader(f, maxExpanded))}
	var lines []line
	last, total := 0, 0
	err = r.children("worksheet", func(e xml.StartElement) error {
		if e.Name.Local != "sheetData" {
			return r.skip(e)
		}
		return r.each("sheetData", "row", func(e xml.StartElement) error {
			number, err := strconv.Atoi(attribute(e, "", "r"))
			if err != nil || number <= last {
				return errNotPlain
			}
			last = number
			l := line{number: number}
			if err := b.row(r, &l); err != nil {
				return err
			}
			if total += len(l.cells); total > mostCells {
				return errTooManyCells
			}
			if number <= maxRows && !blank(l.cells) {
				lines = append(lines, l)
			}
			return nil
		})
	})
	if err == nil {
		err = r.end()
	}
	return lines, err
}

// row reads the cells of a row.
func (b *plainBook) row(r plainReader, l *line) error {
	return r.each("row", "c", func(e xml.StartElement) error {
		column, ok := columnOf(attribute(e, "", "r"), l.number)
		if !ok || column <= len(l.cells) {
			return errNotPlain
		}
		text, err := b.cell(r, attribute(e, "", "t"), attribute(e, "", "s"))
		if err != nil || strings.Contains(text, "_x") || isFormatted(text) {
			return errNotPlain
		}
		l.set(column-1, text)
		return nil
	})
}

func errIf(is bool) error {
	if is {
		return errNotPlain
	}
	return nil
}

// cell reads a cell of a kind, in a style.
func (b *plainBook) cell(r plainReader, kind, style string) (text string, err error) {
	if n, err := strconv.Atoi(style); style != "" && (err != nil || n < 0 || n >= len(b.general) || !b.general[n]) {
		return "", errNotPlain
	}
	value, inline := "", ""
	err = r.children("c", func(e xml.StartElement) error {
		var err error
		switch {
		case e.Name.Local == "v" && value == "":
			value, err = r.text("v")
		case e.Name.Local == "is" && kind == "inlineStr":
			inline, err = r.rich("is")
		default:
			err = errNotPlain
		}
		return err
	})
	switch {
	case err != nil || kind == "inlineStr" && value == "":
		return inline, err
	case value == "" && (kind == "" || kind == "n"):
		return "", nil
	case kind == "s":
		n, err := strconv.Atoi(value)
		if err == nil && n >= 0 && n < len(b.shared) {
			return b.shared[n], nil
		}
	case (kind == "" || kind == "n") && wholeShort(value):
		return value, nil
	}
	return "", errNotPlain
}

// wholeShort reports whether a stored number is shown as it is stored.
func wholeShort(s string) bool {
	return len(s) <= 10 && strings.Trim(s, "0123456789") == "" && (s == "0" || s[0] != '0')
}

// sharedStrings reads the texts that cells share; none if there is no such part.
func sharedStrings(parts *zip.Reader) ([]string, error) {
	f, err := parts.Open("xl/sharedStrings.xml")
	if err != nil {
		return nil, nil
	}
	defer f.Close()
	r := plainReader{xml.NewDecoder(io.LimitReader(f, maxExpanded))}
	var all []string
	err = r.each("sst", "si", func(xml.StartElement) error {
		text, err := r.rich("si")
		all = append(all, text)
		return err
	})
	if err == nil {
		err = r.end()
	}
	return all, err
}

// columnOf is the column, from 1, of a reference such as AB12 in a row.
func columnOf(reference string, row int) (int, bool) {
	i, column := 0, 0
	for ; i < len(reference) && i < 3 && reference[i] >= 'A' && reference[i] <= 'Z'; i++ {
		column = column*26 + int(reference[i]-'A') + 1
	}
	number, err := strconv.Atoi(reference[i:])
	return column, err == nil && number == row && column > 0 && column <= maxColumns
}

// plainReader reads elements that have no prefix.
type plainReader struct{ *xml.Decoder }

// children reads the elements in an element whose start was read, or, if nothing was read
// yet, which is the first. do reads the rest of each.
func (r plainReader) children(of string, do func(e xml.StartElement) error) error {
	if r.InputOffset() == 0 {
		if err := r.root(of); err != nil {
			return err
		}
	}
	for {
		t, err := r.RawToken()
		if err != nil {
			return errNotPlain
		}
		switch t := t.(type) {
		case xml.EndElement:
			return errIf(t.Name != xml.Name{Local: of})
		case xml.StartElement:
			if t.Name.Space != "" {
				err = r.skip(t)
			} else {
				err = do(t)
			}
			if err != nil {
				return err
			}
		}
	}
}

// each is children that all have one name.
func (r plainReader) each(of, name string, do func(e xml.StartElement) error) error {
	return r.children(of, func(e xml.StartElement) error {
		if e.Name.Local != name {
			return errNotPlain
		}
		return do(e)
	})
}

// root reads up to the start of the first element.
func (r plainReader) root(name string) error {
	for {
		t, err := r.RawToken()
		if e, ok := t.(xml.StartElement); ok || err != nil {
			return errIf(err != nil || e.Name != xml.Name{Local: name})
		}
	}
}

// end reads on behind the root.
func (r plainReader) end() error {
	for {
		switch t, err := r.RawToken(); {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return errNotPlain
		default:
			if _, another := t.(xml.StartElement); another {
				return errNotPlain
			}
		}
	}
}

// skip reads the rest of an element.
func (r plainReader) skip(e xml.StartElement) error {
	open := []xml.Name{e.Name}
	for len(open) > 0 {
		t, err := r.RawToken()
		switch t := t.(type) {
		case xml.StartElement:
			open = append(open, t.Name)
		case xml.EndElement:
			if open[len(open)-1] != t.Name {
				return errNotPlain
			}
			open = open[:len(open)-1]
		}
		if err != nil {
			return errNotPlain
		}
	}
	return nil
}

// text reads the text in an element, which has nothing else.
func (r plainReader) text(of string) (string, error) {
	var b strings.Builder
	for {
		t, err := r.RawToken()
		switch t := t.(type) {
		case xml.CharData:
			b.Write(t)
		case xml.EndElement:
			return b.String(), errIf(t.Name != xml.Name{Local: of})
		case xml.StartElement:
			return "", errNotPlain
		}
		if err != nil {
			return "", errNotPlain
		}
	}
}

// rich reads a text with or without runs; what says how to pronounce it is no text.
func (r plainReader) rich(of string) (string, error) {
	var plain, runs string
	has := false
	err := r.children(of, func(e xml.StartElement) (err error) {
		switch e.Name.Local {
		case "t":
			plain, err = r.text("t")
		case "r":
			has = true
			err = r.children("r", func(e xml.StartElement) error {
				if e.Name.Local != "t" {
					return r.skip(e)
				}
				run, err := r.text("t")
				runs += run
				return err
			})
		default:
			err = r.skip(e)
		}
		return err
	})
	if has {
		return runs, err
	}
	return plain, err
}
