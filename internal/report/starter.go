package report

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// field is a column of the starter workbook.
type field struct {
	name  string
	width float64
	about string
	// choices names the list that may be chosen from; others than its own may
	// be typed where free is set.
	choices string
	free    bool
}

var fields = []field{
	{name: "machine", width: 22, about: "The machine's name: letters, digits and hyphens. bms-sonar-[01-12] is twelve machines. The only required column."},
	{name: "preset", width: 14, about: "A named bundle of defaults from the setup.", choices: "preset"},
	{name: "template", width: 16, about: "The template to clone from.", choices: "template"},
	{name: "site", width: 12, about: "The site where the machine is made.", choices: "site"},
	{name: "clone", width: 10, about: "full: an independent copy of the disk. linked: a thin child that keeps only its differences.", choices: "clone"},
	{name: "cpus", width: 8, about: "A whole number of CPUs."},
	{name: "memory", width: 10, about: "With a unit: 4GiB, 512MiB."},
	{name: "disk", width: 10, about: "Size of the system disk, with a unit: 20GiB. It only ever grows."},
	{name: "network", width: 14, about: "The network of the first adapter.", choices: "network"},
	{name: "address", width: 20, about: "dhcp, pool, pool:NAME, none, or an address; with a range of machines 198.51.100.40+ counts up.", choices: "address", free: true},
	{name: "hostname", width: 18, about: "Leave it empty to use the machine's name."},
	{name: "owner", width: 18, about: "The owner of the machine."},
	{name: "until", width: 12, about: "The last day that the machine is needed."},
	{name: "labels", width: 18, about: "name=value pairs: rack=3 tier=a."},
	{name: "notes", width: 48, about: "Notes for colleagues."},
}

// starterRows is how many rows the rules of the starter workbook reach.
const starterRows = 2000

// Starter makes a workbook to fill in: one worksheet for the machines, with
// lists of what the setup offers, and one that shows those lists.
func Starter(s *setup.Setup) ([]byte, error) {
	w := starter{book: excelize.NewFile()}
	defer w.book.Close()
	w.do(w.book.SetSheetName("Sheet1", "machines"))
	_, err := w.book.NewSheet("choices")
	w.do(err)
	lists := offered(s)
	w.choices(lists)
	w.headings()
	w.example(lists)
	w.rules()
	if w.err != nil {
		return nil, fmt.Errorf("create the starter workbook: %w", w.err)
	}
	out, err := w.book.WriteToBuffer()
	if err != nil {
		return nil, fmt.Errorf("create the starter workbook: %w", err)
	}
	return out.Bytes(), nil
}

