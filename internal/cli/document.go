package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"
)

// document prints the one JSON document of a command: a struct field by field,
// and a list element by element, so that a long one is never held as text.
func (a *App) document(v any) error {
	w := bufio.NewWriter(raw(a.Stdout))
	value := reflect.ValueOf(v)
	var err error
	if value.Kind() == reflect.Struct {
		err = fields(w, value)
	} else {
		err = element(w, value, "")
	}
	_, _ = fmt.Fprintln(w)
	return errors.Join(err, w.Flush())
}

// ascii escapes what a terminal would take for more than text: a document may be looked at,
// too.
func ascii(text []byte) []byte {
	plain := func(b byte) bool { return b >= ' ' && b < 0x7f || b == '\n' }
	if !slices.ContainsFunc(text, func(b byte) bool { return !plain(b) }) {
		return text
	}
	var b bytes.Buffer
	for _, r := range string(text) {
		if unseen(r) {
			b.WriteString(escaped(r))
		} else {
			b.WriteRune(r)
		}
	}
	return b.Bytes()
}

func fields(w io.Writer, value reflect.Value) error {
	separator := "{\n"
	for _, field := range reflect.VisibleFields(value.Type()) {
		if field.Anonymous { // whose fields are among the others
			continue
		}
		name, options, _ := strings.Cut(field.Tag.Get("json"), ",")
		one := value.FieldByIndex(field.Index)
		if strings.Contains(options, "omit") && (one.IsZero() || one.Kind() == reflect.Slice && one.Len() == 0) {
			continue
		}
		if _, err := fmt.Fprintf(w, "%s  %q: ", separator, name); err != nil {
			return err
		}
		separator = ",\n"
		if err := element(w, one, "  "); err != nil {
			return err
		}
	}
	_, err := io.WriteString(w, "\n}")
	return err
}

// element writes a value, a list element by element.
func element(w io.Writer, v reflect.Value, indent string) error {
	if v.Kind() != reflect.Slice || v.Len() == 0 {
		return newEncoder(indent).write(w, v)
	}
	list := listWriter{w: w, indent: indent}
	if err := list.add(v); err != nil {
		return err
	}
	return list.end()
}

// listDocument prints a document with one list, whose elements come some at a time.
func (a *App) listDocument(schema, name string, each func(take func(some any) error) error) error {
	w := bufio.NewWriter(raw(a.Stdout))
	fmt.Fprintf(w, "{\n  \"schema\": %q,\n  %q: ", schema, name)
	list := listWriter{w: w, indent: "  "}
	err := each(func(some any) error { return list.add(reflect.ValueOf(some)) })
	if err != nil && !list.begun {
		return err // and nothing was printed
	}
	if err == nil {
		err = list.end()
		fmt.Fprintln(w, "\n}")
	}
	return errors.Join(err, w.Flush())
}

// listWriter writes a list whose elements come some at a time.
type listWriter struct {
	w      io.Writer
	indent string
	begun  bool
	parts  []part
}

// part is what one goroutine writes of a list.
type part struct {
	bytes.Buffer
	elements *encoder
}

// together is how many elements of a list are written by one goroutine.
const together = 256

// add writes elements, by several goroutines.
func (l *listWriter) add(v reflect.Value) error {
	if l.parts == nil {
		l.parts = make([]part, runtime.GOMAXPROCS(0))
		for k := range l.parts {
			l.parts[k].elements = newEncoder(l.indent + "  ")
		}
	}
	for from := 0; from < v.Len(); from += together * len(l.parts) {
		var all errgroup.Group
		for k := range l.parts {
			part := &l.parts[k]
			part.Reset()
			all.Go(func() error {
				first := from + k*together
				for i := first; i < min(first+together, v.Len()); i++ {
					if i > first {
						part.WriteString(",\n" + l.indent + "  ")
					}
					if err := part.elements.write(part, v.Index(i)); err != nil {
						return err
					}
				}
				return nil
			})
		}
		if err := all.Wait(); err != nil {
			return err
		}
		for k := range l.parts {
			if l.parts[k].Len() == 0 {
				continue
			}
			separator := "[\n"
			if l.begun {
				separator = ",\n"
			}
			if _, err := io.WriteString(l.w, separator+l.indent+"  "); err != nil {
				return err
			}
			l.begun = true
			if _, err := l.parts[k].WriteTo(l.w); err != nil {
				return err
			}
		}
	}
	return nil
}

func (l *listWriter) end() error {
	end := "[]"
	if l.begun {
		end = "\n" + l.indent + "]"
	}
	_, err := io.WriteString(l.w, end)
	return err
}

// encoder writes values as JSON, each into the room of the one before.
type encoder struct {
	text bytes.Buffer
	json *json.Encoder
}

func newEncoder(indent string) *encoder {
	e := &encoder{}
	e.json = json.NewEncoder(&e.text)
	e.json.SetIndent(indent, "  ")
	e.json.SetEscapeHTML(false)
	return e
}

func (e *encoder) write(w io.Writer, v reflect.Value) error {
	if v.CanAddr() {
		v = v.Addr() // which is not copied
	}
	e.text.Reset()
	whole := v.Interface()
	if part, is := whole.(interface{ Whole() any }); is { // the rest is in memory only now
		whole = part.Whole()
	}
	if err := e.json.Encode(whole); err != nil {
		return err
	}
	_, err := w.Write(ascii(bytes.TrimSuffix(e.text.Bytes(), []byte("\n"))))
	return err
}
