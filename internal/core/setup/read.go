package setup

import (
	"encoding"
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"strconv"
	"strings"
	"time"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/core/tree"
)

// File is a setup file that was fetched.
type File struct {
	Name    string
	Content []byte
}

// Fetch gets a value that stands elsewhere: kind is `env`, `file`
// (as text, without the line's end), `content` (a file to the byte) or `secret`.
type Fetch func(kind, name string) (string, error)

// Read reads setup files, of which each is laid over those before it. All
// findings are reported at once; the setup is whole only when none of them is an
// error.
func Read(fetch Fetch, files ...File) (*Setup, finding.List) {
	d := &decoder{fetch: fetch, positions: map[string]finding.Position{}}
	s := &Setup{positions: d.positions, fetch: fetch, broken: map[string]bool{}, networks: map[string]address.Network{}, sources: map[string]string{}, subnets: map[netip.Prefix][]string{}, lengths: map[int]bool{}}
	d.broken = s.broken
	var root *tree.Node
	for _, f := range files {
		layer, err := tree.YAML(f.Name, f.Content)
		switch {
		case err != nil:
			d.syntax(f.Name, err)
		case layer == nil:
			d.found.Add(finding.Finding{Code: "empty-setup", At: finding.Position{File: f.Name},
				Message: "the setup file is empty", Hint: "it begins with `mintbatch: 1`"})
		default:
			root = tree.Merge(root, layer)
		}
	}
	if d.found.Failed() {
		s.broken[everything] = true
		return s, d.found
	}
	d.value(root, reflect.ValueOf(s).Elem(), nil)
	checked := finding.List{}
	s.check(&checked)
	if !d.found.Failed() { // what follows from an error is not reported
		d.found = append(d.found, checked...)
	}
	return s, d.found
}

// decoder fills the setup's types from the file's syntax tree and remembers
// where each value stands.
type decoder struct {
	fetch     Fetch
	found     finding.List
	positions map[string]finding.Position
	nodes     int
	broken    map[string]bool
}

// maxNodes bounds what aliases can make of a small file.
const maxNodes = 200_000

func (d *decoder) syntax(file string, err error) {
	f := finding.Finding{Code: "bad-yaml", At: finding.Position{File: file}, Message: "not YAML: " + err.Error()}
	var at *tree.SyntaxError
	if errors.As(err, &at) {
		f.Message = "not YAML: " + at.Message
		f.At = finding.Position{File: file, Row: at.Row, Column: at.Column, Text: true}
	}
	d.found.Add(f)
}

func (d *decoder) at(n *tree.Node) finding.Position {
	return finding.Position{File: n.File, Row: n.Row, Column: n.Column, Text: true}
}

func (d *decoder) key(p tree.Pair) finding.Position {
	return finding.Position{File: p.File, Row: p.Row, Column: p.Column, Text: true}
}

// longestQuoted is how long a wrong value may be to be repeated, in bytes.
const longestQuoted = 60

func (d *decoder) wrong(n *tree.Node, path []string, want, hint string) {
	what := "this value"
	for _, key := range path {
		if _, err := strconv.Atoi(key); err != nil { // not a place in a list
			what = key
		}
	}
	message := fmt.Sprintf("%s must be %s", what, want)
	if n.Kind == tree.Text && len(n.Text) <= longestQuoted && !finding.LooksLikeSecret(n.Text) {
		message += fmt.Sprintf(", not %q", n.Text)
	}
	d.found.Add(finding.Finding{Code: "bad-value", At: d.at(n), Message: message, Hint: hint})
}

var (
	durationType  = reflect.TypeFor[time.Duration]()
	valuesType    = reflect.TypeFor[Values]()
	carriedType   = reflect.TypeFor[machine.CarriedFile]()
	bytesType     = reflect.TypeFor[machine.Bytes]()
	unmarshalType = reflect.TypeFor[encoding.TextUnmarshaler]()
	appendType    = reflect.TypeFor[textAppender]()
)