// UpdateLists brings the drop-down lists of a workbook that is in use up to date.
// Its rows stay as they are.
func UpdateLists(old []byte, s *setup.Setup) ([]byte, error) {
	book, err := excelize.OpenReader(bytes.NewReader(old))
	if err != nil {
		return nil, fmt.Errorf("read the workbook: %w", err)
	}
	defer book.Close()
	w := starter{book: book}
	worksheet, heading, err := w.headed()
	if err != nil {
		return nil, err
	}
	if i, _ := book.GetSheetIndex("choices"); i >= 0 {
		w.do(book.DeleteSheet("choices"))
	}
	_, err = book.NewSheet("choices")
	w.do(err)
	w.choices(offered(s))
	row, err := book.GetRows(worksheet)
	w.do(err)
	for i, text := range row[heading-1] {
		for _, f := range fields {
			if f.choices == "" || !strings.EqualFold(strings.TrimSpace(text), f.name) {
				continue
			}
			letter, err := excelize.ColumnNumberToName(i + 1)
			w.do(err)
			w.do(w.dropList(worksheet, letter))
			w.rule(worksheet, letter, heading+1, max(starterRows, len(row)), f)
		}
	}
	if w.err != nil {
		return nil, fmt.Errorf("update the drop-down lists: %w", w.err)
	}
	out, err := book.WriteToBuffer()
	if err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// headed finds the worksheet that has the machines, and the row of its headings.
func (w *starter) headed() (worksheet string, row int, err error) {
	for _, name := range w.book.GetSheetList() {
		rows, err := w.book.GetRows(name)
		if err != nil {
			return "", 0, err
		}
		if len(rows) > 0 && len(rows[0]) > 0 && strings.HasPrefix(rows[0][0], sheet.ChoicesOf) {
			continue
		}
		for i, cells := range rows {
			if slices.ContainsFunc(cells, func(c string) bool { return strings.EqualFold(strings.TrimSpace(c), "machine") }) {
				return name, i + 1, nil
			}
		}
	}
	return "", 0, errors.New("no worksheet has a column with the heading machine")
}

// dropList takes the lists of one column away.
func (w *starter) dropList(worksheet, letter string) error {
	all, err := w.book.GetDataValidations(worksheet)
	if err != nil {
		return err
	}
	for _, v := range all {
		if first, _, _ := strings.Cut(v.Sqref, ":"); strings.TrimRight(first, "0123456789") == letter {
			if err := w.book.DeleteDataValidation(worksheet, v.Sqref); err != nil {
				return err
			}
		}
	}
	return nil
}

// offered lists, by column, what may be chosen.
func offered(s *setup.Setup) map[string][]string {
	addresses := []string{"dhcp", "none"}
	for _, network := range setup.Names(s.Networks) {
		for _, pool := range setup.Names(s.Networks[network].Pools) {
			if name := "pool:" + pool; !slices.Contains(addresses, name) {
				addresses = append(addresses, name)
			}
		}
	}
	return map[string][]string{
		"preset": setup.Names(s.Presets), "template": setup.Names(s.Templates), "site": setup.Names(s.Sites),
		"network": setup.Names(s.Networks), "clone": {"linked", "full"}, "address": addresses,
	}
}

// starter keeps the first error, so that the making reads straight on.
type starter struct {
	book  *excelize.File
	lists map[string]string // references to the lists, by column
	err   error
}

func (w *starter) do(err error) {
	if w.err == nil {
		w.err = err
	}
}

func (w *starter) style(s *excelize.Style) int {
	id, err := w.book.NewStyle(s)
	w.do(err)
	return id
}

func (w *starter) choices(offered map[string][]string) {
	w.lists = map[string]string{}
	bold := w.style(&excelize.Style{Font: &excelize.Font{Bold: true}})
	for i, name := range slices.Sorted(maps.Keys(offered)) {
		letter, err := excelize.ColumnNumberToName(i + 1)
		w.do(err)
		w.do(w.book.SetCellStr("choices", letter+"1", sheet.ChoicesOf+name))
		w.do(w.book.SetCellStyle("choices", letter+"1", letter+"1", bold))
		w.do(w.book.SetColWidth("choices", letter, letter, 22))
		for k, choice := range offered[name] {
			w.do(w.book.SetCellStr("choices", fmt.Sprintf("%s%d", letter, k+2), choice))
		}
		if n := len(offered[name]); n > 0 {
			w.lists[name] = fmt.Sprintf("choices!$%s$2:$%s$%d", letter, letter, n+1)
		}
	}
}

func (w *starter) headings() {
	head := w.style(&excelize.Style{Font: &excelize.Font{Bold: true, Color: "FFFFFF"}, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"1F5C66"}},
		Alignment: &excelize.Alignment{Vertical: "center"}})
	day := w.style(&excelize.Style{CustomNumFmt: pointer("yyyy-mm-dd")})
	words := w.style(&excelize.Style{NumFmt: 49}) // text: what is typed is what is read
	for i, f := range fields {
		letter, err := excelize.ColumnNumberToName(i + 1)
		w.do(err)
		w.do(w.book.SetColWidth("machines", letter, letter, f.width))
		style := words
		switch f.name {
		case "until":
			style = day
		case "cpus":
			style = 0
		}
		w.do(w.book.SetColStyle("machines", letter, style))
		w.do(w.book.SetCellStr("machines", letter+"1", f.name))
		w.do(w.book.SetCellStyle("machines", letter+"1", letter+"1", head))
		w.do(w.book.AddComment("machines", excelize.Comment{Cell: letter + "1", Author: "mintbatch", Text: f.about, Width: 260, Height: 110}))
	}
	w.do(w.book.SetRowHeight("machines", 1, 22))
	for _, page := range []string{"machines", "choices"} { // each is printed on pages of its own width
		w.do(w.book.SetPageLayout(page, &excelize.PageLayoutOptions{Orientation: pointer("landscape"), FitToWidth: pointer(1), FitToHeight: pointer(0)}))
		w.do(w.book.SetSheetProps(page, &excelize.SheetPropsOptions{FitToPage: pointer(true)}))
	}
	w.do(w.book.SetPanes("machines", &excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}))
}

// example fills in a row that is passed over.
func (w *starter) example(offered map[string][]string) {
	values := map[string]string{"machine": "# bms-sonar-[01-03]", "memory": "4GiB", "disk": "20GiB", "owner": "sonar desk",
		"labels": "leg=north", "notes": "an example: rows that begin with # are skipped"}
	for i, f := range fields {
		name, err := excelize.CoordinatesToCellName(i+1, 2)
		w.do(err)
		value := values[f.name]
		if all := offered[f.name]; len(all) > 0 {
			value = all[len(all)-1]
		}
		if value != "" {
			w.do(w.book.SetCellStr("machines", name, value))
		}
	}
}

func (w *starter) rules() {
	for i, f := range fields {
		letter, err := excelize.ColumnNumberToName(i + 1)
		w.do(err)
		w.rule("machines", letter, 2, starterRows, f)
	}
}

// rule says what may stand in a column, from one row to another.
func (w *starter) rule(worksheet, letter string, from, to int, f field) {
	v := excelize.NewDataValidation(true)
	v.SetSqref(fmt.Sprintf("%s%d:%s%d", letter, from, letter, to))
	v.SetInput(f.name, f.about)
	stop := excelize.DataValidationErrorStyleStop
	if f.free {
		stop = excelize.DataValidationErrorStyleInformation
	}
	switch {
	case w.lists[f.choices] != "":
		v.SetSqrefDropList(w.lists[f.choices])
		v.SetError(stop, f.name, "Choose from the list, which is on the worksheet \"choices\".")
	case f.name == "cpus":
		w.do(v.SetRange(1, 1024, excelize.DataValidationTypeWhole, excelize.DataValidationOperatorBetween))
		v.SetError(stop, f.name, "A whole number from 1 to 1024.")
	case f.name == "machine" || f.name == "hostname":
		w.do(v.SetRange(1, 200, excelize.DataValidationTypeTextLength, excelize.DataValidationOperatorBetween))
		v.SetError(stop, f.name, "A name has at most 63 characters.")
	case f.name == "until":
		w.do(v.SetRange(36526, 109574, excelize.DataValidationTypeDate, excelize.DataValidationOperatorBetween))
		v.SetError(stop, f.name, "A date, such as 2027-03-31.")
	default:
		return
	}
	w.do(w.book.AddDataValidation(worksheet, v))
}

func pointer[T any](v T) *T { return &v }
