package sheet

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"mintbatch/internal/core/finding"
)

func read(content string) (*Table, finding.List) {
	return Read(Source{Name: "m", Content: []byte(content)})
}

// shown writes a table as its reader sees it: ids of the columns, then rows.
func shown(t *Table) string {
	var ids []string
	for _, c := range t.Columns {
		ids = append(ids, c.ID())
	}
	lines := []string{strings.Join(ids, "|")}
	for _, r := range t.Rows {
		lines = append(lines, strings.Join(r.Cells, "|"))
	}
	return strings.Join(lines, "\n")
}

const want = "machine|memory|notes\nbms-1|4GiB|å, first\nbms-2||second"

func TestOneSheetInEveryKind(t *testing.T) {
	csv := "machine,Memory (GiB),notes\nbms-1,4,\"å, first\"\nbms-2,,second\n"
	semicolon := strings.ReplaceAll(strings.ReplaceAll(csv, ",", ";"), "å;", "å,")
	utf16le, _ := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().String(csv)
	utf16be, _ := unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder().String(csv)
	windows, err := charmap.Windows1252.NewEncoder().String(csv)
	require.NoError(t, err)
	list := `[{"machine":"bms-1","Memory (GiB)":4,"notes":"å, first"},{"machine":"bms-2","notes":"second","Memory (GiB)":null}]`
	for name, content := range map[string]string{
		"commas": csv, "byte-order mark": "\ufeff" + csv, "semicolons": semicolon, "tabs": strings.ReplaceAll(strings.ReplaceAll(csv, ",", "\t"), "å\t", "å,"),
		"UTF-16 little-endian": utf16le, "UTF-16 big-endian with mark": utf16be, "Windows-1252": windows, "carriage returns": strings.ReplaceAll(csv, "\n", "\r\n"),
		"carriage returns alone": strings.ReplaceAll(csv, "\n", "\r"), "unit behind an underscore": strings.Replace(csv, "Memory (GiB)", "RAM_GiB", 1),
		"headings in other forms": strings.Replace(strings.Replace(csv, "machine", "\uff4d\uff41chine\u200b", 1), "notes", "no\u00adtes", 1),
		"commas within":           "machine;Memory (GiB);notes\nbms-1;4;å, first\nbms-2;;second\n",
		"spoken separator":        "sep=;\n" + semicolon,
		"title above":             "Nodes of the spring leg,,\n,,\n" + csv, "struck out": csv + "# bms-3,4,gone\n,,\n",
		"JSON": list, "JSON pretty": "{\n \"machines\": " + list + "}", "JSON Lines": strings.ReplaceAll(strings.Trim(list, "[]"), "},{", "}\n{"),
		"YAML":         "- machine: bms-1\n  Memory (GiB): 4\n  notes: å, first\n- machine: bms-2\n  notes: second\n",
		"YAML mapping": "machines:\n  - {machine: bms-1, Memory (GiB): 4, notes: \"å, first\"}\n  - {machine: bms-2, notes: second}\n",
	} {
		table, found := read(content)
		if name == "Windows-1252" {
			require.Len(t, found, 1, "told")
			assert.Equal(t, finding.Note, found[0].Severity)
			found = nil
		}
		assert.Empty(t, found, name)
		assert.Equal(t, want, shown(table), name)
		assert.Equal(t, "GiB", table.Columns[1].Unit, name)
	}
}

