package mint

import (
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/report"
)

//go:embed starter/mintbatch.yaml
var starterSetup string

// New lays out a starter setup, the schema that it names and a workbook for
// it. None of the files may be there, unless forced.
func New(dir string, force bool) (written []string, err error) {
	schema, err := json.MarshalIndent(setup.Schema(), "", "  ")
	if err != nil {
		return nil, err
	}
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(starterSetup)})
	if found.Failed() {
		return nil, &Refused{found}
	}
	workbook, err := report.Starter(s)
	if err != nil {
		return nil, err
	}
	files := []struct {
		name    string
		content []byte
	}{
		{"mintbatch.yaml", []byte(starterSetup)}, {"mintbatch.schema.json", append(schema, '\n')}, {"machines.xlsx", workbook},
	}
	for _, f := range files {
		if path := filepath.Join(dir, f.name); exists(path) && !force {
			return nil, fmt.Errorf("%s: %w", path, ErrThere)
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	for _, f := range files {
		path := filepath.Join(dir, f.name)
		if err := replaceFile(path, f.content); err != nil {
			return written, err
		}
		written = append(written, path)
	}
	return written, nil
}

// NewSheet makes the starter workbook for a setup that is there already.
func NewSheet(in Input, force bool) (path string, err error) {
	b, err := loadSetup(in)
	if err != nil {
		return "", err
	}
	path = b.path(b.Setup.Sheet)
	if in.Sheet != "" {
		path = in.Sheet
	}
	switch {
	case filepath.Ext(path) != ".xlsx":
		return "", errors.New("the setup's sheet is no .xlsx; name the workbook with --sheet FILE.xlsx")
	case exists(path) && !force:
		return "", fmt.Errorf("%s: %w", path, ErrThere)
	}
	workbook, err := report.Starter(b.Setup)
	if err != nil {
		return "", err
	}
	return path, replaceFile(path, workbook)
}
