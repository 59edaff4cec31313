package sheet

import (
	"archive/zip"
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asTheLibrary holds a workbook that is plain against what the library reads of it, and
// reports how many worksheets of it are.
func asTheLibrary(t *testing.T, content []byte) (plain int) {
	t.Helper()
	if overgrown(Source{Content: content}) != nil {
		return 0
	}
	x, err := openXLSX(content)
	if err != nil || x.plain == nil {
		return 0
	}
	own := x.plain
	x.plain = nil
	for _, name := range x.book.GetSheetList() {
		lines, err := own.lines(name)
		if err != nil {
			continue
		}
		plain++
		theirs, err := x.lines(name)
		require.NoError(t, err)
		text := func(all []line) (text []string) {
			for _, l := range all {
				text = append(text, fmt.Sprint(l.number, strings.TrimRight(fmt.Sprintf("%q", l.cells), `" ]`), l.days, l.bare, l.covered))
			}
			return text
		}
		require.Equal(t, text(theirs), text(lines), name)
	}
	return plain
}

// What is read without the library is what the library would read.
func TestPlainWorkbooks(t *testing.T) {
	cells := func(rows string) string { return "<sheetData>" + rows + "</sheetData>" }
	for name, c := range map[string]struct {
		sheet, shared string
		plain         int
	}{
		"inline":          {sheet: cells(`<row r="2"><c r="A2" t="inlineStr"><is><t>machine</t></is></c><c r="C2" t="inlineStr"><is><r><t>a</t></r><r><rPr/><t xml:space="preserve"> &amp; b</t></r></is></c></row>`), plain: 1},
		"shared":          {sheet: cells(`<row r="1"><c r="A1" t="s"><v>1</v></c><c r="B1"><v>42</v></c><c r="C1" s="0"/><c r="AB1" t="s"><v>0</v></c></row><row r="9"/>`), shared: `<si><t>a  b</t><rPh sb="0" eb="1"><t>x</t></rPh></si><si><t> c </t></si>`, plain: 1},
		"no row number":   {sheet: cells(`<row><c><v>1</v></c></row>`)},
		"rows backwards":  {sheet: cells(`<row r="2"><c r="A2"><v>1</v></c></row><row r="1"><c r="A1"><v>2</v></c></row>`)},
		"other row":       {sheet: cells(`<row r="2"><c r="A3"><v>1</v></c></row>`)},
		"decimals":        {sheet: cells(`<row r="1"><c r="A1"><v>4.50</v></c></row>`)},
		"exponent":        {sheet: cells(`<row r="1"><c r="A1"><v>1E+21</v></c></row>`)},
		"truth":           {sheet: cells(`<row r="1"><c r="A1" t="b"><v>1</v></c></row>`)},
		"error":           {sheet: cells(`<row r="1"><c r="A1" t="e"><v>#REF!</v></c></row>`)},
		"escape":          {sheet: cells(`<row r="1"><c r="A1" t="inlineStr"><is><t>a_x000D_b</t></is></c></row>`)},
		"no such string":  {sheet: cells(`<row r="1"><c r="A1" t="s"><v>7</v></c></row>`), shared: `<si><t>a</t></si>`},
		"no such style":   {sheet: cells(`<row r="1"><c r="A1" s="99"><v>7</v></c></row>`)},
		"rest of the row": {sheet: cells(`<row r="1"><c r="A1"><v>7</v></c>`)},
		"leading noughts": {sheet: cells(`<row r="1"><c r="A1"><v>007</v></c></row>`)},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.plain, asTheLibrary(t, zipped(t, c.sheet, c.shared)))
		})
	}
}

// A text far to the right in each of many rows is refused before it fills the memory,
// whoever reads it.
func TestWideRows(t *testing.T) {
	for _, value := range []string{"<v>1</v>", "<v>1.50</v>"} {
		var rows strings.Builder
		for i := range 1100 {
			fmt.Fprintf(&rows, `<row r="%[1]d"><c r="A%[1]d"><v>1</v></c><c r="XFD%[1]d">%s</c></row>`, i+1, value)
		}
		_, found := Read(Source{Name: "m.xlsx", Content: zipped(t, "<sheetData>"+rows.String()+"</sheetData>", "")})
		require.Len(t, found, 1)
		assert.Equal(t, `too-large worksheet "S" cannot be read: its rows are so wide that they have more than 16 million cells`, found[0].Code+" "+found[0].Message)
	}
}

// zipped is a workbook of one worksheet, as scripts write them.
func zipped(t testing.TB, sheet, shared string) []byte {
	const ns = `xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"`
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range map[string]string{
		"[Content_Types].xml":        `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"/>`,
		"_rels/.rels":                `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml":            `<workbook ` + ns + ` xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="S" sheetId="1" r:id="r1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="r2" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/sharedStrings" Target="sharedStrings.xml"/></Relationships>`,
		"xl/worksheets/sheet1.xml":   `<worksheet ` + ns + `><sheetViews><sheetView workbookViewId="0"/></sheetViews>` + sheet + `</worksheet>`,
		"xl/sharedStrings.xml":       `<sst ` + ns + `>` + shared + `</sst>`,
		"xl/styles.xml":              `<styleSheet ` + ns + `><cellXfs><xf numFmtId="0"/></cellXfs></styleSheet>`,
	} {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

// Whatever stands in the parts of a workbook, it is read as the library reads it, or left
// to the library.
func FuzzPlain(f *testing.F) {
	f.Add(`<sheetData><row r="1"><c r="A1" t="s"><v>0</v></c><c r="B1"><v>12</v></c><c r="D1" t="inlineStr"><is><t>x</t></is></c></row></sheetData>`, `<si><r><t>a</t></r><r><t>b</t></r></si>`)
	f.Fuzz(func(t *testing.T, sheet, shared string) { asTheLibrary(t, zipped(t, sheet, shared)) })
}