// workbook makes one with what a person's hands make of a sheet.
func workbook(t *testing.T, change func(f *excelize.File)) []byte {
	t.Helper()
	f := excelize.NewFile()
	require.NoError(t, f.SetSheetName("Sheet1", "Nodes"))
	set := func(cell string, v any) { require.NoError(t, f.SetCellValue("Nodes", cell, v)) }
	style := func(cell string, numFmt int, custom string) {
		s := &excelize.Style{NumFmt: numFmt}
		if custom != "" {
			s.CustomNumFmt = &custom
		}
		id, err := f.NewStyle(s)
		require.NoError(t, err)
		require.NoError(t, f.SetCellStyle("Nodes", cell, cell, id))
	}
	set("B1", "Nodes of the spring leg")
	require.NoError(t, f.MergeCell("Nodes", "B1", "E1"))
	for i, h := range []string{"VM Name", "RAM in GB", "vCPU", "Expiry date", "Remarks", "Owner", "labels"} {
		cell, _ := excelize.CoordinatesToCellName(i+2, 4)
		set(cell, h)
	}
	set("B5", 7)
	style("B5", 0, "000")
	set("C5", 4.0)
	set("D5", 2)
	set("E5", time.Date(2027, 3, 31, 0, 0, 0, 0, time.UTC))
	style("E5", 0, "d. mmmm yyyy")
	set("F5", 123456789012345.0)
	set("G5", "sonar desk")
	require.NoError(t, f.MergeCell("Nodes", "G5", "G6"))
	set("H5", true)
	set("B6", "bms-2")
	require.NoError(t, f.SetCellFormula("Nodes", "D6", "D5*2"))
	require.NoError(t, f.SetCellValue("Nodes", "D6", 4))
	set("F6", 0.5)
	style("F6", 9, "")
	style("D5", 2, "") // shows 2.00
	style("C5", 0, "0.0")
	set("B8", "# bms-3")
	require.NoError(t, f.SetRowVisible("Nodes", 6, false))
	if change != nil {
		change(f)
	}
	b, err := f.WriteToBuffer()
	require.NoError(t, err)
	return b.Bytes()
}

const wantBook = "machine|memory|cpus|until|notes|owner|labels\n007|4GB|2|2027-03-31|123456789012345|sonar desk|TRUE\nbms-2||4||50%|sonar desk|"

func TestWorkbook(t *testing.T) {
	table, found := Read(Source{Name: "m.xlsx", Content: workbook(t, nil)})
	assert.Empty(t, found)
	assert.Equal(t, wantBook, shown(table))
	assert.Equal(t, `m.xlsx, sheet "Nodes", C5 (RAM in GB)`, table.Position(table.Rows[0], 1).String())
}

func TestWorksheets(t *testing.T) {
	two := workbook(t, func(f *excelize.File) {
		_, _ = f.NewSheet("Old")
		_ = f.SetCellValue("Old", "A1", "vm")
		_ = f.SetCellValue("Old", "A2", "bms-9")
		_, _ = f.NewSheet("Readme")
		_ = f.SetCellValue("Readme", "A1", "read me")
	})
	_, found := Read(Source{Name: "m.xlsx", Content: two})
	require.Len(t, found, 1)
	assert.Equal(t, "m.xlsx: several worksheets have a machine column: Nodes, Old (name one with --worksheet)", found[0].Error())
	table, found := Read(Source{Name: "m.xlsx", Content: two, Worksheet: "old"})
	assert.Empty(t, found)
	assert.Equal(t, "machine\nbms-9", shown(table))
	hidden := workbook(t, func(f *excelize.File) {
		_, _ = f.NewSheet("Old")
		_ = f.SetCellValue("Old", "A1", "vm")
		_ = f.SetSheetVisible("Old", false)
	})
	table, found = Read(Source{Name: "m.xlsx", Content: hidden})
	assert.Empty(t, found, "what its user does not see is no candidate")
	assert.Equal(t, "Nodes", table.Worksheet)
	_, found = Read(Source{Name: "m.xlsx", Content: two, Worksheet: "Nods"})
	assert.Contains(t, found[0].Error(), "did you mean Nodes?")
}

func TestAWorkbookWithAPassword(t *testing.T) {
	book, err := excelize.OpenReader(bytes.NewReader(workbook(t, nil)))
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "m.xlsx")
	require.NoError(t, book.SaveAs(path, excelize.Options{Password: "harbour"}))
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	_, found := Read(Source{Name: "m.xlsx", Content: content})
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Error(), "the workbook has a password")
}

func TestErrorValuesAreFindings(t *testing.T) {
	broken := workbook(t, func(f *excelize.File) { _ = f.SetCellValue("Nodes", "D5", "#REF!") })
	_, found := Read(Source{Name: "m.xlsx", Content: broken})
	require.Len(t, found, 1)
	assert.Equal(t, `m.xlsx, sheet "Nodes", D5 (vCPU): the formula in this cell failed: #REF! (correct it, or write the value)`, found[0].Error())
}

