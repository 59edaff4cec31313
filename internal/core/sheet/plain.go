package sheet

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"strconv"
	"strings"
)

// Most workbooks are large for their rows, and have nothing but texts and whole numbers
// in them. Those are read here, which takes a quarter of the library's time. Whatever is
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
	content, err := partUpTo(b.parts, b.files[name], maxExpanded)
	if err != nil {
		return nil, errNotPlain
	}
	r, err := readElements(content)
	if err != nil {
		return nil, err
	}
	var lines []line
	last, total := 0, 0
	err = r.children("worksheet", func(e string) error {
		if e != "sheetData" {
			return r.skip(e)
		}
		return r.each("sheetData", "row", func() error {
			number, err := strconv.Atoi(r.attribute("r"))
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
func (b *plainBook) row(r *elements, l *line) error {
	return r.each("row", "c", func() error {
		column, ok := columnOf(r.attribute("r"), l.number)
		if !ok || column <= len(l.cells) {
			return errNotPlain
		}
		text, err := b.cell(r, r.attribute("t"), r.attribute("s"))
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
func (b *plainBook) cell(r *elements, kind, style string) (text string, err error) {
	if n, err := strconv.Atoi(style); style != "" && (err != nil || n < 0 || n >= len(b.general) || !b.general[n]) {
		return "", errNotPlain
	}
	value, inline := "", ""
	err = r.children("c", func(e string) error {
		var err error
		switch {
		case e == "v" && value == "":
			value, err = r.text("v")
		case e == "is" && kind == "inlineStr":
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
	content, err := partUpTo(parts, "xl/sharedStrings.xml", maxExpanded)
	if err != nil {
		return nil, nil
	}
	r, err := readElements(content)
	if err != nil {
		return nil, err
	}
	var all []string
	err = r.each("sst", "si", func() error {
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