// textAppender is a list of which each text in the file may add several elements.
type textAppender interface{ AppendText(text string) error }

// enumeration is a setting with a few words.
type enumeration interface{ Words() []string }

// validator is a structure whose fields have to agree.
type validator interface{ Validate() error }

func (d *decoder) value(n *tree.Node, into reflect.Value, path []string) {
	if d.nodes++; d.nodes > maxNodes {
		if d.nodes == maxNodes+1 {
			d.wrong(n, path, "smaller", "YAML aliases expand it beyond the limit")
		}
		return
	}
	if n.Kind == tree.Null {
		return
	}
	d.positions[pathID(path)] = d.at(n)
	switch t := into.Type(); {
	case t == valuesType:
		into.Set(reflect.ValueOf(d.values(n, path)))
	case t == bytesType:
		d.content(n, into, path)
	case t == carriedType:
		d.carried(n, into, path)
	case t == durationType, reflect.PointerTo(t).Implements(unmarshalType):
		d.scalar(n, into, path)
	case t.Kind() == reflect.Pointer:
		into.Set(reflect.New(t.Elem()))
		d.value(n, into.Elem(), path)
	case t.Kind() == reflect.Struct:
		if short, ok := shortField(into); ok && n.Kind != tree.Map {
			d.value(n, short, path)
			return
		}
		d.structure(n, into, path)
		if v, ok := into.Interface().(validator); ok {
			if err := v.Validate(); err != nil {
				d.found.Add(finding.Finding{Code: "bad-value", At: d.at(n), Message: err.Error()})
			}
		}
	case t.Kind() == reflect.Map:
		d.mapping(n, into, path)
	case t.Kind() == reflect.Slice:
		d.list(n, into, path)
	default:
		d.scalar(n, into, path)
	}
}

func (d *decoder) pairs(n *tree.Node, path []string) []tree.Pair {
	if n.Kind != tree.Map {
		d.wrong(n, path, "a mapping (`key: value` lines)", "")
	}
	return n.Pairs
}

func (d *decoder) structure(n *tree.Node, into reflect.Value, path []string) {
	fields, rest := fieldsOf(into)
	for _, pair := range d.pairs(n, path) {
		key := pair.Key
		below := append(path[:len(path):len(path)], key)
		field, ok := fields[key]
		if ok {
			before := d.found.Count(finding.Error)
			d.value(pair.Value, field, below)
			if len(path) == 0 && d.found.Count(finding.Error) > before {
				d.broken[key] = true
			}
			continue
		}
		if rest.IsValid() {
			if c, ok := sheet.ParseColumn(key); ok && c.Unit == "" {
				if rest.IsNil() {
					rest.Set(reflect.ValueOf(Values{}))
				}
				if text, ok := d.cell(pair.Value, below); ok {
					rest.SetMapIndex(reflect.ValueOf(c.ID()), reflect.ValueOf(text))
				}
				continue
			}
		}
		known := make([]string, 0, len(fields))
		for name := range fields {
			known = append(known, name)
		}
		if rest.IsValid() {
			known = append(known, column.Names()...)
		}
		d.unknown(pair, known)
	}
}

func (d *decoder) unknown(p tree.Pair, known []string) {
	d.found.Add(finding.Finding{Code: "unknown-key", At: d.key(p), Value: p.Key,
		Message: fmt.Sprintf("unknown key %q", p.Key), Hint: finding.DidYouMean(p.Key, known)})
}

// shortField finds the field that a struct's short form, which is no mapping,
// gives a value to.
func shortField(v reflect.Value) (reflect.Value, bool) {
	for i := range v.NumField() {
		if v.Type().Field(i).Tag.Get("short") != "" {
			return v.Field(i), true
		}
	}
	return reflect.Value{}, false
}

