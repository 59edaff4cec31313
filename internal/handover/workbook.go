// Package handover writes what is handed over to others: answers, workbooks, known_hosts
// files, and starters.
package handover

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	"mintbatch/internal/plan"
	"mintbatch/internal/report"
)

// CheckWorkbook reports whether a copy of the sheet may be written to a file: of a
// kind that its name says, never over the sheet itself, over another file only when
// that may be replaced.
func CheckWorkbook(d *mint.Desk, path string, over output.Over) error {
	if d.SheetPath == "" {
		return errors.New("a sheet from standard input cannot be copied")
	}
	own, err := os.Stat(d.SheetPath)
	if err != nil {
		return err
	}
	if other, err := os.Stat(path); err == nil && os.SameFile(own, other) {
		return fmt.Errorf("%s: it is the sheet itself, which is never changed", path)
	}
	if err := report.CheckCopy(d.Table, path); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return d.Guard().Check(path, over)
}

// WriteWorkbook writes a copy of the sheet with what is known of each row.
func WriteWorkbook(ctx context.Context, d *mint.Desk, path string, over output.Over, p proof.Proof) error {
	entries, _, unreachable := d.List(ctx, mint.ListRequest{Contact: plan.Online})
	if entries == nil && unreachable != nil {
		return unreachable
	}
	original, err := os.ReadFile(d.SheetPath)
	if err != nil {
		return err
	}
	content, err := Workbook(d, original, path, p, entries)
	if err != nil {
		return err
	}
	return errors.Join(d.Guard().Write(path, content, over, 0o644), unreachable)
}

// Workbook is a copy of the sheet, whose content is given, with what is known of its machines, in the format of a name.
func Workbook(d *mint.Desk, original []byte, name string, p proof.Proof, entries []mint.Entry) ([]byte, error) {
	known := map[machine.Key]mint.Entry{}
	for _, e := range entries {
		known[e.Key] = e
	}
	work := map[machine.Key]proof.Work{}
	for _, w := range p.Works {
		work[w.Key] = w
	}
	lines := map[int][]report.Line{}
	for _, w := range d.Wanted {
		lines[w.Row()] = append(lines[w.Row()], lineOf(*w.Machine(), known, work))
	}
	content, err := report.Copy(original, d.Table, name, lines)
	if err != nil {
		return nil, fmt.Errorf("copy of %s: %w", d.Table.File, err)
	}
	return content, nil
}

func lineOf(m machine.Machine, known map[machine.Key]mint.Entry, work map[machine.Key]proof.Work) report.Line {
	l := report.Line{Work: string(work[m.Key].Word), State: "not made"}
	e, ok := known[m.Key]
	if ok {
		m.Spec = *e.Spec
		l.State, l.Host, l.Error = string(e.State), e.Host, e.Error
		l.Records = mint.Words(e.Records)
		l.When = e.Changed.Local().Format("2006-01-02 15:04")
		if e.State == proof.Making {
			l.State = "unfinished"
		}
		if e.AtSite == mint.Gone {
			l.State = "gone"
		}
	}
	var addresses, macs []string
	for _, a := range m.Adapters {
		addresses = append(addresses, a.Words()...)
		for _, p := range a.Addresses {
			addresses = append(addresses, p.Addr().String())
		}
		macs = append(macs, a.MAC)
	}
	l.Addresses, l.MAC = strings.Join(addresses, " "), strings.Join(macs, " ")
	return l
}
