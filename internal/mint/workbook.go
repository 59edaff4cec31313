package mint

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/report"
)

// ErrThere means that a file to be written is there already.
var ErrThere = errors.New("it is there already; give --force to write over it")

// CheckWorkbook tells whether a copy of the sheet may be written to a file:
// never over the sheet itself, over another file only when forced.
func (s *Session) CheckWorkbook(path string, force bool) error {
	if s.sheetPath == "" {
		return errors.New("a sheet from standard input has no workbook to copy")
	}
	own, err := os.Stat(s.sheetPath)
	if err != nil {
		return err
	}
	other, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case os.SameFile(own, other):
		return fmt.Errorf("%s: it is the sheet itself, which is never written to", path)
	case !force:
		return fmt.Errorf("%s: %w", path, ErrThere)
	}
	return nil
}

// WriteWorkbook writes a copy of the sheet with what is known of each row.
func (s *Session) WriteWorkbook(ctx context.Context, path string, p proof.Proof) error {
	entries, unreachable := s.List(ctx, nil, false)
	if entries == nil && unreachable != nil {
		return unreachable
	}
	known := map[machine.Key]Entry{}
	for _, e := range entries {
		known[e.Key] = e
	}
	work := map[machine.Key]proof.Work{}
	for _, w := range p.Works {
		work[w.Key] = w
	}
	lines := map[int][]report.Line{}
	for _, w := range s.Wanted {
		lines[w.Row()] = append(lines[w.Row()], lineOf(w.Machine, known, work))
	}
	original, err := os.ReadFile(s.sheetPath)
	if err != nil {
		return err
	}
	content, err := report.Copy(original, s.Table, lines)
	if err != nil {
		return fmt.Errorf("copy of %s: %w", s.sheetPath, err)
	}
	return errors.Join(replaceFile(path, content), unreachable)
}

func lineOf(m machine.Machine, known map[machine.Key]Entry, work map[machine.Key]proof.Work) report.Line {
	l := report.Line{Work: string(work[m.Key].Word), State: "not made"}
	e, ok := known[m.Key]
	if ok {
		m.Spec = e.Spec
		l.State, l.Host, l.Error = string(e.State), e.Host, e.Error
		l.When = e.Changed.Local().Format("2006-01-02 15:04")
		if e.State == proof.Making {
			l.State = "unfinished"
		}
		if e.AtSite == "gone" {
			l.State = "gone"
		}
	}
	var addresses, macs []string
	for _, a := range m.Adapters {
		addresses = append(addresses, a.Ways()...)
		for _, p := range a.Addresses {
			addresses = append(addresses, p.Addr().String())
		}
		macs = append(macs, a.MAC)
	}
	l.Addresses, l.MAC = strings.Join(addresses, " "), strings.Join(macs, " ")
	return l
}

// replaceFile writes a file whole or not at all.
func replaceFile(path string, content []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".mintbatch-*")
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		_ = os.Remove(f.Name())
	}
	return err
}
