// Package sheet reads an inventory sheet of whatever kind into a table of
// cells, each of which knows where it stands.
package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"mintbatch/internal/core/finding"
)

// Source is a sheet that was fetched but not read yet.
type Source struct {
	// Name is what findings call it.
	Name    string
	Content []byte
	// Kind says what it is; empty lets the content tell.
	Kind Kind
	// Worksheet names one of a workbook's; empty takes the one that has our
	// columns.
	Worksheet string
	// Rules are what the setup says of headings.
	Rules []Rule
	// Expanded bounds, in bytes, what an archive may expand to, and the text in all cells; 0 is a gigabyte.
	Expanded uint64
}

// MaxContent is the largest sheet that is read, in bytes.
const MaxContent = 256 << 20

// grid is a sheet before its headings are understood.
type grid struct {
	worksheet string
	// lines walks the rows. It may be walked several times.
	lines func(yield func(line) bool)
	// named is set where each value has its own key and the first line holds
	// all of them, so that nothing need be searched for.
	named bool
	comma rune // what separates the cells of a CSV
	// hidden is set for a worksheet that its user does not see; it is read only
	// when it is named.
	hidden bool
}

// line is a row as it stands in a file of any kind.
type line struct {
	number int
	cells  []string
	// days holds what is a date, however it is displayed, by index of the cell.
	days map[int]string
	// covered are cells that another one of the same row covers, and bare those with
	// a formula whose value is not stored; these hold the formula.
	covered, bare evidence
}

// evidence are indexes of cells that something is true of.
type evidence map[int]bool

func (m *evidence) set(i int, is bool) {
	if !is {
		return
	}
	if *m == nil {
		*m = evidence{}
	}
	(*m)[i] = true
}

// Read reads a sheet. It reports all findings of its form and its headings; what
// the cells mean is the batch's matter.
func Read(s Source) (*Table, finding.List) {
	chosen, kind, problem := open(s)
	if problem != nil {
		return &Table{File: s.Name}, finding.List{*problem}
	}
	t := &Table{File: s.Name, Worksheet: chosen.worksheet, Kind: kind, Comma: chosen.comma}
	var gathered finding.Collector
	if kind == CSV && inWindows1252(s.Content) {
		gathered.Add(finding.Finding{Severity: finding.Note, Code: "old-encoding", At: finding.Position{File: s.Name},
			Message: "the sheet is not UTF-8 and was read as Windows-1252", Hint: "check accented letters, or save it as UTF-8"}, "")
	}
	t.arrange(chosen, s.Rules, &gathered)
	return t, gathered.List()
}

// Machines reads what stands in the column of the machines alone, whatever is wrong with the
// sheet.
func Machines(s Source) []string {
	chosen, _, problem := open(s)
	if problem != nil {
		return nil
	}
	var t Table
	a := t.arranger(chosen, s.Rules, &finding.Collector{})
	var all []string
	for l := range chosen.lines {
		if l.number > t.HeadingRow && !a.isCommentedOut(l) {
			if name := strings.TrimSpace(l.cell(a.machine)); name != "" {
				all = append(all, name)
			}
		}
	}
	return all
}

// open finds the worksheet of a sheet, and its kind.
func open(s Source) (grid, Kind, *finding.Finding) {
	fail := func(code, message, hint string) (grid, Kind, *finding.Finding) {
		return grid{}, "", &finding.Finding{Code: code, At: finding.Position{File: s.Name}, Message: message, Hint: hint}
	}
	if len(s.Content) > MaxContent {
		return fail("too-large", fmt.Sprintf("the sheet is larger than %d MiB", MaxContent>>20), "split it")
	}
	if len(bytes.TrimSpace(s.Content)) == 0 {
		return fail("empty-sheet", "the sheet is empty", "write a row of headings; only `machine` is required")
	}
	kind := s.Kind
	if kind == "" {
		kind = KindOf(s.Content)
	}
	read, ok := readers[kind]
	if !ok {
		return fail("unknown-kind", kind.refusal(), "save it as CSV, XLSX or ODS")
	}
	grids, err := read(s)
	if err == nil {
		err = tooMany(grids, s.expanded())
	}
	if err != nil {
		f := err.finding()
		f.At.File = s.Name
		return grid{}, "", &f
	}
	chosen, problem := choose(s, grids)
	return chosen, kind, problem
}

