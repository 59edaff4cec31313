package sheet

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// profile is LibreOffice's, which takes its time to make one.
var profile string

func TestMain(m *testing.M) {
	defer func() { _ = os.RemoveAll(profile) }()
	m.Run()
}

// converted lets LibreOffice make a file of another kind of a workbook.
func converted(t *testing.T, content []byte, to string) []byte {
	t.Helper()
	office, err := exec.LookPath("soffice")
	if err != nil {
		t.Skip("skipped: LibreOffice is not installed")
	}
	dir := t.TempDir()
	if profile == "" {
		profile, err = os.MkdirTemp("", "office")
		require.NoError(t, err)
	}
	path := filepath.Join(dir, "in.xlsx")
	require.NoError(t, os.WriteFile(path, content, 0o600))
	out, err := exec.Command(office, "--headless", "-env:UserInstallation=file://"+profile, "--convert-to", to, "--outdir", filepath.Join(dir, "out"), path).CombinedOutput()
	require.NoError(t, err, "%s", out)
	b, err := os.ReadFile(filepath.Join(dir, "out", "in."+to))
	require.NoError(t, err, "%s", out)
	return b
}

// What LibreOffice makes of a workbook reads like the workbook.
func TestWorkbooksOfLibreOffice(t *testing.T) {
	original := workbook(t, nil)
	for _, kind := range []string{"ods", "xlsx"} {
		table, found := Read(Source{Name: "m." + kind, Content: converted(t, original, kind)})
		assert.Empty(t, found, kind)
		assert.Equal(t, wantBook, shown(table), kind)
		assert.Equal(t, Kind(kind), table.Kind)
		assert.Equal(t, `m.`+kind+`, sheet "Nodes", C5 (RAM in GB)`, table.Position(table.Rows[0], 1).String())
	}
	failed := converted(t, workbook(t, func(f *excelize.File) {
		_ = f.SetCellFormula("Nodes", "D5", "1/0")
	}), "ods")
	_, found := Read(Source{Name: "m.ods", Content: failed})
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Error(), `D5 (vCPU): the formula in this cell failed: #DIV/0!`)
}
