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

// Records reads separated values (RFC 4180) and tells what separates them.
func Records(content []byte) ([]Record, rune, error) {
	text, _ := decode(content)
	var all []Record
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord = -1
	r.Comma = separator(text)
	folded := 0 // line breaks inside cells so far: a spreadsheet shows no row for them
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			return all, r.Comma, nil
		}
		if err != nil {
			return nil, r.Comma, err
		}
		first, _ := r.FieldPos(0)
		all = append(all, Record{Number: first - folded, Cells: cells})
		for _, c := range cells {
			folded += strings.Count(c, "\n")
		}
	}
}

func readCSV(content []byte) ([]grid, *broken) {
	if _, ok := decode(content); !ok {
		return nil, &broken{code: "unknown-kind", message: binary.refusal(), hint: "save it as CSV, XLSX or ODS"}
	}
	records, _, err := Records(content)
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		return nil, &broken{code: "unreadable-sheet", message: parse.Err.Error(),
			hint: "put quotes around the whole cell and double every quote inside it",
			at:   finding.Position{Row: parse.Line, Column: parse.Column, Text: true}}
	}
	return []grid{{lines: func(yield func(line) bool) {
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
// one that divides the first lines into the most columns that all of them have.
func separator(text string) rune {
	best, most := ',', 0
	for _, c := range []rune{',', ';', '\t'} {
		if n := columnsBy(text, c); n > most {
			best, most = c, n
		}
	}
	return best
}

// columnsBy rates a separator: the columns that most of the first records
// have, above one, times how many have just so many.
func columnsBy(text string, comma rune) int {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.ReuseRecord, r.LazyQuotes = comma, -1, true, true
	counts := map[int]int{}
	for range 50 {
		record, err := r.Read()
		if err != nil {
			break
		}
		counts[len(record)]++
	}
	rate := 0
	for n, records := range counts {
		rate = max(rate, (n-1)*records)
	}
	return rate
}
