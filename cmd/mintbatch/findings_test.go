package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/tools/txtar"
)

// elsewhere are the codes that only a site or a ledger can bring about; other
// scripts do.
var elsewhere = []string{"not-at-site", "name-taken", "address-in-use", "no-setup", "too-large",
	"no-room", "bad-template", "disk-too-small", "host-down", "template-writable", "no-secret", "address-answers", "address-named", "cannot-probe",
	"new-ledger", "no-row", "machines-missing", "template-hardware", "template-in-use", "template-lacks", "template-left-overs", "site-silent", "other-copy", "name-in-dns", "account-exists", "cannot-look", "not-allowed"}

// Each sheet of testdata/findings.txtar is named for the code that the program
// must report it; a setup of the same name is laid over the common one. No
// documented code is left out.
func TestEveryFindingCode(t *testing.T) {
	t.Parallel()
	all, err := txtar.ParseFile("testdata/findings.txtar")
	require.NoError(t, err)
	dir := t.TempDir()
	setups := map[string]string{}
	for _, f := range all.Files {
		content := strings.NewReplacer(`\x00`, "\x00", `\x1b`, "\x1b", `\xf8`, "\xf8", `\x7fELF`, "\x7fELF\x00\x00\x01").Replace(string(f.Data))
		require.NoError(t, os.WriteFile(filepath.Join(dir, f.Name), []byte(content), 0o600))
		if code, ok := strings.CutSuffix(f.Name, ".yaml"); ok {
			setups[code] = f.Name
		}
	}
	two := excelize.NewFile()
	_, err = two.NewSheet("Sheet2")
	require.NoError(t, err)
	for _, name := range two.GetSheetList() {
		require.NoError(t, two.SetCellValue(name, "A1", "machine"))
	}
	require.NoError(t, two.SaveAs(filepath.Join(dir, "several-worksheets.xlsx")))
	require.NoError(t, two.SaveAs(filepath.Join(dir, "unknown-worksheet.xlsx")))
	all.Files = append(all.Files, txtar.File{Name: "several-worksheets.xlsx"}, txtar.File{Name: "unknown-worksheet.xlsx"})
	told := map[string]bool{}
	for _, f := range all.Files {
		code, _, _ := strings.Cut(f.Name, ".")
		if code == "common" || f.Name == setups[code] && slices.ContainsFunc(all.Files, func(o txtar.File) bool { return o.Name == code+".csv" }) {
			continue
		}
		args := []string{"check", "--json", "--strict", "--setup", "common.yaml"}
		if code == "unknown-worksheet" {
			args = append(args, "--worksheet", "Sheet3")
		}
		if setup := setups[code]; setup != "" {
			args = append(args, "--setup", setup)
		}
		if f.Name != setups[code] {
			args = append(args, "--sheet", f.Name)
		}
		out, err := command(t, dir, "mintbatch", args...)
		require.Error(t, err, "%s: %s", f.Name, out)
		var d struct {
			Findings []struct {
				Code string
				At   struct{ File string }
			}
		}
		require.NoError(t, json.Unmarshal([]byte(out), &d), "%s: %s", f.Name, out)
		var codes []string
		for _, one := range d.Findings {
			codes = append(codes, one.Code)
			assert.NotEmpty(t, one.At.File, f.Name)
		}
		assert.Contains(t, codes, code, f.Name)
		assert.NotContains(t, out, "hunter2", f.Name)
		told[code] = true
	}
	docs, err := os.ReadFile("../../docs/findings.md")
	require.NoError(t, err)
	for _, row := range regexp.MustCompile("(?m)^\\| (`[^|]*)\\|").FindAllStringSubmatch(string(docs), -1) {
		for _, m := range regexp.MustCompile("`([a-z-]+)`").FindAllStringSubmatch(row[1], -1) {
			if !told[m[1]] {
				assert.Contains(t, elsewhere, m[1], "documented, and not brought about here")
			}
		}
	}
}
