package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func codes(t *testing.T, text string) map[string]string {
	t.Helper()
	_, found := ReadCSV("m.csv", strings.NewReader(text))
	all := map[string]string{}
	for _, f := range found {
		all[f.Code] = f.Error()
	}
	return all
}

func TestReadCSV(t *testing.T) {
	table, found := ReadCSV("m.csv", strings.NewReader("\ufeffNotes,MACHINE, Memory (GiB) ,Address.2\n"+
		"\"two\nlines, and \"\"quotes\"\"\", bms-1 ,4,dhcp\n\n  kept  ,bms-2\n"))
	require.Empty(t, found)
	require.Len(t, table.Rows, 2)
	assert.Equal(t, []string{"two\nlines, and \"quotes\"", "bms-1", "4", "dhcp"}, table.Rows[0].Cells)
	assert.Equal(t, []string{"  kept  ", "bms-2", "", ""}, table.Rows[1].Cells, "a short row; notes are kept to the letter")
	assert.Equal(t, "GiB", strings.Replace(table.Columns[2].Unit, "gib", "GiB", 1))
	assert.Equal(t, "address.2", table.Columns[3].ID())
	// A line break within a cell makes no row of its own, as in a spreadsheet.
	assert.Equal(t, "m.csv, row 4, column 2 (MACHINE)", table.Position(table.Rows[1], 1).String())
}

func TestReadCSVFindings(t *testing.T) {
	for code, c := range map[string]struct{ text, says string }{
		"unknown-column":    {"machine,adress\nx,y\n", `m.csv, row 1, column 2: unknown column "adress" (did you mean address?)`},
		"double-column":     {"machine,disk,Disk (GiB)\n", "column 2 already"},
		"no-machine-column": {"name?,disk\n", "headed `machine`"},
		"empty-sheet":       {"\n,,\n", "is empty"},
		"stray-cell":        {"machine,,\nx,,y\n", "m.csv, row 2, column 3: this cell has no heading"},
		"bad-text":          {"machine\n\x1b[2J\n", "control character U+001B"},
		"unreadable-sheet":  {"machine\n\"x\n", "m.csv:"},
	} {
		assert.Contains(t, codes(t, c.text)[code], c.says, code)
	}
	assert.Contains(t, codes(t, "machine\n\xff\n")["bad-text"], "UTF-8")
	assert.Empty(t, codes(t, "machine,,\nx,,\n"), "empty columns do no harm")
	for _, heading := range []string{"address.0", "address.01", "address.99", "machine.2", "notes (GiB)", "address.x"} {
		_, ok := ParseColumn(heading)
		assert.False(t, ok, heading)
	}
}

func FuzzReadCSV(f *testing.F) {
	f.Add("machine,address\nbms-1,dhcp\n")
	f.Add("machine\n\"a\nb\"\n")
	f.Fuzz(func(t *testing.T, s string) {
		table, found := ReadCSV("m.csv", strings.NewReader(s))
		for _, row := range table.Rows {
			if len(row.Cells) != len(table.Columns) {
				t.Fatal("a row without its cells")
			}
		}
		_ = found.Sorted()
	})
}
