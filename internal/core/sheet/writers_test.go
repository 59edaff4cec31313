package sheet

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// What a person sees in an OpenDocument sheet, whoever wrote it.
func TestCellsOfODS(t *testing.T) {
	r := func(cells string) string {
		cells = strings.NewReplacer("<c>", "<table:table-cell><text:p>", "</c>", "</text:p></table:table-cell>", "<x/>", "<table:covered-table-cell/>", "<e/>", "<table:table-cell/>").Replace(cells)
		return "<table:table-row>" + cells + "</table:table-row>"
	}
	span := func(columns, rows int, text string) string {
		return fmt.Sprintf(`<table:table-cell table:number-columns-spanned="%d" table:number-rows-spanned="%d"><text:p>%s</text:p></table:table-cell>`, columns, rows, text)
	}
	typed := func(attributes string) string {
		return r(`<c>x</c><table:table-cell ` + attributes + `/>`)
	}
	heading := r("<c>machine</c><c>owner</c><c>notes</c>")
	for name, c := range map[string]struct{ rows, want string }{
		"merged side by side": {r("<c>a</c>"+span(1, 2, "o1")+span(1, 3, "n1")) + r("<c>b</c><x/><x/>") + r("<c>c</c><c>o2</c><x/>"), "a|o1|n1\nb|o1|n1\nc|o2|n1"},
		"a block":             {r("<c>a</c>"+span(2, 2, "both")+"<x/>") + r("<c>b</c><x/><x/>") + r("<c>c</c>"), "a|both|both\nb|both|both\nc||"},
		"one after another":   {r("<c>a</c>"+span(1, 2, "o1")) + r("<c>b</c><x/>") + r("<c>c</c>"+span(1, 2, "o2")) + r("<c>d</c><x/>") + r("<c>e</c>"), "a|o1|\nb|o1|\nc|o2|\nd|o2|\ne||"},
		"an end that is over": {r("<c>a</c>"+span(1, 2, "o1")) + r("<c>b</c><x/>") + r("<c>c</c><x/><c>n</c>"), "a|o1|\nb|o1|\nc||n"},
		"covered, repeated":   {r("<c>a</c>"+span(2, 2, "o")+"<x/>") + r(`<c>b</c><table:covered-table-cell table:number-columns-repeated="2"/>`), "a|o|o\nb|o|o"},
		"hidden under a merge": {r("<c>a</c>"+span(1, 2, "o")) + r(`<c>b</c><table:covered-table-cell><text:p>old</text:p></table:covered-table-cell>`),
			"a|o|\nb|o|"},
		"only covered cells":       {r("<c>a</c>"+span(1, 3, "o")) + r("<e/><x/>") + r("<c>c</c><x/>"), "a|o|\nc|o|"},
		"an empty merge":           {r("<c>a</c>" + span(2, 1, "") + "<x/>"), "a||"},
		"a drawing":                {r(`<c>a</c><table:table-cell><draw:frame><draw:text-box><text:p>far</text:p></draw:text-box></draw:frame><text:p>near</text:p></table:table-cell>`), "a|near|"},
		"a drawing in a paragraph": {r(`<c>a</c><table:table-cell><text:p>ne<draw:frame><svg:title>title</svg:title><draw:image><text:p>far</text:p></draw:image></draw:frame>ar</text:p></table:table-cell>`), "a|near|"},
		"an annotation":            {r(`<c>a</c><table:table-cell><office:annotation><text:p>note</text:p></office:annotation><text:p>o</text:p></table:table-cell>`), "a|o|"},
		"a span, a link":           {r(`<c>a</c><table:table-cell><text:p>x<text:span>y</text:span><text:a>z</text:a></text:p></table:table-cell>`), "a|xyz|"},
		"lines that were folded":   {r("<c>a</c><table:table-cell><text:p>\n   one\n   two</text:p></table:table-cell>"), "a|one two|"},
		"a number without text":    {typed(`office:value-type="float" office:value="4"`), "x|4|"},
		"a percentage":             {typed(`office:value-type="percentage" office:value="0.5"`), "x|50%|"},
		"a date":                   {typed(`office:value-type="date" office:date-value="2027-03-31"`), "x|2027-03-31|"},
		"a truth":                  {typed(`office:value-type="boolean" office:boolean-value="true"`), "x|TRUE|"},
		"a text":                   {typed(`office:value-type="string" office:string-value="o"`), "x|o|"},
		"a time":                   {typed(`office:value-type="time" office:time-value="PT08H30M00S"`), "x|08:30:00|"},
	} {
		table, found := Read(Source{Name: "m.ods", Content: odsOf(heading + c.rows)})
		assert.Empty(t, found, name)
		assert.Equal(t, "machine|owner|notes\n"+c.want, shown(table), name)
	}
	second := `</table:table><table:table table:name="Old" table:style-name="away">` + heading + r("<c>bms-old</c>")
	table, found := Read(Source{Name: "m.ods", Content: odsOf(heading + r("<c>a</c>") + second)})
	assert.Empty(t, found, "a hidden worksheet is no candidate")
	assert.Equal(t, "Nodes", table.Worksheet)
	table, _ = Read(Source{Name: "m.ods", Worksheet: "Old", Content: odsOf(heading + r("<c>a</c>") + second)})
	assert.Len(t, table.Rows, 1)
	_, found = Read(Source{Name: "m.ods", Content: odsOf(heading + r(`<table:table-cell table:formula="of:=[.A9]"/><c>o</c>`))})
	require.NotEmpty(t, found)
	assert.Equal(t, `m.ods, sheet "Nodes", A2 (machine): the workbook has no stored value for the formula in this cell: =[.A9] (open and save it in a spreadsheet program, or write the value)`, found[0].Error())
	_, found = Read(Source{Name: "m.ods", Content: odsOf(strings.Repeat("<table:table-row-group>", 1000))})
	assert.True(t, found.Failed(), "without end")
}

