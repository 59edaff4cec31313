// Package report writes hand-over documents: a copy of the user's own sheet
// with what became of each row.
package report

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"mintbatch/internal/core/sheet"
)

// Line is what became of one machine.
type Line struct {
	Work, State, Addresses, MAC, Host, When, Error, Records string
}

func (l Line) cells() []string {
	return []string{l.Work, l.State, l.Addresses, l.MAC, l.Host, l.When, l.Error, l.Records}
}

// joined puts the machines of one row into its cells, a line each.
func joined(lines []Line) []string {
	out := make([]string, len(sheet.Added))
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
var ErrKind = errors.New("only a CSV, XLSX or ODS sheet can be copied")

// CheckCopy reports whether a copy of a sheet can have the format that its name says:
// that of the sheet, or a plain workbook of a CSV.
func CheckCopy(t *sheet.Table, name string) error {
	ending := strings.ToLower(filepath.Ext(name))
	switch t.Kind {
	case sheet.CSV:
		if ending == ".xlsx" || ending == ".csv" || ending == ".tsv" || ending == ".txt" || ending == "" {
			return nil
		}
		return fmt.Errorf("a copy of a CSV sheet must be named .csv or .xlsx, not %q", ending)
	case sheet.XLSX:
		if slices.Contains([]string{".xlsx", ".xlsm", ".xltx", ".xltm"}, ending) {
			return nil
		}
		return fmt.Errorf("a copy of an XLSX workbook must be named .xlsx, not %q", ending)
	case sheet.ODS:
		if ending == ".ods" {
			return nil
		}
		return fmt.Errorf("a copy of an ODS sheet must be named .ods, not %q", ending)
	}
	return ErrKind
}

// Copy returns a copy of the sheet with added columns, in the format of its name;
// the lines are by row. In the copy of a copy they take the place of those that it has.
// Whatever else the sheet holds stays as it is.
func Copy(original []byte, t *sheet.Table, name string, lines map[int][]Line) ([]byte, error) {
	if err := CheckCopy(t, name); err != nil {
		return nil, err
	}
	switch t.Kind {
	case sheet.CSV:
		records, err := copiedRecords(original, t, lines)
		if err != nil {
			return nil, err
		}
		if strings.EqualFold(filepath.Ext(name), ".xlsx") {
			return workbookOf(records)
		}
		return writeCSV(original, t, records)
	case sheet.XLSX:
		return copyXLSX(original, t, name, lines)
	}
	return copyODS(original, t, lines)
}

// copiedRecords are the records of a CSV with the added columns.
func copiedRecords(original []byte, t *sheet.Table, lines map[int][]Line) ([][]string, error) {
	records, err := sheet.Records(original, t.Comma)
	if err != nil {
		return nil, err
	}
	width := 0
	for _, r := range records {
		width = max(width, len(r.Cells))
	}
	first := firstAdded(t, width)
	width = max(width, first+len(sheet.Added))
	copied := make([][]string, len(records))
	for i, r := range records {
		copied[i] = append(append([]string{}, r.Cells...), make([]string, width-len(r.Cells))...)
		var added []string
		if all := lines[r.Number]; r.Number == t.HeadingRow {
			added = sheet.Added
		} else if all != nil {
			added = joined(all)
		}
		for k, a := range added {
			copied[i][first+k] = harmless(a)
		}
	}
	return copied, nil
}

// firstAdded is the index of the first column that is added to a sheet that is so wide.
func firstAdded(t *sheet.Table, width int) int {
	if t.AddedAt > 0 {
		return t.AddedAt - 1
	}
	return width
}

func writeCSV(original []byte, t *sheet.Table, records [][]string) ([]byte, error) {
	var b bytes.Buffer
	if bytes.HasPrefix(original, []byte("\xef\xbb\xbf")) {
		b.WriteString("\xef\xbb\xbf")
	}
	w := csv.NewWriter(&b)
	w.Comma = t.Comma
	err := w.WriteAll(records)
	return b.Bytes(), err
}

// workbookOf is a workbook of one worksheet, all text.
func workbookOf(records [][]string) ([]byte, error) {
	book := excelize.NewFile()
	defer book.Close()
	rows, err := book.NewStreamWriter("Sheet1")
	if err != nil {
		return nil, err
	}
	for i, record := range records {
		cells := make([]any, len(record))
		for k, text := range record {
			cells[k] = text
		}
		at, err := excelize.CoordinatesToCellName(1, i+1)
		if err == nil {
			err = rows.SetRow(at, cells)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := rows.Flush(); err != nil {
		return nil, err
	}
	out, err := book.WriteToBuffer()
	if err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// harmless keeps a spreadsheet program that opens the copy from taking what a
// site said for a formula.
func harmless(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

func copyXLSX(original []byte, t *sheet.Table, name string, lines map[int][]Line) ([]byte, error) {
	book, err := excelize.OpenReader(bytes.NewReader(original))
	if err != nil {
		return nil, fmt.Errorf("read the workbook: %w", err)
	}
	defer book.Close()
	book.Path = name // whose ending says what kind of workbook it is
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
	first = firstAdded(t, first)
	put := func(row int, cells []string) error {
		for i, text := range cells {
			if text == "" && t.AddedAt == 0 {
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
	if err := put(t.HeadingRow, sheet.Added); err != nil {
		return nil, err
	}
	for row, all := range lines {
		if err := put(row, joined(all)); err != nil {
			return nil, err
		}
	}
	var out bytes.Buffer
	if err := book.Write(&out); err != nil { // with the content type of its name
		return nil, err
	}
	return out.Bytes(), nil
}
