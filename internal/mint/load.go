// Package mint holds the use cases, one file each, named like the commands.
package mint

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// Input says what to read.
type Input struct {
	Setup string // path of the setup file
	Sheet string // path of the sheet; empty takes the setup's, "-" is Stdin
	Stdin io.Reader
}

// Refused says that setup or sheet have errors; nothing was done.
type Refused struct{ Findings finding.List }

// Error counts the findings; who shows them shows them one by one.
func (r *Refused) Error() string {
	if n := r.Findings.Count(finding.Error); n > 1 {
		return fmt.Sprintf("%d errors in setup and sheet; nothing was done", n)
	}
	return "an error in setup or sheet; nothing was done"
}

// Batch is a setup and a sheet that were read.
type Batch struct {
	Setup    *setup.Setup
	Wanted   []*batch.Wanted
	Findings finding.List

	dir                      string // relative paths of the setup start here
	setupDigest, sheetDigest string
}

// path resolves a path of the setup.
func (b *Batch) path(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(b.dir, p)
}

// loadSetup reads the setup alone; its findings are an error.
func loadSetup(in Input) (*Batch, error) {
	content, err := os.ReadFile(in.Setup)
	if err != nil {
		hint := "name another with --setup, or try `mintbatch demo`"
		return nil, unreadable("no-setup", in.Setup, err, hint)
	}
	b := &Batch{dir: filepath.Dir(in.Setup), setupDigest: machine.Digest(content)}
	b.Setup, b.Findings = setup.Read(in.Setup, content)
	if b.Findings.Failed() {
		return b, &Refused{b.Findings}
	}
	return b, nil
}

// load reads setup and sheet. Findings of the sheet are in the batch and not
// an error, so that more of them can be gathered.
func load(in Input) (*Batch, error) {
	b, err := loadSetup(in)
	if err != nil {
		return b, err
	}
	path, name := in.Sheet, in.Sheet
	if path == "" {
		path = b.Setup.Sheet
		if path == "" {
			return b, &Refused{finding.List{{Code: "no-sheet", At: finding.Position{File: in.Setup},
				Message: "no sheet is named", Hint: "write `sheet: machines.csv`, or give --sheet FILE"}}}
		}
		path = b.path(path)
		name = path
	}
	content, name, err := readSheet(in, path, name)
	if err != nil {
		return b, err
	}
	defer content.Close()
	digest := newDigester(content)
	table, found := sheet.ReadCSV(name, digest)
	b.Findings = append(b.Findings, found...)
	if found.Count(finding.Error) == 0 || len(table.Columns) > 0 {
		var more finding.List
		b.Wanted, more = batch.Build(table, b.Setup)
		b.Findings = append(b.Findings, more...)
	}
	b.sheetDigest = digest.sum()
	return b, nil
}

func readSheet(in Input, path, name string) (io.ReadCloser, string, error) {
	if path == "-" {
		return io.NopCloser(in.Stdin), "standard input", nil
	}
	info, err := os.Stat(path)
	if err == nil && info.IsDir() {
		err = errors.New("it is a folder")
	}
	if err != nil {
		return nil, name, unreadable("no-sheet", path, err, "name another with --sheet, or in the setup")
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, name, unreadable("no-sheet", path, err, "")
	}
	return f, name, nil
}

func unreadable(code, path string, err error, hint string) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	return &Refused{finding.List{{Code: code, At: finding.Position{File: path}, Message: "it cannot be read: " + err.Error(), Hint: hint}}}
}
