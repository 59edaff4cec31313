package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"mintbatch/internal/core/pattern"
)

// readXLSX reads a workbook of Office Open XML (ECMA-376). Cells come as the
// text that their reader sees; of formulas the stored value counts.
func readXLSX(s Source) (grids []grid, failed *broken) {
	if failed := overgrown(s); failed != nil {
		return nil, failed
	}
	defer func() {
		if p := recover(); p != nil { // the library, on some broken workbooks
			grids, failed = nil, unreadable("the workbook is damaged: %v", p)
		}
	}()
	x, err := openXLSX(s.Content)
	if err != nil {
		return nil, unreadable("the workbook is damaged: %s", err)
	}
	for _, name := range x.book.GetSheetList() {
		lines, err := x.lines(name)
		if err != nil {
			return nil, cannotRead(fmt.Sprintf("worksheet %q", name), err)
		}
		visible, err := x.book.GetSheetVisible(name)
		grids = append(grids, grid{worksheet: name, lines: walk(lines), hidden: err == nil && !visible})
	}
	return grids, nil
}

func openXLSX(content []byte) (*xlsx, error) {
	book, err := excelize.OpenReader(bytes.NewReader(content), excelize.Options{UnzipSizeLimit: maxExpanded, UnzipXMLSizeLimit: maxExpanded})
	if err != nil {
		return nil, err
	}
	x := &xlsx{book: book, merges: has(book, "xl/worksheets/", "<mergeCell ", ":mergeCell "), formats: has(book, "xl/styles.xml", "<numFmt ", dateFormats...)}
	formulas := has(book, "xl/worksheets/", "<f", ":f")
	if formulas {
		if x.bare, err = bareFormulas(content); err != nil {
			return nil, err
		}
	}
	if props, err := book.GetWorkbookProps(); err == nil && props.Date1904 != nil {
		x.date1904 = *props.Date1904
	}
	if !x.merges && !x.formats && !formulas {
		x.plain = openPlain(content)
	}
	return x, nil
}

type xlsx struct {
	book     *excelize.File
	merges   bool // it has merged cells
	formats  bool // it has formats that show a number as something else
	date1904 bool
	plain    *plainBook                   // nil if there is more than that
	bare     map[string]map[cellAt]string // by worksheet, formulas whose value is not stored
}

// dateFormats are the built-in formats of dates, times and exponents (ECMA-376,
// part 1, section 18.8.30) as a style names them.
var dateFormats = func() (all []string) {
	for _, r := range [][2]int{{11, 11}, {14, 22}, {27, 36}, {45, 48}, {50, 58}} {
		for id := r[0]; id <= r[1]; id++ {
			all = append(all, fmt.Sprintf(`numFmtId="%d"`, id))
		}
	}
	return all
}()

// has looks for one of the texts in the raw parts of a workbook: asking the
// library takes much memory, and few workbooks have what is looked for.
func has(book *excelize.File, prefix, text string, others ...string) bool {
	found := false
	book.Pkg.Range(func(name, part any) bool {
		content, _ := part.([]byte)
		if path, _ := name.(string); strings.HasPrefix(path, prefix) {
			for _, t := range append([]string{text}, others...) {
				found = found || bytes.Contains(content, []byte(t))
			}
		}
		return !found
	})
	return found
}

// lines reads a worksheet as it is shown and, where a display format stands in
// the way, in step with it as it is stored.
func (x *xlsx) lines(name string) ([]line, error) {
	if x.plain != nil {
		if lines, err := x.plain.lines(name); err == nil || errors.Is(err, errTooManyCells) {
			return lines, err
		}
	}
	shown, err := x.book.Rows(name)
	if err != nil {
		return nil, err
	}
	lines, formatted, err := x.shown(shown, x.bare[name])
	if err == nil && (x.formats || formatted) {
		err = x.stored(name, lines)
	}
	if err == nil && x.merges {
		err = x.spread(name, lines)
	}
	return lines, err
}

// shown also reports whether a cell shows a number in a form that is not meant.
func (x *xlsx) shown(rows *excelize.Rows, bare map[cellAt]string) (lines []line, formatted bool, err error) {
	perRow := map[int][]int{}
	for at := range bare {
		perRow[at.row] = append(perRow[at.row], at.column)
	}
	total := 0
	for number := 1; rows.Next() && number <= maxRows; number++ {
		cells, err := rows.Columns()
		if total += len(cells); err == nil && total > mostCells {
			err = errTooManyCells
		}
		if err != nil {
			return nil, false, err
		}
		l := line{number: number, cells: cells}
		for _, column := range perRow[number] {
			l.set(column-1, bare[cellAt{number, column}])
			l.bare.set(column-1, true)
		}
		if blank(l.cells) {
			continue
		}
		for _, c := range cells {
			formatted = formatted || isFormatted(c)
		}
		lines = append(lines, l)
	}
	return lines, formatted, rows.Error()
}