// choose picks the worksheet: the named one, else the only one that has our
// columns.
func choose(s Source, grids []grid) (grid, *finding.Finding) {
	var names, fitting []string
	at := -1
	for i, g := range grids {
		names = append(names, g.worksheet)
		if s.Worksheet != "" && strings.EqualFold(g.worksheet, s.Worksheet) {
			return g, nil
		}
		if _, ok := g.headingLine(s.Rules); ok && !g.hidden && !g.ofChoices() {
			fitting = append(fitting, g.worksheet)
			at = i
		}
	}
	f := finding.Finding{Code: "unknown-worksheet", At: finding.Position{File: s.Name}, Value: s.Worksheet}
	switch {
	case s.Worksheet != "":
		f.Message, f.Hint = fmt.Sprintf("the workbook has no worksheet %q", s.Worksheet), finding.DidYouMean(s.Worksheet, names)
		return grid{}, &f
	case len(fitting) > 1:
		f.Code, f.Message = "several-worksheets", fmt.Sprintf("several worksheets have a machine column: %s", strings.Join(fitting, ", "))
		f.Hint = "name one with --worksheet"
		return grid{}, &f
	case at >= 0:
		return grids[at], nil
	case len(grids) == 0:
		f.Code, f.Message = "empty-sheet", "the workbook has no worksheet"
		return grid{}, &f
	}
	return grids[0], nil // which has no machine column; the headings tell
}

// ChoicesOf stands before the headings of the worksheet of a starter that lists what
// may be chosen: a choice may be called what a heading is.
const ChoicesOf = "choices of "

func (g grid) ofChoices() bool {
	for l := range g.lines {
		return strings.HasPrefix(l.cell(0), ChoicesOf)
	}
	return false
}

// mostCells is how many cells a worksheet may have, counted up to the last one of each row:
// a text far to the right makes a row of thousands.
const mostCells = 16 << 20

// maxRows and maxColumns are as many as a spreadsheet program shows.
const (
	maxRows    = 1 << 20
	maxColumns = 1 << 14
)

// tooMany refuses what nobody has written by hand or in a spreadsheet. Cells that share a text count as often as it stands in them.
func tooMany(grids []grid, text uint64) *broken {
	for _, g := range grids {
		rows, length := 0, uint64(0)
		for l := range g.lines {
			for _, c := range l.cells {
				length += uint64(len(c))
			}
			if length > text {
				return tooLarge("split it", "its cells have more than %d MiB of text", text>>20)
			}
			if rows++; rows > maxRows {
				return cannotRead("the sheet", errTooManyRows)
			}
			if len(l.cells) > maxColumns {
				return cannotRead("the sheet", errTooManyColumns)
			}
		}
	}
	return nil
}

var (
	errTooManyCells   = errors.New("its rows are so wide that they have more than 16 million cells")
	errTooManyColumns = errors.New("it has more than 16384 columns")
	errTooManyRows    = errors.New("it has more than 1048576 rows")
)

// cannotRead says why a workbook, or a worksheet of it, cannot be read.
func cannotRead(what string, err error) *broken {
	switch {
	case errors.Is(err, errTooManyRows):
		return tooLarge("split it", "%s cannot be read: %s", what, err)
	case errors.Is(err, errTooManyCells), errors.Is(err, errTooManyColumns):
		return tooLarge("clear the columns far to the right", "%s cannot be read: %s", what, err)
	}
	return unreadable("%s is damaged: %s", what, err)
}

// broken is a sheet that cannot be read on.
type broken struct {
	code, message, hint string
	at                  finding.Position
}

func (b *broken) finding() finding.Finding {
	return finding.Finding{Code: b.code, At: b.at, Message: b.message, Hint: b.hint}
}

func tooLarge(hint, format string, args ...any) *broken {
	return &broken{code: "too-large", message: fmt.Sprintf(format, args...), hint: hint}
}

func unreadable(format string, args ...any) *broken {
	return &broken{code: "unreadable-sheet", message: fmt.Sprintf(format, args...)}
}
