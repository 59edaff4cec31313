package handover

import (
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/input"
	"mintbatch/internal/output"
	"mintbatch/internal/report"
)

//go:embed starter/mintbatch.yaml
var starterSetup string

// New lays out a starter setup, the schema that it names and a workbook for
// it. Files that are there are written over only when they may be, and never a setup
// or a sheet that somebody has worked on: a setup is written over only if it is the
// starter's, a sheet gets its drop-down lists anew.
//
// With a site that was found, the setup has its hosts, templates and networks.
func New(dir string, at *FoundSite, over output.Over) (written []string, err error) {
	schema, text := setup.SchemaText(), starterSetup
	if at != nil {
		text = at.setup(dir)
	}
	s, found := setup.Read(func(kind, name string) (string, error) { return kind + ":" + name, nil }, setup.File{Name: "mintbatch.yaml", Content: []byte(text)})
	if found.Failed() {
		return nil, &input.Refused{Findings: found}
	}
	var guard output.Guard
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	setupPath, schemaPath, sheetPath := filepath.Join(dir, "mintbatch.yaml"), filepath.Join(dir, "mintbatch.schema.json"), filepath.Join(dir, "machines.xlsx")
	if is, err := os.ReadFile(setupPath); err == nil && over == output.Replace && string(is) != text {
		return nil, fmt.Errorf("%w: %s: it was changed since it was created, and is left unchanged", output.ErrRefused, setupPath)
	}
	for _, path := range []string{setupPath, schemaPath, sheetPath} {
		if err := guard.Check(path, over); err != nil {
			return nil, err
		}
	}
	for _, f := range []struct {
		path    string
		content []byte
	}{{setupPath, []byte(text)}, {schemaPath, append(schema, '\n')}} {
		if err := guard.Write(f.path, f.content, over, 0o644); err != nil {
			return written, err
		}
		written = append(written, f.path)
	}
	sheets, err := writeSheet(guard, sheetPath, s)
	return append(written, sheets...), err
}

// NewSheet makes the starter workbook for a setup that is there already, or brings
// the drop-down lists of the one that is there up to date.
func NewSheet(in input.Input) (written []string, err error) {
	b, err := input.LoadSetup(in)
	if err != nil {
		return nil, err
	}
	path := b.Path(b.Setup.Sheet)
	if in.Sheet != "" {
		path = in.Sheet
	}
	if !strings.EqualFold(filepath.Ext(path), ".xlsx") {
		return nil, errors.New("the sheet of the setup is not an .xlsx workbook; name one with --sheet FILE.xlsx")
	}
	return writeSheet(b.Guard(), path, b.Setup)
}

// writeSheet writes a starter workbook. In one that is there, only the lists are
// made anew, with a copy of what it was kept beside it.
func writeSheet(guard output.Guard, path string, s *setup.Setup) (written []string, err error) {
	old, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		workbook, err := report.Starter(s)
		if err != nil {
			return nil, err
		}
		return []string{path}, guard.Write(path, workbook, output.Never, 0o644)
	}
	if err != nil {
		return nil, err
	}
	updated, err := report.UpdateLists(old, s)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	copied := path + ".before"
	for n := 2; input.Exists(copied); n++ {
		copied = fmt.Sprintf("%s.before-%d", path, n)
	}
	if err := guard.Write(copied, old, output.Never, 0o644); err != nil {
		return nil, err
	}
	own := output.Guard{} // it is the sheet itself, of which only the lists change
	return []string{path, copied}, own.Write(path, updated, output.Replace, 0o644)
}