func (x *xlsx) stored(name string, lines []line) error {
	rows, err := x.book.Rows(name)
	if err != nil {
		return err
	}
	next := 0
	for number := 1; rows.Next() && next < len(lines); number++ {
		raw, err := rows.Columns(excelize.Options{RawCellValue: true})
		if err != nil {
			return err
		}
		if lines[next].number != number {
			continue
		}
		for i := range min(len(lines[next].cells), len(raw)) {
			x.mend(&lines[next], i, raw[i])
		}
		next++
	}
	return rows.Error()
}

// mend undoes what a display format does to a value that is not meant for the
// eye: a long number in exponent form, a date.
func (x *xlsx) mend(l *line, i int, raw string) {
	cell := l.cells[i]
	if cell == raw {
		if longNumber().MatchString(raw) { // as it is stored, not as a person writes
			l.cells[i] = wholeNumber(raw)
		}
		return
	}
	number, err := strconv.ParseFloat(raw, 64)
	if err != nil {
		return
	}
	if strings.Contains(cell, "E+") || strings.Contains(cell, "E-") || decimals().MatchString(cell) {
		l.cells[i] = wholeNumber(raw)
		return
	}
	if ungrouped(cell) == strings.TrimPrefix(wholeNumber(raw), "-") {
		l.cells[i] = wholeNumber(raw)
		return
	}
	if number < 1 || number > 2958465 {
		return
	}
	day, err := excelize.ExcelDateToTime(number, x.date1904)
	if err == nil && (looksLikeDate(cell) || cell == day.Format("2006") && cell != raw) {
		l.isDay(i, day.Format(time.DateOnly))
	}
}

// grouped is a number whose digits stand in threes: 4,096.
var grouped = pattern.Lazy(`^-?[0-9]{1,3}([.,'’ \x{a0}\x{202f}][0-9]{3})+([.,]0+)?$`)

// ungrouped is such a number without what groups it; empty for any other.
func ungrouped(s string) string {
	m := grouped().FindStringSubmatch(s)
	if m == nil {
		return ""
	}
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, strings.TrimSuffix(s, m[2]))
}

// isFormatted reports whether a text may be a number in a form that is not meant.
func isFormatted(s string) bool {
	if s == "" || s[0] != '-' && (s[0] < '0' || s[0] > '9') {
		return strings.Contains(s, "E+")
	}
	return strings.Contains(s, "E+") || decimals().MatchString(s) || grouped().MatchString(s)
}

// decimals is a whole number with decimals that say nothing: 4.0.
var decimals = pattern.Lazy(`^-?[0-9]+[.,]0+$`)

var longNumber = pattern.Lazy(`^-?[0-9](\.[0-9]+)?E\+[0-9]+$`)

// wholeNumber writes 1.2E+11 as 120000000000; what is no whole number stays.
func wholeNumber(s string) string {
	r, ok := new(big.Rat).SetString(s)
	if !ok || !r.IsInt() || len(r.Num().String()) > 40 {
		return s
	}
	return r.Num().String()
}

// looksLikeDate distinguishes a displayed date from a displayed number.
func looksLikeDate(s string) bool {
	digits, others := 0, 0
	for _, r := range s {
		switch {
		case r >= '0' && r <= '9':
			digits++
		case strings.ContainsRune("-/. ", r) || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r > 0x7f:
			others++
		}
	}
	_, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
	return err != nil && digits >= 1 && others >= 1 && !strings.HasSuffix(s, "%")
}

// spread gives every cell that another one covers the text that its reader sees
// there. A row of which others cover all stays blank.
func (x *xlsx) spread(name string, lines []line) error {
	merged, err := x.book.GetMergeCells(name, true)
	if err != nil {
		return err
	}
	at := map[int]*line{}
	for i := range lines {
		at[lines[i].number] = &lines[i]
	}
	for _, m := range merged {
		left, first, err := excelize.CellNameToCoordinates(m.GetStartAxis())
		if err != nil {
			return err
		}
		right, last, err := excelize.CellNameToCoordinates(m.GetEndAxis())
		if err != nil || at[first] == nil || left > len(at[first].cells) {
			continue
		}
		from := *at[first]
		for row := first; row <= min(last, maxRows); row++ {
			if l := at[row]; l != nil {
				l.spread(from, left-1, min(right, maxColumns)-1)
			}
		}
	}
	return nil
}

// spread takes what a merged cell shows, the leftmost of those up to right.
func (l *line) spread(from line, left, right int) {
	for i := left; i <= right; i++ {
		l.set(i, from.cells[left])
		l.bare.set(i, from.bare[left])
		l.covered.set(i, i > left)
		l.isDay(i, from.days[left])
	}
}

// isDay notes that a cell is a date; empty is none.
func (l *line) isDay(i int, day string) {
	if day == "" {
		return
	}
	if l.days == nil {
		l.days = map[int]string{}
	}
	l.days[i] = day
}

// set puts text into a cell, beyond the line's end if need be.
func (l *line) set(i int, text string) {
	if more := i + 1 - len(l.cells); more > 0 {
		l.cells = append(l.cells, make([]string, more)...)
	}
	l.cells[i] = text
}