func TestHeadings(t *testing.T) {
	for c := range rune(0x80) { // plain text is folded as any other
		if c != ':' {
			assert.Equal(t, folded("x"+string(c)+"é"), folded("x" + string(c) + "y")[:len(folded("x"+string(c)+"y"))-1]+"é", "%q", c)
		}
	}
	for heading, id := range map[string]string{
		"VM": "machine", "vm_name": "machine", "IP": "address", "ip address 2": "address.2", "IP2": "address.2", "address.2": "address.2", "Network 3": "network.3",
		"vCPU": "cpus", "RAM": "memory", "Memory (GB)": "memory", "memory [MiB]": "memory", "Disk in GB": "disk", "RAM, GB": "memory", "Comments:": "notes", "SSH key": "keys",
		"Time-Zone": "timezone", "VM\u00a0Name": "machine", "VM\nName": "machine", "  Data  Disks ": "disks",
	} {
		c, ok := ParseColumn(heading)
		assert.True(t, ok, heading)
		assert.Equal(t, id, c.ID(), heading)
	}
	for _, heading := range []string{"", "adress", "machine.2", "notes (GiB)", "address.0", "address.01", "address.99", "Memory (parsecs)", "owner GB"} {
		_, ok := ParseColumn(heading)
		assert.False(t, ok, heading)
	}
}

func TestRules(t *testing.T) {
	off := "off"
	rules := []Rule{
		{Heading: "Nodename", Column: Column{Name: "machine"}}, {Heading: "Cost centre", Ignore: true}, {Heading: "Speicher", Column: Column{Name: "memory"}, Unit: "MiB"},
		{Heading: "power", Column: Column{Name: "power"}, Ignore: true, Fixed: &off},
	}
	table, found := Read(Source{Name: "m", Content: []byte("nodename,Cost Centre,SPEICHER,power\nbms-1,4711,512,on\n"), Rules: rules})
	assert.Empty(t, found)
	assert.Equal(t, "machine|memory\nbms-1|512MiB", shown(table))
	assert.Equal(t, "MiB", table.Columns[1].Unit)
	assert.Equal(t, "off", table.Fixed["power"].Value)
}

func TestFindings(t *testing.T) {
	for code, c := range map[string]struct{ content, says string }{
		"unknown-column":    {"machine,adress\nx,y\n", `m, row 1, column 2: unknown column "adress" (did you mean address?`},
		"double-column":     {"machine,ip,IP Address\n", `"IP Address" and "ip" both mean address`},
		"no-machine-column": {"what,disk\n1,2\n", "has the heading `machine`"},
		"empty-sheet":       {"\n \n", "is empty"},
		"stray-cell":        {"machine,,\nx,,y\n", "m, row 2, column 3: this cell has no column heading"},
		"bad-text":          {"machine\nx\x1b[2J\n", "control character U+001B"},
		"unreadable-sheet":  {"machine\n\"x\n", "m:"},
		"unknown-kind":      {"\x7fELF\x00\x00\x01\x02\x03\x04", "not a sheet"},
	} {
		_, found := read(c.content)
		require.NotEmpty(t, found, code)
		at := slices.IndexFunc(found, func(f finding.Finding) bool { return f.Code == code })
		require.GreaterOrEqual(t, at, 0, code)
		assert.Contains(t, found[at].Error(), c.says, code)
	}
	for content, says := range map[string]string{
		"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1......": "has a password",
		"PK\x03\x04 and no more":                 "cut short",
		"[{\"machine\": 1,}]":                    "m:1:",
		"{\"machine\": [[1]]}":                   "neither a value nor a list",
		"- machine: x\n- y\n":                    "not a mapping",
		"--- a: [":                               "not YAML",
		string(workbook(t, nil)[:3000]):          "cut short",
	} {
		_, found := read(content)
		require.NotEmpty(t, found, says)
		assert.Contains(t, found[0].Error(), says)
	}
	_, found := read("machine\npassword: hunter2,x\n")
	assert.NotContains(t, found[0].Error()+found[0].Value, "hunter2", "what looks like a secret is not repeated")
}

