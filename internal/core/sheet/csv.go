package sheet

import (
	"encoding/csv"
	"errors"
	"io"
	"strings"

	"mintbatch/internal/core/finding"
)

// Record is a row of a CSV as it stands in the file.
type Record struct {
	Number int // as a spreadsheet program counts the rows
	Cells  []string
}

// Records reads separated values (RFC 4180).
func Records(content []byte, comma rune) ([]Record, error) {
	text, _ := decode(content)
	return records(text, comma)
}

func records(text string, comma rune) ([]Record, error) {
	if strings.Count(text, string(comma)) > mostCells {
		return nil, errTooManyCells
	}
	var all []Record
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord = -1
	r.Comma = comma
	folded := 0 // line breaks inside cells so far: a spreadsheet shows no row for them
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		if len(all) == maxRows {
			return nil, errTooManyRows
		}
		first, _ := r.FieldPos(0)
		all = append(all, Record{Number: first - folded, Cells: cells})
		for _, c := range cells {
			folded += strings.Count(c, "\n")
		}
	}
}

func readCSV(s Source) ([]grid, *broken) {
	text, ok := decode(s.Content)
	if !ok {
		return nil, &broken{code: "unknown-kind", message: binary.refusal(), hint: "save it as CSV, XLSX or ODS"}
	}
	comma := separator(text, s.Rules)
	records, err := records(text, comma)
	var parse *csv.ParseError
	switch {
	case errors.As(err, &parse):
		return nil, &broken{code: "unreadable-sheet", message: parse.Err.Error(),
			hint: "quote the whole cell and double every quote inside it",
			at:   finding.Position{Row: parse.Line, Column: parse.Column, Text: true}}
	case err != nil:
		return nil, cannotRead("the sheet", err)
	}
	return []grid{{comma: comma, lines: func(yield func(line) bool) {
		for _, r := range records {
			if !yield(line{number: r.Number, cells: r.Cells}) {
				return
			}
		}
	}}}, nil
}

func walk(lines []line) func(yield func(line) bool) {
	return func(yield func(line) bool) {
		for _, l := range lines {
			if !yield(l) {
				return
			}
		}
	}
}

// separator finds what separates the cells: of comma, semicolon and tab the
// one by which the most headings of a line are understood, else the one that
// divides the first lines into the most columns that they have in common.
func separator(text string, rules []Rule) rune {
	best, most := ',', rating{}
	text = text[:min(len(text), firstLines)]
	for _, c := range []rune{',', ';', '\t'} {
		if r := rate(text, c, rules); most.less(r) {
			best, most = c, r
		}
	}
	return best
}

// firstLines is how much of a sheet, in bytes, says what separates its cells.
const firstLines = 1 << 20

// rating reports how well a separator fits.
type rating struct{ headings, columns int }

func (a rating) less(b rating) bool {
	return a.headings < b.headings || a.headings == b.headings && a.columns < b.columns
}

func rate(text string, comma rune, rules []Rule) rating {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.ReuseRecord, r.LazyQuotes = comma, -1, true, true
	var best rating
	lengths := map[int]int{}
	for range searched {
		record, err := r.Read()
		if err != nil {
			break
		}
		known := 0
		for _, cell := range record {
			if _, _, ok := understand(cell, rules); ok {
				known++
			}
		}
		best.headings = max(best.headings, known)
		lengths[len(record)]++
		best.columns = max(best.columns, (len(record)-1)*lengths[len(record)])
	}
	return best
}
