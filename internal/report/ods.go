package report

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"mintbatch/internal/core/pattern"
	"mintbatch/internal/core/sheet"
)

// copyODS writes an OpenDocument spreadsheet anew with cells put into its rows.
// The document is not parsed and written back, which would lose what this
// program does not know: the new cells are spliced into its very text.
func copyODS(original []byte, t *sheet.Table, lines map[int][]Line) ([]byte, error) {
	z, err := zip.NewReader(bytes.NewReader(original), int64(len(original)))
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range z.File {
		if f.Name != "content.xml" {
			if err := w.Copy(f); err != nil {
				return nil, err
			}
			continue
		}
		r, err := f.Open()
		if err != nil {
			return nil, err
		}
		text, err := io.ReadAll(r)
		if err := errors.Join(err, r.Close()); err != nil {
			return nil, err
		}
		spliced, err := splice(text, t, lines)
		if err != nil {
			return nil, err
		}
		part, err := w.Create(f.Name)
		if err != nil {
			return nil, err
		}
		if _, err := part.Write(spliced); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// odsCell is where a cell stands in the text and in its row.
type odsCell struct {
	start, end  int64
	column, n   int
	blank       bool
	afterRow    bool // no cell, but the end of the row
	row, height int
}

func splice(text []byte, t *sheet.Table, lines map[int][]Line) ([]byte, error) {
	for _, prefix := range []string{"table", "office", "text"} {
		if !bytes.Contains(text, []byte(`xmlns:`+prefix+`="urn:oasis:names:tc:opendocument:xmlns:`+prefix+`:1.0"`)) {
			return nil, ErrKind
		}
	}
	cells, err := odsCells(text, t.Worksheet)
	if err != nil {
		return nil, fmt.Errorf("read the workbook: %w", err)
	}
	first := 0
	for _, c := range cells {
		if !c.blank {
			first = max(first, c.column+c.n)
		}
	}
	first = firstAdded(t, first)
	behind := first + len(sheet.Added)
	var out bytes.Buffer
	var at int64
	done := 0 // the row that has its cells
	for _, c := range cells {
		added := lines[c.row]
		if c.row != t.HeadingRow && added == nil || c.height > 1 {
			continue
		}
		if c.afterRow && done == c.row || !c.afterRow && (c.column+c.n <= first || c.column >= behind) {
			continue
		}
		out.Write(text[at:c.start])
		tag := string(text[c.start:c.end])
		if at = c.end; c.afterRow {
			tag = "<table:table-cell/>"
		}
		out.WriteString(repeated(tag, first-c.column))
		if done != c.row {
			texts := sheet.Added
			if c.row != t.HeadingRow {
				texts = joined(added)
			}
			for _, s := range texts {
				out.WriteString(odsText(s))
			}
			done = c.row
		}
		if !c.afterRow {
			out.WriteString(repeated(tag, c.column+c.n-behind))
		}
	}
	out.Write(text[at:])
	return out.Bytes(), nil
}

// odsCells lists the cells of a worksheet, and the end of each of its rows.
func odsCells(text []byte, worksheet string) ([]odsCell, error) {
	d := xml.NewDecoder(bytes.NewReader(text))
	var cells []odsCell
	within := false // the worksheet
	row, height, column := 0, 1, 0
	for {
		start := d.InputOffset()
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return cells, nil
		}
		if err != nil {
			return nil, err
		}
		switch e := token.(type) {
		case xml.StartElement:
			switch e.Name.Local {
			case "table":
				within = odsAttribute(e, "name") == worksheet
			case "table-row":
				row, height, column = row+height, max(odsCount(e, "number-rows-repeated"), 1), 0
			case "table-cell", "covered-table-cell":
				content := d.InputOffset()
				if err := d.Skip(); err != nil {
					return nil, err
				}
				end := d.InputOffset()
				c := odsCell{start: start, end: end, column: column, n: max(odsCount(e, "number-columns-repeated"), 1), row: row, height: height}
				c.blank = e.Name.Local == "table-cell" && !bytes.Contains(text[content:end], []byte("<text:p"))
				column += c.n
				if within {
					cells = append(cells, c)
				}
			}
		case xml.EndElement:
			switch {
			case e.Name.Local == "table":
				within = false
				row, height = 0, 1
			case e.Name.Local == "table-row" && within:
				cells = append(cells, odsCell{start: start, end: start, column: column, blank: true, afterRow: true, row: row, height: height})
			}
		}
	}
}

func odsAttribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

func odsCount(e xml.StartElement, name string) int {
	n, _ := strconv.Atoi(odsAttribute(e, name))
	return n
}

var columnsRepeated = pattern.Lazy(` table:number-columns-repeated="[0-9]+"`)

// repeated writes a blank cell's tag so that it stands for n cells.
func repeated(tag string, n int) string {
	if n <= 0 {
		return ""
	}
	tag = columnsRepeated().ReplaceAllString(tag, "")
	if n == 1 {
		return tag
	}
	name, rest, _ := strings.Cut(tag, "table-cell")
	return fmt.Sprintf(`%stable-cell table:number-columns-repeated="%d"%s`, name, n, rest)
}

func odsText(s string) string {
	if s == "" {
		return "<table:table-cell/>"
	}
	var b strings.Builder
	b.WriteString(`<table:table-cell office:value-type="string">`)
	for _, line := range strings.Split(s, "\n") {
		b.WriteString("<text:p>")
		_ = xml.EscapeText(&b, []byte(line))
		b.WriteString("</text:p>")
	}
	b.WriteString("</table:table-cell>")
	return b.String()
}
