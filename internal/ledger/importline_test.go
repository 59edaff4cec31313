package ledger

import (
	"database/sql"
	"encoding/json"
	"math/big"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What an export must not have in its rows, and what it may.
func TestExportedLines(t *testing.T) {
	l := opened(t, filepath.Join(t.TempDir(), "l"))
	tables := l.importTables()
	good := `{"row":{"generation":7,"machine":"a\u002db","site":"quay"},"table":"spent"}`
	one, err := parseLine([]byte(good), tables)
	require.NoError(t, err)
	assert.Equal(t, []any{"quay", "a-b", int64(7)}, one.values[:3])
	for change, to := range map[string]string{
		`7`: `"7"`, `"quay"`: `null`, `:"a\u002db"`: `:{}`, `"spent"}`: `"spent"}}`, `"spent"`: `"about"`, `,"site"`: `,"sites"`,
		`"quay"}`: `"quay","site":"quay"}`, `,"site":"quay"`: ``, `"table"`: `"tables"`, `7,`: `7.5,`, `{"row"`: `["row"`,
		`"machine"`: `"machine`, `},`: `,`, `:"spent"}`: `:"spent"} {}`,
	} {
		bad := strings.Replace(good, change, to, 1)
		_, err := parseLine([]byte(bad), tables)
		assert.Error(t, err, bad)
	}
}

// The columns of numbers are those that the database has.
func TestNumbers(t *testing.T) {
	l := opened(t, filepath.Join(t.TempDir(), "l"))
	for _, table := range layout {
		err := l.read(t.Context(), `SELECT name, type FROM pragma_table_info(?)`, func(row *sql.Rows) error {
			var name, kind string
			err := row.Scan(&name, &kind)
			assert.Equal(t, kind != "TEXT", table.isNumber(name), "%s of %s", name, table.name)
			return err
		}, table.name)
		require.NoError(t, err)
	}
}

// Whatever else JSON allows, a line has the values that any reader of JSON finds in it.
func FuzzExportedLine(f *testing.F) {
	f.Add([]byte(`{"row":{"generation":7,"machine":"a\u002db","site":"qu\"ay\\"},"table":"spent"}`))
	f.Add([]byte(` {"table" : "orders","row":{"run":"\ud83d\ude00","site":"ÿ","machine":"\t"}}`))
	f.Add([]byte(`{"end":{"rows":1,"sha256":"x"}}`))
	tables := (&Ledger{}).importTables()
	f.Fuzz(func(t *testing.T, line []byte) {
		one, err := parseLine(line, tables)
		if err != nil || one.table == nil || !json.Valid(line) {
			return
		}
		var said struct {
			Table string
			Row   map[string]any
		}
		d := json.NewDecoder(strings.NewReader(string(line)))
		d.UseNumber()
		require.NoError(t, d.Decode(&said))
		require.Len(t, said.Row, len(one.values))
		assert.Equal(t, said.Table, one.table.name)
		for i, column := range one.table.columns {
			want := said.Row[column]
			if n, ok := want.(json.Number); ok {
				number, _ := new(big.Int).SetString(n.String(), 10)
				want = number.Int64()
			}
			assert.Equal(t, want, one.values[i], column)
		}
	})
}
