package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strings"
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
	if bytes.IndexFunc(text, unseen) < 0 {
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

func element(w io.Writer, v reflect.Value, indent string) error {
	if v.Kind() != reflect.Slice || v.Len() == 0 {
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		e.SetIndent(indent, "  ")
		e.SetEscapeHTML(false)
		if err := e.Encode(v.Interface()); err != nil {
			return err
		}
		_, err := w.Write(ascii(bytes.TrimSuffix(b.Bytes(), []byte("\n"))))
		return err
	}
	separator := "[\n"
	for i := range v.Len() {
		if _, err := io.WriteString(w, separator+indent+"  "); err != nil {
			return err
		}
		separator = ",\n"
		if err := element(w, v.Index(i), indent+"  "); err != nil {
			return err
		}
	}
	_, err := io.WriteString(w, "\n"+indent+"]")
	return err
}
