// Package input reads setups and sheets from files.
package input

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// Input says what to read.
type Input struct {
	Setups    []string // paths of the setup files, each laid over those before it
	Sheet     string   // path of the sheet; empty takes the setup's, "-" is Stdin
	Kind      sheet.Kind
	Worksheet string
	Stdin     io.Reader
	// Content, if set, is the sheet itself, of which Sheet is just the name; Expanded bounds what it may expand to.
	Content  []byte
	Expanded uint64
	// Gate, if set, looks at the sheet before anything is made of it, may fix values in it, and adds findings.
	Gate func(s *setup.Setup, t *sheet.Table) finding.List
	// Check, if set, looks at the machines that it asks for.
	Check func(s *setup.Setup, wanted []*batch.Wanted) finding.List
	// Names are the machines, names and globs, that a command is about: only their
	// rows have to be right. None means all.
	Names []string
	// Parts are the parts of the setup that a command uses: what is wrong with others
	// does not stop it. None means all.
	Parts []string
	// Notice, if set, takes remarks for whoever waits; it may be called in parallel.
	Notice func(string)
	// Sealed opens a sealed value that the setup refers to. The batch says where the
	// ledger is.
	Sealed func(b *Batch, name string) (string, error)
}

// named reports which machines the command is about, at whichever site; nil if it is about all.
func (in Input) named() func(string) bool {
	if len(in.Names) == 0 {
		return nil
	}
	return glob.Among(glob.WithoutSites(in.Names))
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
	// Named reports which machines the command is about; nil if it is about all.
	Named func(machine string) bool

	// Notice, if set, takes remarks for whoever waits.
	Notice func(string)
	// SheetPath is empty for standard input.
	SheetPath                string
	SetupDigest, SheetDigest string

	environment *noted // the variables that were asked for
	read        *noted // every file that the setup was read from
	dir         string // relative paths of the setup start here
}

// ByKey finds the machines of the sheet.
func (b *Batch) ByKey() map[machine.Key]*batch.Wanted {
	all := make(map[machine.Key]*batch.Wanted, len(b.Wanted))
	for _, w := range b.Wanted {
		all[w.Key] = w
	}
	return all
}

// Path resolves a path of the setup.
func (b *Batch) Path(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(b.dir, p)
}

// LoadSetup reads the setup alone; its findings are an error.
func LoadSetup(in Input) (*Batch, error) {
	b := &Batch{dir: filepath.Dir(in.Setups[0]), Notice: in.Notice, environment: &noted{}, read: &noted{}}
	var files []setup.File
	whole := sha256.New()
	for _, path := range in.Setups {
		content, err := readFile(path, mostSetup)
		if err != nil {
			return nil, unreadable("no-setup", path, err, "create one with `mintbatch new`, name one with --setup, or try `mintbatch demo`")
		}
		b.read.add(path)
		files = append(files, setup.File{Name: path, Content: content})
		whole.Write(content)
	}
	b.SetupDigest = hex.EncodeToString(whole.Sum(nil))
	sealed := false
	b.Setup, b.Findings = setup.Read(func(kind, name string) (string, error) {
		if kind == "secret" { // not available before it is known where the ledger is
			sealed = true
			return kind + ":" + name, nil
		}
		return b.Fetch(kind, name)
	}, files...)
	if sealed && in.Sealed != nil {
		b.Setup, b.Findings = setup.Read(func(kind, name string) (string, error) {
			if kind == "secret" {
				return in.Sealed(b, name)
			}
			return b.Fetch(kind, name)
		}, files...)
	}
	switch {
	case !b.Findings.Failed():
	case len(in.Parts) > 0 && b.Setup.Usable(in.Parts...):
		b.Findings = nil
	default:
		return b, &Refused{b.Findings}
	}
	return b, nil
}

// Load reads setup and sheet. Findings of the sheet are in the batch and not
// an error, so that more of them can be gathered.
func Load(in Input) (*Batch, error) {
	b, err := LoadSetup(in)
	if err != nil {
		return b, err
	}
	return b, b.ReadSheet(in)
}

// largeSheet is from how many bytes on memory counts for more than the few percent of time by which
// garbage is collected more often: all machines of a sheet are in memory at the same time.
const largeSheet = 1 << 20