// fieldsOf maps the keys of a struct to its fields, those of embedded structs
// included; rest is the field that takes columns, if there is one.
func fieldsOf(v reflect.Value) (fields map[string]reflect.Value, rest reflect.Value) {
	fields = map[string]reflect.Value{}
	for i := range v.NumField() {
		f := v.Type().Field(i)
		switch key := f.Tag.Get("key"); {
		case f.Anonymous:
			inner, _ := fieldsOf(v.Field(i))
			for name, field := range inner {
				fields[name] = field
			}
		case key == "*":
			rest = v.Field(i)
		case key != "":
			fields[key] = v.Field(i)
		}
	}
	return fields, rest
}

func (d *decoder) mapping(n *tree.Node, into reflect.Value, path []string) {
	into.Set(reflect.MakeMap(into.Type()))
	for _, pair := range d.pairs(n, path) {
		key := pair.Key
		below := append(path[:len(path):len(path)], key)
		element := reflect.New(into.Type().Elem()).Elem()
		d.positions[pathID(below)] = d.key(pair)
		d.value(pair.Value, element, below)
		into.SetMapIndex(reflect.ValueOf(key), element)
	}
}

// list reads a sequence; a single value stands for a list of one.
func (d *decoder) list(n *tree.Node, into reflect.Value, path []string) {
	elements := []*tree.Node{n}
	if n.Kind == tree.List {
		elements = n.Items
	}
	for i, e := range elements {
		below := append(path[:len(path):len(path)], fmt.Sprint(i))
		if list, ok := into.Addr().Interface().(textAppender); ok {
			d.positions[pathID(below)] = d.at(e)
			if text, ok := d.text(e, below); ok {
				if err := list.AppendText(text); err != nil {
					d.wrong(e, below, wanted(into), err.Error())
				}
			}
			continue
		}
		element := reflect.New(into.Type().Elem()).Elem()
		d.value(e, element, below)
		into.Set(reflect.Append(into, element))
	}
}

// content reads the file that a value names, to the byte.
func (d *decoder) content(n *tree.Node, into reflect.Value, path []string) {
	if n.Kind != tree.Text || n.Text == "" {
		d.wrong(n, path, "the path of a file", "")
		return
	}
	if text, ok := d.fetched(n, "content", n.Text); ok {
		into.SetBytes([]byte(text))
	}
}

// carried looks at the file that a value names, and does not read it.
func (d *decoder) carried(n *tree.Node, into reflect.Value, path []string) {
	if n.Kind != tree.Text || n.Text == "" {
		d.wrong(n, path, "the path of a file", "")
		return
	}
	text, ok := d.fetched(n, "status", strings.TrimPrefix(n.Text, "file:"))
	if !ok {
		return
	}
	var f machine.CarriedFile
	parts := strings.SplitN(text, " ", 4)
	if len(parts) == 4 {
		f.Size, _ = strconv.ParseInt(parts[0], 10, 64)
		f.Modified, f.Name, f.Path = parts[1], parts[2], parts[3]
	}
	into.Set(reflect.ValueOf(f))
}

func (d *decoder) values(n *tree.Node, path []string) Values {
	v := Values{}
	for _, pair := range d.pairs(n, path) {
		key := pair.Key
		c, ok := sheet.ParseColumn(key)
		if !ok || c.Unit != "" {
			d.unknown(pair, column.Names())
			continue
		}
		if text, ok := d.cell(pair.Value, append(path[:len(path):len(path)], key)); ok {
			v[c.ID()] = text
		}
	}
	return v
}

// cell reads a column's default: the text of a cell. A list stands for a cell
// of several lines, a mapping for one of `name=value` words.
func (d *decoder) cell(n *tree.Node, path []string) (string, bool) {
	d.positions[pathID(path)] = d.at(n)
	text, ok := n.Cell()
	if !ok {
		d.wrong(n, path, "plain text or a list of it", "")
		return "", false
	}
	return d.elsewhere(n, text, path)
}
