package bench

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"mintbatch/internal/core/assign"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// workbook makes an XLSX of n machines, a row each.
func workbook(tb testing.TB, n int) []byte {
	f := excelize.NewFile()
	w, err := f.NewStreamWriter("Sheet1")
	require.NoError(tb, err)
	require.NoError(tb, w.SetRow("A1", []any{"machine", "preset", "address", "owner", "notes"}))
	for i := range n {
		require.NoError(tb, w.SetRow(fmt.Sprintf("A%d", i+2), []any{fmt.Sprintf("bms-sonar-%06d", i), "sonar-node", "pool", "sonar desk", fmt.Sprintf("row %d, first leg", i)}))
	}
	require.NoError(tb, w.Flush())
	b, err := f.WriteToBuffer()
	require.NoError(tb, err)
	return b.Bytes()
}

// walk merely walks the rows of a workbook.
func walk(content []byte) error {
	f, err := excelize.OpenReader(bytes.NewReader(content))
	if err != nil {
		return err
	}
	rows, err := f.Rows("Sheet1")
	if err != nil {
		return err
	}
	for rows.Next() {
		if _, err := rows.Columns(); err != nil {
			return err
		}
	}
	return rows.Close()
}

// What checking a workbook costs, beside merely walking its rows.
func BenchmarkCheckWorkbook(b *testing.B) {
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)})
	require.Empty(b, found)
	for _, n := range sizes(1000, 10000, 100000) {
		content := workbook(b, n)
		b.Run(fmt.Sprintf("machines=%d", n), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				table, found := sheet.Read(sheet.Source{Name: "m.xlsx", Content: content})
				require.Empty(b, found)
				wanted, found := batch.Build(table, s)
				require.Empty(b, found)
				_, found = assign.Addresses(wanted, s, assign.Past{Ledger: uuid.UUID{1}})
				require.Empty(b, found)
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/machine")
		})
		b.Run(fmt.Sprintf("yardstick-rows-alone/rows=%d", n), func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, walk(content))
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/machine")
		})
	}
}
