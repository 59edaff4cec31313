// Package mint holds the use cases, one file each, named like the commands.
package mint

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/ledger"
)

// Input says what to read.
type Input struct {
	Setups    []string // paths of the setup files, each laid over those before it
	Sheet     string   // path of the sheet; empty takes the setup's, "-" is Stdin
	Kind      sheet.Kind
	Worksheet string
	Stdin     io.Reader
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
	Table    *sheet.Table
	Wanted   []*batch.Wanted
	Findings finding.List

	dir                      string // relative paths of the setup start here
	sheetPath                string // empty for standard input
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
	b := &Batch{dir: filepath.Dir(in.Setups[0])}
	var files []setup.File
	whole := sha256.New()
	for _, path := range in.Setups {
		content, err := os.ReadFile(path)
		if err != nil {
			return nil, unreadable("no-setup", path, err, "name another with --setup, or try `mintbatch demo`")
		}
		files = append(files, setup.File{Name: path, Content: content})
		whole.Write(content)
	}
	b.setupDigest = hex.EncodeToString(whole.Sum(nil))
	sealed := false
	b.Setup, b.Findings = setup.Read(func(kind, name string) (string, error) {
		if kind == "secret" { // not to be had before it is known where the ledger is
			sealed = true
			return kind + ":" + name, nil
		}
		return b.fetch(kind, name)
	}, files...)
	if sealed {
		b.Setup, b.Findings = setup.Read(b.fetchSealed, files...)
	}
	if b.Findings.Failed() {
		return b, &Refused{b.Findings}
	}
	return b, nil
}

// fetchSealed is fetch for a setup that has sealed values of the ledger: the
// first reading has told where that is.
func (b *Batch) fetchSealed(kind, name string) (string, error) {
	if kind != "secret" {
		return b.fetch(kind, name)
	}
	ctx := context.Background()
	l, err := ledger.Open(ctx, b.ledgerPath())
	if err != nil {
		return "", err
	}
	defer l.Close()
	return (&Session{Batch: b, Ledger: l}).OpenSecret(ctx, name)
}

// load reads setup and sheet. Findings of the sheet are in the batch and not
// an error, so that more of them can be gathered.
func load(in Input) (*Batch, error) {
	b, err := loadSetup(in)
	if err != nil {
		return b, err
	}
	source, err := b.fetchSheet(in)
	if err != nil {
		return b, err
	}
	table, found := sheet.Read(source)
	b.Table = table
	sum := sha256.Sum256(source.Content)
	b.sheetDigest = hex.EncodeToString(sum[:])
	b.Findings = append(b.Findings, found...)
	if len(table.Columns) > 0 {
		var more finding.List
		b.Wanted, more = batch.Build(table, b.Setup)
		b.Findings = append(b.Findings, more...)
	}
	return b, nil
}

// fetchSheet reads the bytes of the sheet, as far as any sheet goes.
func (b *Batch) fetchSheet(in Input) (sheet.Source, error) {
	source := sheet.Source{Name: in.Sheet, Kind: in.Kind, Worksheet: in.Worksheet, Rules: b.Setup.Rules()}
	var from io.Reader = in.Stdin
	if in.Sheet == "-" {
		source.Name = "standard input"
	} else {
		if in.Sheet == "" && b.Setup.Sheet == "" {
			return source, &Refused{finding.List{{Code: "no-sheet", At: finding.Position{File: in.Setups[0]},
				Message: "no sheet is named", Hint: "write `sheet: machines.csv`, or give --sheet FILE"}}}
		}
		if in.Sheet == "" {
			source.Name = b.path(b.Setup.Sheet)
		}
		b.sheetPath = source.Name
		f, err := openSheet(source.Name)
		if err != nil {
			return source, unreadable("no-sheet", source.Name, err, "name another with --sheet, or in the setup")
		}
		defer f.Close()
		from = f
	}
	content, err := io.ReadAll(io.LimitReader(from, sheet.MaxContent+1))
	if err != nil {
		return source, unreadable("no-sheet", source.Name, err, "")
	}
	source.Content = content
	return source, nil
}

func openSheet(path string) (*os.File, error) {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, errors.New("it is not a file; give it as standard input, with --sheet -")
	}
	return os.Open(path)
}

func unreadable(code, path string, err error, hint string) error {
	return &Refused{finding.List{{Code: code, At: finding.Position{File: path}, Message: "it cannot be read: " + reason(err).Error(), Hint: hint}}}
}

// reason takes the act and the path off an error of a file, where both are
// said anyway.
func reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}
