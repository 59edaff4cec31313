package sheet

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strconv"
)

// The namespaces of OpenDocument 1.2, part 1.
const (
	odfTable  = "urn:oasis:names:tc:opendocument:xmlns:table:1.0"
	odfOffice = "urn:oasis:names:tc:opendocument:xmlns:office:1.0"
	odfText   = "urn:oasis:names:tc:opendocument:xmlns:text:1.0"
	odfStyle  = "urn:oasis:names:tc:opendocument:xmlns:style:1.0"
)

// readODS reads a spreadsheet of OpenDocument 1.2 (part 1, section 9.1). What a
// cell shows is stored with it.
func readODS(s Source) ([]grid, *broken) {
	if failed := overgrown(s); failed != nil {
		return nil, failed
	}
	z, err := zip.NewReader(bytes.NewReader(s.Content), int64(len(s.Content)))
	if err != nil {
		return nil, unreadable("the workbook is damaged: %s", err)
	}
	if manifest, err := part(z, "META-INF/manifest.xml"); err == nil && bytes.Contains(manifest, []byte("encryption-data")) {
		return nil, &broken{code: "unknown-kind", message: "the workbook has a password", hint: "save it without a password"}
	}
	o := ods{hidden: map[string]bool{}}
	for _, name := range []string{"styles.xml", "content.xml"} {
		f, err := z.Open(name)
		if err != nil && name == "styles.xml" {
			continue
		}
		if err == nil {
			o.d = xml.NewDecoder(f)
			err = o.document()
			_ = f.Close()
		}
		if err != nil {
			return nil, cannotRead("the workbook", err)
		}
	}
	return o.grids, nil
}

func part(z *zip.Reader, name string) ([]byte, error) { return partUpTo(z, name, 1<<20) }

func partUpTo(z *zip.Reader, name string, most int64) ([]byte, error) {
	f, err := z.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var content bytes.Buffer
	if info, err := f.Stat(); err == nil {
		content.Grow(int(min(info.Size(), most)) + bytes.MinRead)
	}
	_, err = content.ReadFrom(io.LimitReader(f, most))
	return content.Bytes(), err
}

type ods struct {
	d      *xml.Decoder
	hidden map[string]bool // styles of tables that are not displayed
	grids  []grid

	lines  []line
	total  int            // cells of all tables
	number int            // of rows so far
	cover  map[int]*merge // by column, the cell that was merged last
	depth  int
}

// merge is a cell that covers others: down to a row, and from its own column on.
type merge struct {
	odsCell
	row, last int
	column    int
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

// children calls do for each element within the one that was begun last. What do
// does not read to its end, by returning false, is skipped.
func (o *ods) children(do func(xml.StartElement) (read bool, err error)) error {
	o.depth++
	defer func() { o.depth-- }()
	for o.depth < deepest {
		t, err := o.d.Token()
		if err != nil {
			return err
		}
		switch e := t.(type) {
		case xml.EndElement:
			return nil
		case xml.StartElement:
			read, err := do(e)
			if err == nil && !read {
				err = o.d.Skip()
			}
			if err != nil {
				return err
			}
		}
	}
	return errDeep
}

// document reads the tables of a spreadsheet, and the styles by which some are
// hidden; tables within something else are no worksheets.
func (o *ods) document() error {
	style := ""
	var within func(e xml.StartElement) (bool, error)
	within = func(e xml.StartElement) (bool, error) {
		switch e.Name {
		case xml.Name{Space: odfStyle, Local: "style"}:
			style = attribute(e, odfStyle, "name")
		case xml.Name{Space: odfStyle, Local: "table-properties"}:
			o.hidden[style] = attribute(e, odfTable, "display") == "false"
			return false, nil
		case xml.Name{Space: odfTable, Local: "table"}:
			return true, o.table(e)
		case xml.Name{Space: odfTable, Local: "dde-links"}, xml.Name{Space: odfTable, Local: "tracked-changes"}:
			return false, nil
		}
		return true, o.children(within)
	}
	err := o.children(within)
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

func (o *ods) table(e xml.StartElement) error {
	o.lines, o.number, o.cover = nil, 0, map[int]*merge{}
	var within func(e xml.StartElement) (bool, error)
	within = func(e xml.StartElement) (bool, error) {
		switch {
		case e.Name.Space != odfTable:
			return false, nil
		case e.Name.Local == "table-row":
			return true, o.row(times(e, "number-rows-repeated"))
		case e.Name.Local == "table-row-group", e.Name.Local == "table-header-rows", e.Name.Local == "table-rows":
			return true, o.children(within)
		}
		return false, nil
	}
	err := o.children(within)
	o.grids = append(o.grids, grid{worksheet: attribute(e, odfTable, "name"), lines: walk(o.lines), hidden: o.hidden[attribute(e, odfTable, "style-name")]})
	return err
}

func (o *ods) row(repeated int) error {
	l := line{number: o.number + 1}
	column, own := 0, false
	err := o.children(func(e xml.StartElement) (bool, error) {
		if e.Name.Space != odfTable || e.Name.Local != "table-cell" && e.Name.Local != "covered-table-cell" {
			return false, nil
		}
		n := times(e, "number-columns-repeated")
		c, err := o.cell(e)
		if e.Name.Local == "covered-table-cell" {
			for i := column; i < min(column+n, maxColumns); i++ {
				if m := o.cover[i]; m != nil && m.last >= l.number {
					m.put(&l, i)
					l.covered.set(i, i > m.column)
				}
			}
		} else {
			o.merge(e, c, l.number, column)
			for i := column; c.text != "" && i < min(column+n, maxColumns); i++ {
				c.put(&l, i)
				own = true
			}
		}
		column += n
		return true, err
	})
	o.number += repeated
	if o.total += len(l.cells); err == nil && o.total > mostCells {
		err = errTooManyCells
	}
	if err != nil || !own { // a row of which others cover all is blank to its reader
		return err
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

// merge notes which cells this one covers.
func (o *ods) merge(e xml.StartElement, c odsCell, row, column int) {
	rows, columns := times(e, "number-rows-spanned"), times(e, "number-columns-spanned")
	if rows == 1 && columns == 1 {
		return
	}
	m := &merge{odsCell: c, row: row, last: row + rows - 1, column: column}
	for i := column; i < min(column+columns, maxColumns); i++ {
		if other := o.cover[i]; other != nil && other.row == row {
			return // which covers this one
		}
		o.cover[i] = m
	}
}
