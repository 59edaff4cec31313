package setup

import (
	"fmt"
	"reflect"
	"strconv"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/sheet"
)

// Read reads a setup file. All findings are told at once; the setup is whole
// only when none of them is an error.
func Read(file string, content []byte) (*Setup, finding.List) {
	d := &decoder{file: file, positions: map[string]finding.Position{}, anchors: map[string]ast.Node{}}
	s := &Setup{positions: d.positions}
	tree, err := parser.ParseBytes(content, 0)
	if err != nil {
		d.syntax(err)
		return s, d.found
	}
	if len(tree.Docs) == 0 || tree.Docs[0].Body == nil {
		d.found.Add(finding.Finding{Code: "empty-setup", At: finding.Position{File: file},
			Message: "the setup file is empty", Hint: "it begins with `mintbatch: 1`"})
		return s, d.found
	}
	d.value(tree.Docs[0].Body, reflect.ValueOf(s).Elem(), nil)
	if !d.found.Failed() {
		s.check(&d.found)
	}
	return s, d.found
}

// decoder fills the setup's types from the file's syntax tree and remembers
// where each value stands.
type decoder struct {
	file      string
	found     finding.List
	positions map[string]finding.Position
	anchors   map[string]ast.Node
	nodes     int
}

// maxNodes bounds what aliases can make of a small file.
const maxNodes = 200_000

func (d *decoder) syntax(err error) {
	f := finding.Finding{Code: "bad-yaml", At: finding.Position{File: d.file}, Message: "not YAML: " + err.Error()}
	var at yaml.Error
	if ok := asYAMLError(err, &at); ok {
		f.Message = "not YAML: " + at.GetMessage()
		if t := at.GetToken(); t != nil {
			f.At = finding.Position{File: d.file, Row: t.Position.Line, Column: t.Position.Column, Text: true}
		}
	}
	d.found.Add(f)
}

func (d *decoder) at(n ast.Node) finding.Position {
	t := n.GetToken()
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 {
		t = m.Values[0].Key.GetToken()
	}
	return finding.Position{File: d.file, Row: t.Position.Line, Column: t.Position.Column, Text: true}
}

func (d *decoder) wrong(n ast.Node, path []string, want, hint string) {
	what := "this value"
	for _, key := range path {
		if _, err := strconv.Atoi(key); err != nil { // not a place in a list
			what = key
		}
	}
	d.found.Add(finding.Finding{Code: "bad-value", At: d.at(n),
		Message: fmt.Sprintf("%s must be %s", what, want), Hint: hint})
}

// plain follows anchors, aliases and tags to the node that holds the value.
func (d *decoder) plain(n ast.Node) ast.Node {
	for range 100 {
		switch t := n.(type) {
		case *ast.AnchorNode:
			d.anchors[t.Name.GetToken().Value] = t.Value
			n = t.Value
		case *ast.AliasNode:
			target, ok := d.anchors[t.Value.GetToken().Value]
			if !ok {
				d.wrong(n, nil, "an alias of an anchor above it", "")
				return &ast.NullNode{BaseNode: &ast.BaseNode{}, Token: t.GetToken()}
			}
			n = target
		case *ast.TagNode:
			n = t.Value
		default:
			return n
		}
	}
	return n
}

var (
	durationType  = reflect.TypeFor[time.Duration]()
	valuesType    = reflect.TypeFor[Values]()
	unmarshalType = reflect.TypeFor[interface{ UnmarshalText([]byte) error }]()
)

func (d *decoder) value(raw ast.Node, into reflect.Value, path []string) {
	if d.nodes++; d.nodes > maxNodes {
		if d.nodes == maxNodes+1 {
			d.wrong(raw, path, "smaller", "aliases make this file enormous")
		}
		return
	}
	n := d.plain(raw)
	if _, null := n.(*ast.NullNode); null {
		return
	}
	d.positions[pathID(path)] = d.at(n)
	switch t := into.Type(); {
	case t == valuesType:
		into.Set(reflect.ValueOf(d.values(n, path)))
	case t == durationType, reflect.PointerTo(t).Implements(unmarshalType):
		d.scalar(n, into, path)
	case t.Kind() == reflect.Struct:
		d.structure(n, into, path)
	case t.Kind() == reflect.Map:
		d.mapping(n, into, path)
	case t.Kind() == reflect.Slice:
		d.list(n, into, path)
	default:
		d.scalar(n, into, path)
	}
}

func (d *decoder) pairs(n ast.Node, path []string) []*ast.MappingValueNode {
	switch m := n.(type) {
	case *ast.MappingNode:
		return m.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{m}
	}
	d.wrong(n, path, "a mapping (`key: value` lines)", "")
	return nil
}

func (d *decoder) structure(n ast.Node, into reflect.Value, path []string) {
	fields, rest := fieldsOf(into)
	for _, pair := range d.pairs(n, path) {
		key := pair.Key.GetToken().Value
		below := append(path[:len(path):len(path)], key)
		field, ok := fields[key]
		if ok {
			d.value(pair.Value, field, below)
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
			known = append(known, sheet.ColumnNames()...)
		}
		d.unknown(pair.Key, key, known)
	}
}

func (d *decoder) unknown(n ast.Node, key string, known []string) {
	d.found.Add(finding.Finding{Code: "unknown-key", At: d.at(n), Value: key,
		Message: fmt.Sprintf("unknown key %q", key), Hint: finding.DidYouMean(key, known)})
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

func (d *decoder) mapping(n ast.Node, into reflect.Value, path []string) {
	into.Set(reflect.MakeMap(into.Type()))
	for _, pair := range d.pairs(n, path) {
		key := pair.Key.GetToken().Value
		below := append(path[:len(path):len(path)], key)
		element := reflect.New(into.Type().Elem()).Elem()
		d.positions[pathID(below)] = d.at(pair.Key)
		d.value(pair.Value, element, below)
		into.SetMapIndex(reflect.ValueOf(key), element)
	}
}

// list reads a sequence; a single value stands for a list of one.
func (d *decoder) list(n ast.Node, into reflect.Value, path []string) {
	elements := []ast.Node{n}
	if seq, ok := n.(*ast.SequenceNode); ok {
		elements = seq.Values
	}
	for i, e := range elements {
		element := reflect.New(into.Type().Elem()).Elem()
		d.value(e, element, append(path[:len(path):len(path)], fmt.Sprint(i)))
		into.Set(reflect.Append(into, element))
	}
}

func (d *decoder) values(n ast.Node, path []string) Values {
	v := Values{}
	for _, pair := range d.pairs(n, path) {
		key := pair.Key.GetToken().Value
		c, ok := sheet.ParseColumn(key)
		if !ok || c.Unit != "" {
			d.unknown(pair.Key, key, sheet.ColumnNames())
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
func (d *decoder) cell(raw ast.Node, path []string) (string, bool) {
	n := d.plain(raw)
	d.positions[pathID(path)] = d.at(n)
	text := ""
	switch t := n.(type) {
	case *ast.NullNode:
		return "", true
	case *ast.SequenceNode:
		for i, e := range t.Values {
			word, ok := scalarText(d.plain(e))
			if !ok {
				d.wrong(e, path, "plain text", "")
				return "", false
			}
			if i > 0 {
				text += "\n"
			}
			text += word
		}
		return text, true
	}
	text, ok := scalarText(n)
	if !ok {
		d.wrong(n, path, "plain text or a list of it", "")
	}
	return text, ok
}
