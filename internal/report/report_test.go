package report

import (
	"archive/zip"
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

const setupText = `mintbatch: 1
sites: {quay: {kind: gateway, url: "https://127.0.0.1:1/q"}}
templates: {deb12-base: {guest: linux}}
networks: {survey: {subnet: 198.51.100.0/24, pools: {nodes: 198.51.100.10-198.51.100.20}}}
presets: {sonar-node: {}, tide-gauge: {}}
`

func starterOf(t *testing.T) []byte {
	t.Helper()
	s, found := setup.Read(nil, setup.File{Name: "m", Content: []byte(setupText)})
	require.Empty(t, found)
	b, err := Starter(s)
	require.NoError(t, err)
	return b
}

func TestStarterReadsBack(t *testing.T) {
	b := starterOf(t)
	table, found := sheet.Read(sheet.Source{Name: "m.xlsx", Content: b})
	assert.False(t, found.Failed(), found)
	assert.Equal(t, "machines", table.Worksheet)
	assert.Empty(t, table.Rows, "the example is struck out")
	assert.Len(t, table.Columns, len(fields))
	book, err := excelize.OpenReader(bytes.NewReader(b))
	require.NoError(t, err)
	rules, err := book.GetDataValidations("machines")
	require.NoError(t, err)
	lists := map[string]string{}
	for _, r := range rules {
		lists[r.Sqref] = r.Formula1
	}
	assert.Equal(t, "choices!$D$2:$D$3", strings.Trim(lists["B2:B2000"], "'"), "presets")
	comments, err := book.GetComments("machines")
	require.NoError(t, err)
	assert.Len(t, comments, len(fields))
	panes, err := book.GetPanes("machines")
	require.NoError(t, err)
	assert.True(t, panes.Freeze)
}

// office lets LibreOffice convert a workbook.
func office(t *testing.T, content []byte, from, to string) []byte {
	t.Helper()
	program, err := exec.LookPath("soffice")
	if err != nil {
		t.Skip("skipped: LibreOffice is not installed")
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in."+from), content, 0o600))
	said, err := exec.Command(program, "--headless", "-env:UserInstallation=file://"+dir+"/profile", "--convert-to", to, "--outdir", dir+"/out", filepath.Join(dir, "in."+from)).CombinedOutput()
	require.NoError(t, err, "%s", said)
	b, err := os.ReadFile(filepath.Join(dir, "out", "in."+to))
	require.NoError(t, err, "%s", said)
	return b
}

// The copy of an OpenDocument sheet opens in LibreOffice with the cells added.
func TestCopyOfODS(t *testing.T) {
	book := excelize.NewFile()
	for cell, v := range map[string]any{"A1": "Spring leg", "A2": "VM", "B2": "memory", "C2": "notes", "A3": "bms-[1-2]", "B3": "4GiB", "A5": "bms-5"} {
		require.NoError(t, book.SetCellValue("Sheet1", cell, v))
	}
	require.NoError(t, book.SetCellFormula("Sheet1", "C3", "LEN(A3)"))
	made, err := book.WriteToBuffer()
	require.NoError(t, err)
	original := office(t, made.Bytes(), "xlsx", "ods")
	table, found := sheet.Read(sheet.Source{Name: "m.ods", Content: original})
	require.Empty(t, found)
	copied, err := Copy(original, table, "copy.ods", map[int][]Line{3: {{Work: "same", State: "made"}, {Work: "new", State: "<&>"}}, 5: {{Work: "new", Error: "no room"}}})
	require.NoError(t, err)
	got, err := excelize.OpenReader(bytes.NewReader(office(t, copied, "ods", "xlsx")))
	require.NoError(t, err)
	for cell, want := range map[string]string{"A1": "Spring leg", "B3": "4GiB", "C3": "9", "D2": "work", "J2": "error", "D3": "same\nnew", "E3": "made\n<&>", "D5": "new", "J5": "no room"} {
		text, err := got.GetCellValue("Sheet1", cell)
		require.NoError(t, err)
		assert.Equal(t, want, text, cell)
	}
	formula, _ := got.GetCellFormula("Sheet1", "C3")
	assert.Equal(t, "LEN(A3)", formula)
}

// A real spreadsheet program finds the lists, and what is filled in is read.
func TestStarterInLibreOffice(t *testing.T) {
	book, err := excelize.OpenReader(bytes.NewReader(starterOf(t)))
	require.NoError(t, err)
	for cell, v := range map[string]any{"A3": "bms-sonar-[01-03]", "B3": "sonar-node", "F3": 2, "G3": "4GiB", "J3": "pool:nodes", "M3": 46477} {
		require.NoError(t, book.SetCellValue("machines", cell, v))
	}
	filled, err := book.WriteToBuffer()
	require.NoError(t, err)
	content := office(t, filled.Bytes(), "xlsx", "ods")
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	f, err := z.Open("content.xml")
	require.NoError(t, err)
	xml, err := io.ReadAll(f)
	require.NoError(t, err)
	assert.Contains(t, string(xml), `cell-content-is-in-list([$choices.$D$2:.$D$3])`, "the preset list")
	assert.Contains(t, string(xml), `cell-content-is-whole-number() and cell-content-is-between(1,1024)`)
	table, found := sheet.Read(sheet.Source{Name: "in.ods", Content: content})
	assert.Empty(t, found)
	require.Len(t, table.Rows, 1)
	assert.Equal(t, "bms-sonar-[01-03]|sonar-node||||2|4GiB|||pool:nodes|||2027-03-31||", strings.Join(table.Rows[0].Cells, "|"))
}

// The copy has the added columns; the rest, formulas and formats too, is as it was.
func TestCopyOfAWorkbook(t *testing.T) {
	book := excelize.NewFile()
	set := func(cell string, v any) { require.NoError(t, book.SetCellValue("Sheet1", cell, v)) }
	set("A1", "Spring leg")
	set("A2", "VM")
	set("B2", "memory")
	set("C2", "notes")
	set("A3", "bms-[1-2]")
	set("B3", "4GiB")
	require.NoError(t, book.SetCellValue("Sheet1", "C3", 9))
	require.NoError(t, book.SetCellFormula("Sheet1", "C3", "LEN(A3)"))
	red, err := book.NewStyle(&excelize.Style{Font: &excelize.Font{Color: "FF0000"}})
	require.NoError(t, err)
	require.NoError(t, book.SetCellStyle("Sheet1", "A3", "A3", red))
	_, err = book.NewSheet("Other")
	require.NoError(t, err)
	require.NoError(t, book.SetCellValue("Other", "B7", "kept"))
	original, err := book.WriteToBuffer()
	require.NoError(t, err)
	table, _ := sheet.Read(sheet.Source{Name: "m.xlsx", Content: original.Bytes()})
	copied, err := Copy(original.Bytes(), table, "copy.xlsx", map[int][]Line{3: {
		{Work: "same", State: "made", Addresses: "198.51.100.7", MAC: "02:00:00:00:00:01", Host: "hv1", When: "2026-11-23 08:00"},
		{Work: "new", State: "unfinished", Error: "=1+1"}}})
	require.NoError(t, err)
	got, err := excelize.OpenReader(bytes.NewReader(copied))
	require.NoError(t, err)
	for cell, want := range map[string]string{"A1": "Spring leg", "B3": "4GiB", "D2": "work", "J2": "error", "D3": "same\nnew", "E3": "made\nunfinished",
		"F3": "198.51.100.7", "G3": "02:00:00:00:00:01", "H3": "hv1", "J3": "\n=1+1"} {
		text, err := got.GetCellValue("Sheet1", cell)
		require.NoError(t, err)
		assert.Equal(t, want, text, cell)
	}
	formula, _ := got.GetCellFormula("Sheet1", "C3")
	assert.Equal(t, "LEN(A3)", formula)
	kept, _ := got.GetCellValue("Other", "B7")
	assert.Equal(t, "kept", kept)
	style, err := got.GetCellStyle("Sheet1", "A3")
	require.NoError(t, err)
	font, err := got.GetStyle(style)
	require.NoError(t, err)
	assert.Equal(t, "FF0000", font.Font.Color)
	again, found := sheet.Read(sheet.Source{Name: "copy.xlsx", Content: original.Bytes()})
	assert.Empty(t, found)
	assert.Equal(t, table.Rows, again.Rows, "the original is as it was")
}

func TestCopyOfACSV(t *testing.T) {
	original := []byte("\xef\xbb\xbfSpring leg;;\n;;\nVM;memory;notes\nbms-1;4GiB;\"a;b\"\n# bms-2;;\n")
	table, _ := sheet.Read(sheet.Source{Name: "m.csv", Content: original})
	copied, err := Copy(original, table, "copy.csv", map[int][]Line{4: {{Work: "new", State: "not made", Error: "=cmd()"}}})
	require.NoError(t, err)
	assert.Equal(t, "\xef\xbb\xbfSpring leg;;;;;;;;;;\n;;;;;;;;;;\nVM;memory;notes;work;state;addresses given;MAC given;made on host;when;error;records\n"+
		"bms-1;4GiB;\"a;b\";new;not made;;;;;'=cmd();\n# bms-2;;;;;;;;;;\n", string(copied))
	_, err = Copy(nil, &sheet.Table{Kind: sheet.JSON}, "copy.json", nil)
	assert.ErrorIs(t, err, ErrKind)

	// A copy has the format of its name, or is refused.
	workbook, err := Copy(original, table, "copy.XLSX", map[int][]Line{4: {{Work: "new", Host: "hv1"}}})
	require.NoError(t, err)
	got, err := excelize.OpenReader(bytes.NewReader(workbook))
	require.NoError(t, err)
	for cell, want := range map[string]string{"A1": "Spring leg", "C4": "a;b", "D3": "work", "D4": "new", "H4": "hv1"} {
		text, err := got.GetCellValue("Sheet1", cell)
		require.NoError(t, err)
		assert.Equal(t, want, text, cell)
	}
	_, err = Copy(original, table, "copy.ods", nil)
	assert.ErrorContains(t, err, `not ".ods"`)
}

// The copy of a copy has the new results where the old ones were, also where columns were added behind them since.
func TestCopyOfACopy(t *testing.T) {
	before := map[int][]Line{2: {{Work: "same", State: "made", Records: "item 1"}}, 3: {{Work: "new", Error: "no room"}}}
	after := map[int][]Line{2: {{Work: "same", State: "made"}}, 3: {{Work: "new", Host: "hv1"}, {Work: "new"}}}
	original := []byte("machine,notes\nbms-1,a\n\"bms-[2-3]\",\n# bms-4,\n")
	rows := func(content []byte) (all [][]string) {
		book, err := excelize.OpenReader(bytes.NewReader(content))
		require.NoError(t, err)
		all, err = book.GetRows("Sheet1")
		require.NoError(t, err)
		return all
	}
	for kind, as := range map[string]func(csv []byte) []byte{
		".csv": func(csv []byte) []byte { return csv },
		".xlsx": func(csv []byte) []byte {
			records, err := sheet.Records(csv, ',')
			require.NoError(t, err)
			var all [][]string
			for _, r := range records {
				all = append(all, r.Cells)
			}
			book, err := workbookOf(all)
			require.NoError(t, err)
			return book
		},
		".ods": func(csv []byte) []byte { return office(t, csv, "csv", "ods") },
	} {
		t.Run(kind, func(t *testing.T) {
			copyOf := func(content []byte, lines map[int][]Line) []byte {
				table, found := sheet.Read(sheet.Source{Name: "m" + kind, Content: content})
				require.Empty(t, found)
				copied, err := Copy(content, table, "copy"+kind, lines)
				require.NoError(t, err)
				return copied
			}
			first := copyOf(as(original), before)
			again, want := copyOf(first, after), copyOf(as(original), after)
			switch kind {
			case ".csv":
				assert.Equal(t, string(want), string(again))
				behind := strings.ReplaceAll(string(first), "records\n", "records,owner\n")
				assert.Contains(t, string(copyOf([]byte(behind), after)), "when,error,records,owner\n")
			case ".ods":
				text := func(content []byte) []byte {
					return bytes.ReplaceAll(office(t, content, "ods", "csv"), []byte("\r"), nil)
				}
				assert.Equal(t, string(text(want)), string(text(again)))
			default:
				assert.Equal(t, rows(want), rows(again))
			}
		})
	}
}

// A workbook's content type is that of its name (ECMA-376, part 1, 15.2).
func TestContentTypeOfACopy(t *testing.T) {
	book, err := excelize.NewFile().WriteToBuffer()
	require.NoError(t, err)
	for ending, word := range map[string]string{".xlsx": "spreadsheetml.sheet.main", ".xlsm": "ms-excel.sheet.macroEnabled", ".xltx": "spreadsheetml.template.main"} {
		copied, err := Copy(book.Bytes(), &sheet.Table{Kind: sheet.XLSX, Worksheet: "Sheet1", HeadingRow: 1}, "copy"+ending, nil)
		require.NoError(t, err)
		z, err := zip.NewReader(bytes.NewReader(copied), int64(len(copied)))
		require.NoError(t, err)
		f, err := z.Open("[Content_Types].xml")
		require.NoError(t, err)
		types, err := io.ReadAll(f)
		require.NoError(t, err)
		assert.Contains(t, string(types), word, ending)
	}
}

// The lists of a workbook that is in use are brought up to date; its rows stay.
func TestListsAreBroughtUpToDate(t *testing.T) {
	book, err := excelize.OpenReader(bytes.NewReader(starterOf(t)))
	require.NoError(t, err)
	for cell, v := range map[string]any{"A3": "bms-sonar-[01-03]", "B3": "sonar-node", "G3": "4GiB", "O3": "hands off"} {
		require.NoError(t, book.SetCellValue("machines", cell, v))
	}
	require.NoError(t, book.SetCellFormula("machines", "P3", "LEN(A3)"))
	filled, err := book.WriteToBuffer()
	require.NoError(t, err)
	s, found := setup.Read(nil, setup.File{Name: "s.yaml", Content: []byte("mintbatch: 1\nsites: {quay: {kind: gateway, url: https://127.0.0.1:1}}\ntemplates: {deb12-base: {guest: linux}}\nnetworks: {}\npresets: {other: {}, third: {}}\n")})
	require.Empty(t, found)
	updated, err := UpdateLists(filled.Bytes(), s)
	require.NoError(t, err)
	got, err := excelize.OpenReader(bytes.NewReader(updated))
	require.NoError(t, err)
	for cell, want := range map[string]string{"A3": "bms-sonar-[01-03]", "B3": "sonar-node", "G3": "4GiB", "O3": "hands off"} {
		text, err := got.GetCellValue("machines", cell)
		require.NoError(t, err)
		assert.Equal(t, want, text, cell)
	}
	formula, _ := got.GetCellFormula("machines", "P3")
	assert.Equal(t, "LEN(A3)", formula)
	choices, err := got.GetCols("choices")
	require.NoError(t, err)
	assert.Contains(t, choices, []string{"choices of preset", "other", "third"})
	rules, err := got.GetDataValidations("machines")
	require.NoError(t, err)
	lists := map[string]string{}
	for _, v := range rules {
		assert.Empty(t, lists[v.Sqref], "two rules for %s", v.Sqref)
		lists[v.Sqref] = v.Formula1
	}
	assert.Contains(t, lists["B2:B2000"], "$D$2:$D$3")
}