// scripted lets a Python program write a workbook, as administrators' scripts do.
func scripted(t *testing.T, name, program string) []byte {
	t.Helper()
	if err := exec.Command("/usr/bin/python3", "-c", "import openpyxl, odf").Run(); err != nil {
		t.Skip("skipped: openpyxl and odfpy are not installed")
	}
	path := filepath.Join(t.TempDir(), name)
	out, err := exec.Command("/usr/bin/python3", "-c", program, path).CombinedOutput()
	require.NoError(t, err, "%s", out)
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	return content
}

// A formula of which nobody has stored the value is no empty cell, and its row does
// not vanish.
func TestFormulasOfScripts(t *testing.T) {
	byExcelize := excelize.NewFile()
	require.NoError(t, byExcelize.SetSheetRow("Sheet1", "A1", &[]any{"machine", "cpus"}))
	require.NoError(t, byExcelize.SetSheetRow("Sheet1", "A2", &[]any{"bms-1"}))
	require.NoError(t, byExcelize.SetCellFormula("Sheet1", "B2", "1+1"))
	require.NoError(t, byExcelize.SetCellFormula("Sheet1", "A3", `"bms-"&2`))
	b, err := byExcelize.WriteToBuffer()
	require.NoError(t, err)
	for writer, content := range map[string][]byte{
		"excelize": b.Bytes(),
		"openpyxl": scripted(t, "m.xlsx", `
import sys, openpyxl
b = openpyxl.Workbook(); s = b.active
s.append(["machine", "cpus"]); s.append(["bms-1", "=1+1"]); s.append(['="bms-"&2'])
b.save(sys.argv[1])`),
		"odfpy": scripted(t, "m.ods", `
import sys
from odf.opendocument import OpenDocumentSpreadsheet
from odf.table import Table, TableRow, TableCell
from odf.text import P
d = OpenDocumentSpreadsheet(); t = Table(name="Sheet"); d.spreadsheet.addElement(t)
for cells in (("machine", "cpus"), ("bms-1", "of:=1+1"), ('of:="bms-"&2',)):
    r = TableRow(); t.addElement(r)
    for c in cells:
        e = TableCell(formula=c) if c.startswith("of:") else TableCell(valuetype="string"); r.addElement(e)
        if not c.startswith("of:"): e.addElement(P(text=c))
d.save(sys.argv[1])`),
	} {
		table, found := Read(Source{Name: "m", Content: content})
		require.Len(t, found, 2, writer)
		assert.Contains(t, found[0].Error(), `B2 (cpus): the workbook has no stored value for the formula in this cell: =1+1`, writer)
		assert.Contains(t, found[1].Error(), `A3 (machine): the workbook has no stored value for the formula in this cell: ="bms-"&2`, writer)
		assert.Len(t, table.Rows, 2, writer)
	}
	table, found := Read(Source{Name: "m", Content: converted(t, b.Bytes(), "xlsx")})
	assert.Empty(t, found, "calculated by LibreOffice")
	assert.Equal(t, "machine|cpus\nbms-1|2\nbms-2|", shown(table))
}

