package request

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/mail"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// FuzzRequest takes bytes from the wire as far as a request: whatever they are, what passes the rule is text in columns that may be
// filled, and what is told of it has nothing in it that a reader would take for more.
func FuzzRequest(f *testing.F) {
	head := "From: a@b.example\r\nContent-Type: text/csv; name=a.csv\r\n\r\n"
	f.Add([]byte(head + "machine,notes\r\nbms-1,x\r\n"))
	f.Add([]byte(head + "machine,host,keys\r\nbms-{a},h,file:/etc/passwd\r\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := mail.Read(bytes.NewReader(raw))
		if err != nil || len(m.Files) == 0 {
			return
		}
		file := m.Files[0]
		table, found := sheet.Read(sheet.Source{Name: file.Name, Content: file.Content})
		rule := setup.RequestRule{Columns: []string{"machine", "notes", "template"}}
		found = append(found, Gate(rule, m.From, finding.Position{}, table)...)
		for _, row := range table.Rows {
			for i, cell := range row.Cells {
				name := table.Columns[i].Name
				if name != "" && strings.ContainsAny(cell, "{}") { // whatever is told of it
					t.Fatalf("%s: %q", name, cell)
				}
				if cell != "" && name != "" && !found.Failed() && (name != "machine" && name != "notes" && name != "template" || name == "template" && strings.HasPrefix(strings.ToLower(cell), "machine:")) {
					t.Fatalf("%s: %q", name, cell)
				}
			}
		}
		l, err := FoundWrong(Request{ID: "x", Sheet: file.Name, Subject: m.Subject}, found).Letter(Request{ID: "x", Subject: m.Subject}, Findings, nil)
		if err != nil {
			t.Fatal(err)
		}
		if strings.ContainsFunc(l.Subject+l.Text, func(r rune) bool { return r < ' ' && r != '\n' || r == 0x7f || r == 0x202e }) || strings.Contains(strings.ToLower(l.HTML), "<script") {
			t.Fatalf("%q", l.Text)
		}
	})
}

// How many machines a request asks for is known before any is made of its rows, whoever names them.
func TestMachinesAreCounted(t *testing.T) {
	for _, c := range []struct {
		cells, fixed string
		asked        string // empty: not too many
		looked       int    // rows that are looked at all the same
	}{
		{"bms-[1-60] bms-[61-98] bms-x,y bms-[2-1]", "", "", 4},
		{"bms-[1-60] bms-[61-101]", "", "101", 2},
		{"bms-[1-9999] bms-b bms-c", "", "10001", 2},
		{"bms-[1-200000]", "", "200000", 0},
		{"a b", "bms-[1-51]", "102", 2},
	} {
		table := &sheet.Table{Columns: []sheet.Column{{Name: "machine"}}}
		for i, cell := range strings.Fields(c.cells) {
			table.Rows = append(table.Rows, sheet.Row{Number: i + 2, Cells: []string{cell}})
		}
		rule := setup.RequestRule{}
		if c.fixed != "" {
			rule.Set = setup.Values{"machine": c.fixed}
		}
		found := Gate(rule, "a@b.example", finding.Position{}, table)
		assert.Len(t, table.Rows, c.looked, c.cells)
		if c.asked == "" {
			assert.Empty(t, found, c.cells)
			continue
		}
		require.Len(t, found, 1, c.cells)
		assert.Equal(t, "a request may ask for up to 100 machines, and this one asks for "+c.asked, found[0].Message)
	}
}
