// Package report writes hand-over documents: a copy of the user's own sheet
// with what became of each row.
package report

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"strings"

	"github.com/xuri/excelize/v2"

	"mintbatch/internal/core/sheet"
)

// Line is what became of one machine.
type Line struct {
	Work, State, Addresses, MAC, Host, When, Error string
}

// headings stand above the added columns.
var headings = []string{"work", "state", "addresses given", "MAC given", "made on host", "when", "error"}

func (l Line) cells() []string {
	return []string{l.Work, l.State, l.Addresses, l.MAC, l.Host, l.When, l.Error}
}

// joined puts the machines of one row into its cells, a line each.
func joined(lines []Line) []string {
	out := make([]string, len(headings))
	for column := range out {
		words := make([]string, len(lines))
		for i, l := range lines {
			words[i] = l.cells()[column]
		}
		out[column] = strings.TrimRight(strings.Join(words, "\n"), "\n")
	}
	return out
}

// ErrKind means that a copy of such a sheet cannot be written.
var ErrKind = errors.New("a copy can be written of a CSV, XLSX or ODS sheet only")

// Copy returns a copy of the sheet with added columns; the lines are by row.
// Whatever else the sheet holds stays as it is.
func Copy(original []byte, t *sheet.Table, lines map[int][]Line) ([]byte, error) {
	switch t.Kind {
	case sheet.CSV:
		return copyCSV(original, t, lines)
	case sheet.XLSX:
		return copyXLSX(original, t, lines)
	case sheet.ODS:
		return copyODS(original, t, lines)
	}
	return nil, ErrKind
}

func copyCSV(original []byte, t *sheet.Table, lines map[int][]Line) ([]byte, error) {
	records, err := sheet.Records(original, t.Comma)
	if err != nil {
		return nil, err
	}
	width := 0
	for _, r := range records {
		width = max(width, len(r.Cells))
	}
	var b bytes.Buffer
	if bytes.HasPrefix(original, []byte("\xef\xbb\xbf")) {
		b.WriteString("\xef\xbb\xbf")
	}
	w := csv.NewWriter(&b)
	w.Comma = t.Comma
	for _, r := range records {
		added := joined(lines[r.Number])
		if r.Number == t.HeadingRow {
			added = headings
		}
		cells := append(append([]string{}, r.Cells...), make([]string, width-len(r.Cells))...)
		for _, a := range added {
			cells = append(cells, harmless(a))
		}
		if err := w.Write(cells); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return b.Bytes(), w.Error()
}

// harmless keeps a spreadsheet program that opens the copy from taking what a
// site said for a formula.
func harmless(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

func copyXLSX(original []byte, t *sheet.Table, lines map[int][]Line) ([]byte, error) {
	book, err := excelize.OpenReader(bytes.NewReader(original))
	if err != nil {
		return nil, fmt.Errorf("read the workbook: %w", err)
	}
	defer book.Close()
	first := 0
	rows, err := book.Rows(t.Worksheet)
	if err != nil {
		return nil, fmt.Errorf("read worksheet %s: %w", t.Worksheet, err)
	}
	for rows.Next() {
		cells, err := rows.Columns()
		if err != nil {
			return nil, err
		}
		first = max(first, len(cells))
	}
	put := func(row int, cells []string) error {
		for i, text := range cells {
			if text == "" {
				continue
			}
			name, err := excelize.CoordinatesToCellName(first+1+i, row)
			if err != nil {
				return err
			}
			if err := book.SetCellStr(t.Worksheet, name, text); err != nil {
				return err
			}
		}
		return nil
	}
	if err := put(t.HeadingRow, headings); err != nil {
		return nil, err
	}
	for row, all := range lines {
		if err := put(row, joined(all)); err != nil {
			return nil, err
		}
	}
	out, err := book.WriteToBuffer()
	if err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}
