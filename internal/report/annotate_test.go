package report

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/sheet"
)

// Findings are comments at their cells, as LibreOffice sees them too; what somebody has noted there stays.
func TestAnnotated(t *testing.T) {
	book := excelize.NewFile()
	require.NoError(t, book.SetSheetName("Sheet1", "Pegel Nord"))
	for cell, v := range map[string]any{"A1": "Spring leg", "B3": "machine", "C3": "memory", "B4": "bms-1", "C4": "lots", "B5": "bms_2"} {
		require.NoError(t, book.SetCellValue("Pegel Nord", cell, v))
	}
	require.NoError(t, book.AddComment("Pegel Nord", excelize.Comment{Cell: "C4", Author: "Anna", Text: "as much as there is"}))
	require.NoError(t, book.AddComment("Pegel Nord", excelize.Comment{Cell: "A1", Author: "Anna", Text: "for May"}))
	made, err := book.WriteToBuffer()
	require.NoError(t, err)
	for name, c := range map[string]struct {
		content []byte
		want    map[string]string
	}{
		"m.xlsx": {made.Bytes(), map[string]string{"A1": "for May", "C4": "as much as there is\nerror: \"lots\" is no size\nwrite 4GiB", "B5": "error: bad name\nwarning: odd", "A6": "note: a row"}},
		"m.csv":  {[]byte("Spring leg\n\n,machine,memory\n,bms-1,lots\n,bms_2,\n"), map[string]string{"C4": "error: \"lots\" is no size\nwrite 4GiB", "B5": "error: bad name\nwarning: odd", "A6": "note: a row"}},
	} {
		table, _ := sheet.Read(sheet.Source{Name: name, Content: c.content})
		at := func(row, column int) finding.Position {
			return finding.Position{File: name, Worksheet: table.Worksheet, Row: row, Column: column}
		}
		copied, err := Annotated(c.content, table, finding.List{{At: at(4, 3), Message: `"lots" is no size`, Hint: "write 4GiB"}, {At: at(5, 2), Message: "bad name"}, {At: at(5, 2), Severity: finding.Warning, Message: "odd"},
			{At: at(6, 0), Severity: finding.Note, Message: "a row"}, {At: finding.Position{File: "mintbatch.yaml", Row: 1, Column: 1}, Message: "elsewhere"}})
		require.NoError(t, err, name)
		for _, content := range [][]byte{copied, office(t, copied, "xlsx", "ods")} {
			if bytes.Contains(content[:100], []byte("opendocument")) {
				content = office(t, content, "ods", "xlsx")
			}
			seen, err := excelize.OpenReader(bytes.NewReader(content))
			require.NoError(t, err, name)
			worksheet := seen.GetSheetName(0)
			comments, err := seen.GetComments(worksheet)
			require.NoError(t, err, name)
			got := map[string]string{}
			for _, c := range comments {
				got[c.Cell] = commentText(c)
			}
			assert.Equal(t, c.want, got, name)
			value, err := seen.GetCellValue(worksheet, "B5")
			require.NoError(t, err)
			assert.Equal(t, "bms_2", value, name)
		}
	}
}