// A workbook says the same whether it is saved as XLSX or as ODS.
func TestBothWorkbooksSayTheSame(t *testing.T) {
	seed := rand.Uint64()
	chance := rand.New(rand.NewPCG(seed, 1))
	t.Logf("seed %d", seed)
	book := excelize.NewFile()
	const pages, rows, columns = 12, 8, 5
	for page := range pages {
		name := fmt.Sprintf("P%d", page)
		_, err := book.NewSheet(name)
		require.NoError(t, err)
		require.NoError(t, book.SetSheetRow(name, "A1", &[]any{"machine", "owner", "notes", "labels", "folder"}))
		taken := map[cellAt]bool{}
		for row := 2; row < rows; row++ {
			for column := 1; column <= columns; column++ {
				cell, _ := excelize.CoordinatesToCellName(column, row)
				if chance.IntN(5) > 0 {
					require.NoError(t, book.SetCellValue(name, cell, []any{fmt.Sprintf("v%d-%d", row, column), row * 1000, 0.25, "two  words", "line\nbreak"}[chance.IntN(5)]))
				}
				down, right := row+chance.IntN(3), column+chance.IntN(2)
				free := down < rows && right <= columns && chance.IntN(4) == 0
				for r := row; r <= down; r++ {
					for c := column; c <= right; c++ {
						free = free && !taken[cellAt{r, c}]
					}
				}
				if !free {
					continue
				}
				for r := row; r <= down; r++ {
					for c := column; c <= right; c++ {
						taken[cellAt{r, c}] = true
					}
				}
				end, _ := excelize.CoordinatesToCellName(right, down)
				require.NoError(t, book.MergeCell(name, cell, end))
			}
		}
	}
	b, err := book.WriteToBuffer()
	require.NoError(t, err)
	kinds := map[string][]byte{"as written": b.Bytes(), "XLSX": converted(t, b.Bytes(), "xlsx"), "ODS": converted(t, b.Bytes(), "ods")}
	for page := range pages {
		want := ""
		for _, kind := range []string{"as written", "XLSX", "ODS"} {
			table, _ := Read(Source{Name: "m", Content: kinds[kind], Worksheet: fmt.Sprintf("P%d", page)})
			if want == "" {
				want = shown(table)
			}
			assert.Equal(t, want, shown(table), "%s, page %d", kind, page)
		}
	}
}

// A number is what it is, whatever groups its digits, and a day is a day, however
// little of it is shown.
func TestNumbersAsTheyAreShown(t *testing.T) {
	book := excelize.NewFile()
	require.NoError(t, book.SetSheetRow("Sheet1", "A1", &[]any{"machine", "RAM_MB", "until", "notes"}))
	require.NoError(t, book.SetSheetRow("Sheet1", "A2", &[]any{"bms-1", 4096, 46477, 1234567.5}))
	for cell, format := range map[string]string{"B2": "#,##0", "C2": "yyyy", "D2": "#,##0.00"} {
		style, err := book.NewStyle(&excelize.Style{CustomNumFmt: &format})
		require.NoError(t, err)
		require.NoError(t, book.SetCellStyle("Sheet1", cell, cell, style))
	}
	b, err := book.WriteToBuffer()
	require.NoError(t, err)
	for kind, content := range map[string][]byte{"as written": b.Bytes(), "ods": converted(t, b.Bytes(), "ods")} {
		table, found := Read(Source{Name: "m", Content: content})
		assert.Empty(t, found, kind)
		assert.Equal(t, "machine|memory|until|notes\nbms-1|4096MB|2027-03-31|1,234,567.50", shown(table), kind)
	}
}

// What is no machine is reported, and none is lost to a numbering.
func TestRowsThatAreNoMachines(t *testing.T) {
	for sheet, want := range map[string]string{
		"machine,cpus\nbms-1,2\nmachine,cpus\nbms-2,2":    "bms-1 bms-2 not-a-machine",
		"VM,RAM (GiB)\nbms-1,2\nmachine,":                 "bms-1 not-a-machine",
		"VM name,vCPU\nbms-1,2\nServer name,CPUs":         "bms-1 not-a-machine",
		"machine,memory\nbms-1,2GiB\nTotal,2GiB":          "bms-1 not-a-machine",
		"machine,memory\nbms-1,2GiB\nGrand total:,2GiB":   "bms-1 not-a-machine",
		"machine,cpus\nserver,2\nguest,4":                 "server guest",
		"machine\ntotal-01":                               "total-01",
		"machine,notes\n":                                 "no-machines",
		"machine,notes\n#bms-1,\n":                        "no-machines struck 2",
		"No,machine\n#1,bms-1\n#2,bms-2":                  "bms-1 bms-2",
		"No,machine\n#1,bms-1\n#2,#bms-2":                 "bms-1 struck 3",
		"No,machine\n1,bms-1\n#2,bms-2":                   "bms-1 unclear-row",
		"No,machine\n1,bms-1\n#,bms-2":                    "bms-1 struck 3",
		"No,machine\n# the second rack,\n1,bms-1":         "bms-1 struck 2",
		"preset,machine\nnode,bms-1\n#node,bms-2":         "bms-1 struck 3",
		"machine,notes\nbms-1,#1 of two\nbms-2,#2 of two": "bms-1 bms-2",
		"[{\"notes\":\"#1\",\"machine\":\"bms-1\"}]":      "bms-1",
	} {
		table, found := Read(Source{Name: "m", Content: []byte(sheet), Rules: []Rule{{Heading: "No", Ignore: true}}})
		var got []string
		for _, r := range table.Rows {
			got = append(got, r.Cells[table.Column("machine", 0)])
		}
		for _, f := range found {
			got = append(got, f.Code)
		}
		for _, n := range table.CommentedOut {
			got = append(got, fmt.Sprint("struck ", n))
		}
		assert.Equal(t, want, strings.Join(got, " "), sheet)
	}
}
