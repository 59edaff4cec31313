package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"
	"syscall"
	"unicode"
	"unicode/utf8"

	"mintbatch/internal/core/pattern"
	"mintbatch/internal/layout"
)

// terminalWriter is where all views write. Whatever they print, nothing comes through
// that moves a cursor, changes what is shown or turns it round, but what this program
// draws with itself, and that only on a terminal.
type terminalWriter struct {
	mu       sync.Mutex // those who wait are informed from several goroutines
	to       *outlet
	terminal bool
	rest     []byte // of a rune that is not whole yet
}

// onScreen is the writer for a stream, which views of it can still ask for its size.
func onScreen(to io.Writer) *terminalWriter {
	_, _, is := screen(to)
	return &terminalWriter{to: &outlet{to: to}, terminal: is}
}

// outlet is a stream that remembers whether it could be written to.
type outlet struct {
	mu     sync.Mutex
	to     io.Writer
	failed error
}

func (o *outlet) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	n, err := o.to.Write(p)
	if err != nil && o.failed == nil {
		o.failed = err
	}
	return n, err
}

// failed reports why not all that was said could be written.
func failed(stream io.Writer) error {
	s, ok := stream.(*terminalWriter)
	if !ok || s.to.failed == nil {
		return nil
	}
	err := s.to.failed
	var path *fs.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	return fmt.Errorf("the output cannot be written: %w", err)
}

// hungUp reports whether whoever was reading a stream does not any more.
func hungUp(stream io.Writer) bool { return errors.Is(failed(stream), syscall.EPIPE) }

// drawn are the sequences that views draw with: colours, and the progress of a run
// over itself (ECMA-48).
var drawn = pattern.Lazy(`^\x1b\[(?:[0-9;]*m|[0-9]*A|J|K)`)

func (w *terminalWriter) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	all := p
	if w.terminal {
		width, _, _ := screen(w)
		all = folded(p, width)
	}
	if len(w.rest) > 0 {
		all = append(w.rest, all...)
		w.rest = nil
	}
	if bytes.IndexFunc(all, unseen) < 0 && utf8.Valid(all) {
		_, err := w.to.Write(all)
		return len(p), err
	}
	var out strings.Builder
	for len(all) > 0 {
		if !utf8.FullRune(all) {
			w.rest = append([]byte(nil), all...)
			break
		}
		r, size := utf8.DecodeRune(all)
		switch own := drawn().Find(all); {
		case w.terminal && own != nil:
			size = len(own)
			out.Write(own)
		case r == '\r' && w.terminal, !unseen(r):
			out.Write(all[:size])
		default:
			out.WriteString(escaped(r))
		}
		all = all[size:]
	}
	_, err := io.WriteString(w.to, out.String())
	return len(p), err
}

// folded breaks lines that are longer than a terminal between words, and indents what goes on
// as the line is. What moves the cursor is left as it is.
func folded(text []byte, width int) []byte {
	if width <= 0 || len(text) <= width || bytes.ContainsRune(text, '\r') {
		return text
	}
	var out []byte
	for line := range bytes.Lines(text) {
		bare := bytes.TrimSuffix(line, []byte("\n"))
		if len(bare) <= width || layout.Width(string(bare)) <= width {
			out = append(out, line...)
			continue
		}
		indent := string(bare[:len(bare)-len(bytes.TrimLeft(bare, " "))])
		if len(indent) > width/2 {
			indent = ""
		}
		out = append(out, indent+strings.Join(layout.Fold(string(bare), width-len(indent)), "\n"+indent)...)
		out = append(out, line[len(bare):]...)
	}
	return out
}

// unseen reports a character that a reader does not see, or is misled by.
func unseen(r rune) bool { return !unicode.IsPrint(r) && r != '\n' && r != '\t' && r != '\u00a0' }

// escaped writes such a character so that it can be seen, as JSON does.
func escaped(r rune) string {
	if r > 0xffff {
		r -= 0x10000
		return fmt.Sprintf(`\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
	}
	return fmt.Sprintf(`\u%04x`, r)
}

// raw is the stream behind a screenWriter, for what is no text of a view: a document to
// be read by a program, a guest's console.
func raw(w io.Writer) io.Writer {
	if s, ok := w.(*terminalWriter); ok {
		return s.to
	}
	return w
}

// asFile is the file behind a stream, if it is one.
func asFile(stream any) (*os.File, bool) {
	if s, ok := stream.(*terminalWriter); ok {
		stream = s.to.to
	}
	f, ok := stream.(*os.File)
	return f, ok
}