// An encoding is known or told, never guessed; so is a kind of file that is no sheet.
func TestWhatIsNotKnownIsTold(t *testing.T) {
	polish, _ := charmap.ISO8859_2.NewEncoder().String("machine,notes\nbms-1,Wrocław\n")
	russian, _ := charmap.KOI8R.NewEncoder().String("machine,notes\nbms-1,Причал\n")
	for name, content := range map[string]string{"Polish": polish, "Russian": russian, "one bad byte": "machine,notes\nbms-0,å\nbms-1,\xe5x\n",
		"Japanese": "machine,notes\nbms-1,\x8ak\x8a\xee\x90\xdd\n", "cut": "machine,notes\nbms-1,ab\x81c\n"} {
		_, found := read(content)
		require.NotEmpty(t, found, name)
		assert.Equal(t, "bad-text", found[0].Code, name)
		assert.Equal(t, 2, found[0].At.Column, name)
	}
	zipped := func(names ...string) string {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for _, n := range names {
			w, _ := z.Create(n)
			_, _ = w.Write([]byte("application/vnd.oasis.opendocument.text"))
		}
		_ = z.Close()
		return b.String()
	}
	for content, says := range map[string]string{"%PDF-1.7\n": "a PDF", "<!DOCTYPE html><html>": "HTML", "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1..W\x00o\x00r\x00k\x00b\x00o\x00o\x00k\x00": "XLS",
		"<?xml version=\"1.0\"?><Workbook xmlns=\"urn:schemas-microsoft-com:office:spreadsheet\">": "SpreadsheetML", zipped("word/document.xml"): "DOCX",
		zipped("mimetype", "content.xml"): "not a spreadsheet", zipped("xl/workbook.bin"): "XLSB", "{\\rtf1 x}": "RTF", "PK\x03\x04": "cut short", "\x1f\x8b\x08": "gzip"} {
		_, found := read(content)
		require.NotEmpty(t, found, says)
		assert.Contains(t, found[0].Error(), says)
	}
	_, found := read("[{\"machine\": \"bms-1\", \"machine\": \"bms-2\"}]")
	assert.Contains(t, found[0].Error(), `key "machine" is there twice`)
}

func TestABombIsRefusedAtOnce(t *testing.T) {
	list := "machines:\n  - &a [x,x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c < 'l'; c++ {
		list += "  - &" + string(c) + " [" + strings.TrimSuffix(strings.Repeat("*"+string(c-1)+",", 10), ",") + "]\n"
	}
	_, found := read(list)
	assert.True(t, found.Failed())
	_, found = Read(Source{Name: "m", Content: bytes.Repeat([]byte("x"), MaxContent+1)})
	assert.Equal(t, "too-large", found[0].Code)
}

// An archive that says it expands to ten gigabytes is not opened, and one that
// hides it does not get the chance.
func TestAnArchiveThatExplodes(t *testing.T) {
	archive := func(says uint64) []byte {
		var b, packed bytes.Buffer
		deflate, _ := flate.NewWriter(&packed, flate.BestSpeed)
		for range 64 {
			_, _ = deflate.Write(make([]byte, 1<<20))
		}
		_ = deflate.Close()
		z := zip.NewWriter(&b)
		for _, name := range []string{"xl/workbook.xml", "content.xml"} {
			w, err := z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Deflate, CompressedSize64: uint64(packed.Len()), UncompressedSize64: says})
			require.NoError(t, err)
			_, _ = w.Write(packed.Bytes())
		}
		require.NoError(t, z.Close())
		return b.Bytes()
	}
	for says, code := range map[uint64]string{10 << 30: "too-large", 100: "unreadable-sheet"} {
		for _, kind := range []Kind{XLSX, ODS} {
			_, found := Read(Source{Name: "m", Content: archive(says), Kind: kind})
			require.NotEmpty(t, found)
			assert.Equal(t, code, found[0].Code, kind)
		}
	}
}

