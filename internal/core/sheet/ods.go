package sheet

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"
)

// The namespaces of OpenDocument 1.2, part 1.
const (
	odfTable  = "urn:oasis:names:tc:opendocument:xmlns:table:1.0"
	odfOffice = "urn:oasis:names:tc:opendocument:xmlns:office:1.0"
	odfText   = "urn:oasis:names:tc:opendocument:xmlns:text:1.0"
)

// readODS reads a spreadsheet of OpenDocument 1.2 (part 1, section 9.1). What a
// cell shows is stored with it.
func readODS(s Source) ([]grid, *broken) {
	if failed := tooLarge(s.Content); failed != nil {
		return nil, failed
	}
	z, err := zip.NewReader(bytes.NewReader(s.Content), int64(len(s.Content)))
	if err != nil {
		return nil, unreadable("the workbook is damaged: %s", err)
	}
	if manifest, err := part(z, "META-INF/manifest.xml"); err == nil && bytes.Contains(manifest, []byte("encryption-data")) {
		return nil, &broken{code: "unknown-kind", message: "the workbook has a password", hint: "save it without one"}
	}
	f, err := z.Open("content.xml")
	if err != nil {
		return nil, unreadable("the workbook is damaged: %s", err)
	}
	defer f.Close()
	o := ods{d: xml.NewDecoder(f)}
	if err := o.document(); err != nil {
		return nil, unreadable("the workbook is damaged: %s", err)
	}
	return o.grids, nil
}

func part(z *zip.Reader, name string) ([]byte, error) {
	f, err := z.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, 1<<20))
}

type ods struct {
	d     *xml.Decoder
	grids []grid

	lines  []line
	number int
	spans  map[int]*span // cells merged downwards, by column
}

type span struct {
	left int
	text string
}

func attribute(e xml.StartElement, space, name string) string {
	for _, a := range e.Attr {
		if a.Name.Space == space && a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// times reads a count of repetitions; 1 where there is none.
func times(e xml.StartElement, name string) int {
	n, err := strconv.Atoi(attribute(e, odfTable, name))
	if err != nil || n < 1 {
		return 1
	}
	return n
}

func (o *ods) document() error {
	for {
		t, err := o.d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if e, ok := t.(xml.StartElement); ok && e.Name == (xml.Name{Space: odfTable, Local: "table"}) {
			if err := o.table(attribute(e, odfTable, "name")); err != nil {
				return err
			}
		}
	}
}

func (o *ods) table(name string) error {
	o.lines, o.number, o.spans = nil, 0, map[int]*span{}
	for depth := 1; depth > 0; {
		t, err := o.d.Token()
		if err != nil {
			return err
		}
		switch e := t.(type) {
		case xml.StartElement:
			if e.Name == (xml.Name{Space: odfTable, Local: "table-row"}) {
				if err := o.row(times(e, "number-rows-repeated")); err != nil {
					return err
				}
				continue
			}
			depth++
		case xml.EndElement:
			depth--
		}
	}
	o.grids = append(o.grids, grid{worksheet: name, lines: walk(o.lines)})
	return nil
}

// maxColumns is as many columns as a spreadsheet program shows.
const maxColumns = 1 << 14

func (o *ods) row(repeated int) error {
	l := line{number: o.number + 1}
	column := 0
	for {
		t, err := o.d.Token()
		if err != nil {
			return err
		}
		if _, end := t.(xml.EndElement); end {
			break
		}
		e, ok := t.(xml.StartElement)
		if !ok {
			continue
		}
		n := times(e, "number-columns-repeated")
		text, day, err := o.cell(e)
		if err != nil {
			return err
		}
		if e.Name.Local == "covered-table-cell" {
			if s := o.spans[column]; s != nil && s.left > 0 {
				text = s.text
				s.left--
			}
		} else if rows := times(e, "number-rows-spanned"); rows > 1 {
			o.spans[column] = &span{rows - 1, text}
		}
		for i := column; text != "" && i < min(column+n, maxColumns); i++ {
			l.set(i, text)
			if day != "" {
				if l.days == nil {
					l.days = map[int]string{}
				}
				l.days[i] = day
			}
		}
		column += n
	}
	o.number += repeated
	if blank(l.cells) {
		return nil
	}
	for i := range repeated {
		if len(o.lines) >= maxRows {
			return errors.New("it has more than a million rows")
		}
		copied := l
		copied.number += i
		o.lines = append(o.lines, copied)
	}
	return nil
}

var exponent = regexp.MustCompile(`[0-9]E[-+]?[0-9]`)

// cell reads a cell to its end: the paragraphs that it shows.
func (o *ods) cell(e xml.StartElement) (text, day string, err error) {
	var b strings.Builder
	paragraphs, note := 0, 0
	for depth := 1; depth > 0; {
		t, err := o.d.Token()
		if err != nil {
			return "", "", err
		}
		switch t := t.(type) {
		case xml.StartElement:
			depth++
			switch {
			case t.Name == (xml.Name{Space: odfOffice, Local: "annotation"}):
				note = depth
			case note > 0 || t.Name.Space != odfText:
			case t.Name.Local == "p":
				if paragraphs++; paragraphs > 1 {
					b.WriteByte('\n')
				}
			case t.Name.Local == "s":
				n, err := strconv.Atoi(attribute(t, odfText, "c"))
				if err != nil {
					n = 1
				}
				b.WriteString(strings.Repeat(" ", min(max(n, 1), 1000)))
			case t.Name.Local == "tab":
				b.WriteByte('\t')
			case t.Name.Local == "line-break":
				b.WriteByte('\n')
			}
		case xml.EndElement:
			if depth == note {
				note = 0
			}
			depth--
		case xml.CharData:
			if note == 0 && paragraphs > 0 {
				b.Write(t)
			}
		}
	}
	text = b.String()
	switch attribute(e, odfOffice, "value-type") {
	case "date":
		if d := attribute(e, odfOffice, "date-value"); len(d) >= 10 {
			day = d[:10]
		}
	case "float":
		if exponent.MatchString(text) || decimals.MatchString(text) {
			text = wholeNumber(attribute(e, odfOffice, "value"))
		}
	}
	return text, day, nil
}