// ReadSheet reads the sheet; its findings are in the batch.
func (b *Batch) ReadSheet(in Input) error {
	source, err := b.fetchSheet(in)
	if err != nil {
		return err
	}
	if len(source.Content) > largeSheet {
		debug.SetGCPercent(60)
	}
	table, found := sheet.Read(source)
	b.Table, b.Named = table, in.named()
	if b.Named != nil {
		found = batch.Rows(table, found, b.Named)
	}
	sum := sha256.Sum256(source.Content)
	b.SheetDigest = hex.EncodeToString(sum[:])
	b.Findings = append(b.Findings, found...)
	if in.Gate != nil && len(table.Columns) > 0 {
		b.Findings = append(b.Findings, in.Gate(b.Setup, table)...)
	}
	if len(table.Columns) > 0 {
		var more finding.List
		b.Wanted, more = batch.BuildOnly(table, b.Setup, b.Named)
		b.Findings = append(b.Findings, more...)
	}
	if in.Check != nil {
		b.Findings = append(b.Findings, in.Check(b.Setup, b.Wanted)...)
	}
	return nil
}

// HasSheet reports whether the setup, or the command line, names a sheet.
func (b *Batch) HasSheet(in Input) bool { return in.Sheet != "" || b.Setup.Sheet != "" }

// TrySheet reads the sheet for a command that needs none, and can say more with
// one: whatever is wrong with it is no matter then.
func (b *Batch) TrySheet(in Input) {
	found := b.Findings
	if b.HasSheet(in) && in.Sheet != "-" {
		_ = b.ReadSheet(in)
	}
	b.Findings = found
}

// SheetNames are the names that the sheet speaks of, in lower case; nil if there is no sheet,
// it cannot be read, or speaks of none.
func (b *Batch) SheetNames(in Input) map[string]bool {
	if !b.HasSheet(in) || in.Sheet == "-" {
		return nil
	}
	own := *b // nothing of the batch is changed
	source, err := own.fetchSheet(in)
	if err != nil {
		return nil
	}
	cells := sheet.Machines(source)
	if len(cells) == 0 {
		return nil
	}
	return batch.Names(cells)
}

// fetchSheet reads the bytes of the sheet, as far as any sheet goes.
func (b *Batch) fetchSheet(in Input) (sheet.Source, error) {
	source := sheet.Source{Name: in.Sheet, Kind: in.Kind, Worksheet: in.Worksheet, Rules: b.Setup.Rules()}
	if in.Content != nil {
		source.Content, source.Expanded = in.Content, in.Expanded
		return source, nil
	}
	var from io.Reader = in.Stdin
	if in.Sheet == "-" {
		source.Name = "standard input"
	} else {
		if in.Sheet == "" && b.Setup.Sheet == "" {
			return source, &Refused{finding.List{{Code: "no-sheet", At: finding.Position{File: in.Setups[0]},
				Message: "the setup names no sheet", Hint: "write `sheet: machines.csv`, or give --sheet FILE"}}}
		}
		if in.Sheet == "" {
			source.Name = b.Path(b.Setup.Sheet)
		}
		b.SheetPath = source.Name
		f, err := openSheet(source.Name)
		if err != nil {
			return source, unreadable("no-sheet", source.Name, err, "name one with --sheet or in the setup")
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

// mostSetup bounds a setup file, in bytes.
const mostSetup = 16 << 20

// readFile reads a regular file up to a size: others might have no end.
func readFile(path string, most int64) ([]byte, error) {
	f, err := openSheet(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	content, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(content)) > most {
		err = fmt.Errorf("it is larger than %d MiB", most>>20)
	}
	return content, err
}

func openSheet(path string) (*os.File, error) {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, errors.New("it is not a regular file; use --sheet - for standard input")
	}
	return os.Open(path)
}

func unreadable(code, path string, err error, hint string) error {
	return &Refused{finding.List{{Code: code, At: finding.Position{File: path}, Message: "it cannot be read: " + Reason(err).Error(), Hint: hint}}}
}

// Reason takes the act and the path off an error of a file, where both are
// said anyway.
func Reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}