// A copy of a sheet is read as the sheet, without the columns that it has besides; some of them alone are somebody else's.
func TestCopiesAreReadAgain(t *testing.T) {
	added := strings.Join(Added, ",")
	table, found := Read(Source{Name: "m", Content: []byte("machine," + added + ",cpus," + added + "\nbms-1,same,made,198.51.100.7,,,,,,4,a,b\n")})
	assert.Empty(t, found)
	assert.Equal(t, "machine|cpus\nbms-1|4", shown(table))
	_, found = Read(Source{Name: "m", Content: []byte("machine," + strings.Join(Added[1:], ",") + "\nbms-1\n")})
	assert.Len(t, found, len(Added)-1)
}

// A few megabytes of nothing but separators, rows or headings are refused before they fill the memory, and so is what expands to more
// than it may.
func TestLargerThanAnySheet(t *testing.T) {
	var keys strings.Builder
	for i := range maxColumns {
		fmt.Fprintf(&keys, `,"c%d":1`, i)
	}
	for name, c := range map[string]struct {
		source  Source
		message string
	}{
		"cells":   {Source{Content: []byte("machine\nbms-a" + strings.Repeat(";", mostCells+1))}, "the sheet cannot be read: its rows are so wide that they have more than 16 million cells"},
		"rows":    {Source{Content: []byte("machine\n" + strings.Repeat("a\n", maxRows))}, "the sheet cannot be read: it has more than 1048576 rows"},
		"columns": {Source{Content: []byte("machine" + strings.Repeat(",x", maxColumns) + "\na\n")}, "the sheet cannot be read: it has more than 16384 columns"},
		"keys":    {Source{Content: []byte(`[{"machine":"a"` + keys.String() + "}]")}, "the sheet cannot be read: it has more than 16384 columns"},
		"text": {Source{Content: zipped(t, `<sheetData><row r="1"><c r="A1" t="s"><v>0</v></c><c r="B1" t="s"><v>0</v></c></row></sheetData>`, "<si><t>"+strings.Repeat("x", 600<<10)+"</t></si>"), Expanded: 1 << 20},
			"its cells have more than 1 MiB of text"},
		"archive": {Source{Content: zipped(t, "<sheetData>"+strings.Repeat(" ", 2<<20)+"</sheetData>", ""), Expanded: 1 << 20}, "the workbook expands to more than 1 MiB"},
	} {
		c.source.Name = "m"
		_, found := Read(c.source)
		require.Len(t, found, 1, name)
		assert.Equal(t, "too-large "+c.message, found[0].Code+" "+found[0].Message, name)
	}
}

// Elements within each other by the million take a few bytes of a workbook, and are refused before anything remembers them all.
func TestElementsWithinEachOther(t *testing.T) {
	million := strings.Repeat("<a>", 3_000_000) + strings.Repeat("</a>", 3_000_000)
	row := `<row r="1"><c r="A1" t="inlineStr"><is><t>machine</t></is></c></row>`
	for name, content := range map[string][]byte{
		"plain": zipped(t, "<sheetData>"+row+"</sheetData>"+million, ""), "left to the library": zipped(t, "<!-- -->"+million+"<sheetData>"+row+"</sheetData>", ""),
		"shared texts": zipped(t, "<sheetData>"+row+"</sheetData>", "<si>"+million+"</si>"), "ODS": odsOf(`<table:table-row><table:table-cell><text:p>machine</text:p></table:table-cell></table:table-row>` + million),
	} {
		_, found := Read(Source{Name: "m", Content: content})
		require.Len(t, found, 1, name)
		assert.Equal(t, "the workbook is damaged: its elements are nested too deeply", found[0].Message, name)
	}
	old := `<?xml version="1.0" encoding="windows-1252"?><a b="` + "\xe4" + `">`
	assert.ErrorIs(t, outsizeXML([]byte(old+strings.Repeat("<a>", deepest))), errDeep)
	assert.NoError(t, outsizeXML([]byte(old+strings.Repeat(" ", longest-1)+strings.Repeat("<a/>", deepest))))
	assert.ErrorIs(t, outsizeXML([]byte(old+"<a"+strings.Repeat(` b=">"`, longest/5))), errLong)
}

