package sheet

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"mintbatch/internal/core/finding"
)

// ReadCSV reads comma-separated values (RFC 4180) in UTF-8, with or without a
// byte-order mark. It tells all findings of the headings and of the file's
// form; what the cells mean is the batch's matter.
func ReadCSV(file string, r io.Reader) (*Table, finding.List) {
	var found finding.List
	buffered := bufio.NewReaderSize(r, 64<<10)
	if mark, _ := buffered.Peek(3); string(mark) == "\xef\xbb\xbf" {
		_, _ = buffered.Discard(3)
	}
	records := csv.NewReader(buffered)
	records.FieldsPerRecord = -1
	lines := func(yield func(line) bool) {
		folded := 0 // line breaks inside cells so far: a spreadsheet shows no row for them
		for {
			cells, err := records.Read()
			if errors.Is(err, io.EOF) {
				return
			}
			if err != nil {
				found.Add(broken(file, err))
				return
			}
			first, _ := records.FieldPos(0)
			l := line{number: first - folded, cells: cells}
			for i, c := range cells {
				folded += strings.Count(c, "\n")
				if f, bad := rubbish(c); bad {
					f.At = finding.Position{File: file, Row: l.number, Column: i + 1}
					found.Add(f)
					cells[i] = ""
				}
			}
			if !yield(l) {
				return
			}
		}
	}
	t := arrange(file, lines, &found)
	return t, found
}

func broken(file string, err error) finding.Finding {
	f := finding.Finding{Code: "unreadable-sheet", At: finding.Position{File: file}, Message: err.Error()}
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		f.At = finding.Position{File: file, Row: parse.Line, Column: parse.Column, Text: true}
		f.Message = parse.Err.Error()
		f.Hint = "put quotes around the whole cell and double every quote inside it; the rows below were not read"
	}
	return f
}

// rubbish refuses what no cell of a text file can mean.
func rubbish(cell string) (finding.Finding, bool) {
	if !utf8.ValidString(cell) {
		return finding.Finding{Code: "bad-text", Message: "the cell is not UTF-8 text", Hint: "save the sheet as CSV in UTF-8"}, true
	}
	for _, r := range cell {
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r >= 0x7f && r <= 0x9f {
			return finding.Finding{Code: "bad-text", Message: fmt.Sprintf("the cell holds the control character U+%04X", r), Hint: "remove it"}, true
		}
	}
	return finding.Finding{}, false
}
