package ledger

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"

	"github.com/google/uuid"
)

// Import reads what Export has written into an empty ledger, which takes its id.
// All of it is read or nothing.
func (l *Ledger) Import(ctx context.Context, from io.Reader) (rows int, err error) {
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, 64<<20)
	var head struct{ Schema, Ledger string }
	if !lines.Scan() || json.Unmarshal(lines.Bytes(), &head) != nil || head.Schema != ExportFormat {
		return 0, fmt.Errorf("%w: its first line is not {\"schema\": %q, ...}", ErrExport, ExportFormat)
	}
	id, err := uuid.Parse(head.Ledger)
	if err != nil {
		return 0, fmt.Errorf("%w: %q is not a ledger's id", ErrExport, head.Ledger)
	}
	reading, stop := context.WithCancel(ctx)
	defer stop()
	parts := make(chan part, 4)
	go l.readParts(reading, lines, parts)
	err = l.write(ctx, func(tx transaction) error {
		rows = 0
		if l.store.bulk != "" {
			if err := tx.Exec(l.store.bulk); err != nil {
				return err
			}
		}
		if err := adopt(tx, id); err != nil {
			return err
		}
		for p := range parts {
			if p.err != nil {
				return p.err
			}
			if p.end && rows != p.total { // the database gave up the transaction: what was read is not read again
				return fmt.Errorf("%w: interrupted after %d of %d rows; nothing was imported, run the same command again", ErrExport, p.total-rows, p.total)
			}
			if p.end {
				return nil
			}
			n, err := insert(tx, p.into, p.rows, ``)
			if err != nil {
				return fmt.Errorf("%w: lines %d to %d: %w; nothing was imported", ErrExport, p.line, p.line+len(p.rows)-1, err)
			}
			rows += n
		}
		return ctx.Err()
	})
	if err != nil {
		return 0, err
	}
	l.ID = id
	return rows, nil
}

// part is some lines of an export that follow each other: rows of one table.
type part struct {
	into  string // the beginning of its statement
	rows  [][]any
	line  int // the number of the first
	end   bool
	total int // at the end, how many rows there were
	err   error
}

// readParts reads the lines behind the first, while others are being written.
func (l *Ledger) readParts(ctx context.Context, lines *bufio.Scanner, to chan<- part) {
	defer close(to)
	send := func(p part) bool {
		select {
		case to <- p:
			return true
		case <-ctx.Done():
			return false
		}
	}
	digest := sha256.New()
	add := func() { _, _ = digest.Write(append(lines.Bytes(), '\n')) }
	add()
	tables := l.importTables()
	rows := 0
	var next part
	for n := 2; lines.Scan(); n++ {
		one, err := parseLine(lines.Bytes(), tables)
		switch {
		case err != nil:
			err = fmt.Errorf("%w: line %d: %w; nothing was imported", ErrExport, n, err)
		case one.end.End == nil:
		case one.end.End.Rows != rows || one.end.End.SHA256 != hex.EncodeToString(digest.Sum(nil)) || lines.Scan():
			err = fmt.Errorf("%w: its content was changed after the export (%d rows exported, %d found); nothing was imported", ErrExport, one.end.End.Rows, rows)
		case lines.Err() != nil:
			err = lines.Err()
		}
		last := err != nil || one.end.End != nil
		if len(next.rows) == mostRows || len(next.rows) > 0 && (last || one.table.into != next.into) {
			if !send(next) {
				return
			}
			next = part{}
		}
		if last {
			send(part{end: true, total: rows, err: err})
			return
		}
		if len(next.rows) == 0 {
			next = part{into: one.table.into, line: n}
		}
		next.rows = append(next.rows, one.values)
		add()
		rows++
	}
	err := lines.Err()
	if err == nil {
		err = fmt.Errorf("%w: its last line is not {\"end\": ...}: the export is truncated; nothing was imported", ErrExport)
	}
	send(part{err: err})
}