// odsOf makes an OpenDocument sheet of rows.
func odsOf(rows string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, _ := z.Create("content.xml")
	_, _ = w.Write([]byte(`<d xmlns:table="` + odfTable + `" xmlns:text="` + odfText + `" xmlns:office="` + odfOffice + `" xmlns:style="` + odfStyle +
		`" xmlns:draw="d" xmlns:svg="s"><style:style style:name="away"><style:table-properties table:display="false"/></style:style><table:table table:name="Nodes">` + rows + `</table:table></d>`))
	_ = z.Close()
	return b.Bytes()
}

// A row that an OpenDocument sheet says is there a billion times is not
// written out a billion times.
func TestRepeatedRowsOfODS(t *testing.T) {
	heading := `<table:table-row><table:table-cell><text:p>machine</text:p></table:table-cell></table:table-row>`
	table, found := Read(Source{Name: "m", Content: odsOf(heading + `<table:table-row table:number-rows-repeated="1000000000"><table:table-cell table:number-columns-repeated="1000000000"/></table:table-row>` +
		`<table:table-row><table:table-cell><text:p>bms<text:s text:c="1"/>1</text:p></table:table-cell></table:table-row>`)})
	assert.Empty(t, found)
	assert.Equal(t, "machine\nbms 1", shown(table))
	assert.Equal(t, 1000000002, table.Rows[0].Number)
	_, found = Read(Source{Name: "m", Content: odsOf(heading + `<table:table-row table:number-rows-repeated="1000000000"><table:table-cell><text:p>x</text:p></table:table-cell></table:table-row>`)})
	assert.Contains(t, found[0].Message, "more than a million rows")
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("machine,address\nbms-1,dhcp\n"))
	f.Add([]byte("machine;notes\n\"a\nb\";x\n"))
	f.Add([]byte(`[{"machine":"x","keys":["a","b"]}]`))
	f.Add([]byte("- machine: x\n"))
	f.Add([]byte("PK\x03\x04"))
	f.Fuzz(func(t *testing.T, content []byte) {
		table, found := Read(Source{Name: "m", Content: content})
		for _, row := range table.Rows {
			if len(row.Cells) != len(table.Columns) {
				t.Fatal("a row without its cells")
			}
		}
		_ = found.Sorted()
	})
}

// fuzzed reads an archive of which one part is whatever the fuzzer makes.
func fuzzed(t *testing.T, kind Kind, base []byte, part string, content []byte) {
	z, err := zip.NewReader(bytes.NewReader(base), int64(len(base)))
	require.NoError(t, err)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range z.File {
		if f.Name != part {
			require.NoError(t, w.Copy(f))
		}
	}
	p, err := w.Create(part)
	require.NoError(t, err)
	_, err = p.Write(content)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	_, found := Read(Source{Name: "m", Content: b.Bytes(), Kind: kind})
	_ = found.Sorted()
}

func FuzzODS(f *testing.F) {
	f.Add([]byte(`<d xmlns:table="` + odfTable + `" xmlns:text="` + odfText + `"><table:table table:name="N"><table:table-row table:number-rows-repeated="3"><table:table-cell table:number-rows-spanned="2"><text:p>machine</text:p></table:table-cell></table:table-row></table:table></d>`))
	empty := []byte("PK\x05\x06" + strings.Repeat("\x00", 18))
	f.Fuzz(func(t *testing.T, content []byte) { fuzzed(t, ODS, empty, "content.xml", content) })
}

func FuzzXLSX(f *testing.F) {
	book := excelize.NewFile()
	base, err := book.WriteToBuffer()
	require.NoError(f, err)
	f.Add([]byte(`<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>machine</t></is></c></row><row r="2"><c r="A2"><v>1.5E+11</v></c></row></sheetData><mergeCells><mergeCell ref="A1:B2"/></mergeCells></worksheet>`))
	f.Fuzz(func(t *testing.T, content []byte) { fuzzed(t, XLSX, base.Bytes(), "xl/worksheets/sheet1.xml", content) })
}
