package setup

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strconv"
	"strings"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/machine"
)

// Schema is the JSON Schema (draft 2020-12) of the setup file. It is read off
// the very types that the file is read into.
func Schema() map[string]any {
	d := definitions{}
	d["cell"], d["cells"] = cellSchema(), cellsSchema()
	s := d.whole(reflect.TypeFor[Setup]())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "mintbatch.yaml"
	s["required"] = []string{"mintbatch", "sites"}
	s["$defs"] = d
	return s
}

// SchemaText is the schema as it is printed.
func SchemaText() []byte {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", " ")
	_ = e.Encode(Schema()) // maps of texts can be encoded
	return b.Bytes()
}

// definitions are what several places of the schema refer to, by name.
type definitions map[string]any

func reference(name string) map[string]any { return map[string]any{"$ref": "#/$defs/" + name} }

// of is the schema of a type.
func (d definitions) of(t reflect.Type) map[string]any {
	switch {
	case t == valuesType:
		return reference("cells")
	case t == durationType:
		return map[string]any{"type": "string", "pattern": `^([0-9.]+(ns|us|ms|s|m|h))+$`, "examples": []string{"90s", "10m"}}
	case t.Implements(reflect.TypeFor[enumeration]()):
		return map[string]any{"enum": wordsOf(reflect.Zero(t).Interface().(enumeration))}
	case reflect.PointerTo(t).Implements(appendType):
		return orList(map[string]any{"type": "string"})
	case t == reflect.TypeFor[Port](), t == reflect.TypeFor[Percent]():
		return map[string]any{"type": []string{"string", "integer"}}
	case t == reflect.TypeFor[machine.Switch]():
		return map[string]any{"enum": []any{"on", "off", "yes", "no", true, false}}
	case reflect.PointerTo(t).Implements(unmarshalType):
		return map[string]any{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return d.of(t.Elem())
	case reflect.Struct:
		name := t.Name()
		if d[name] == nil {
			d[name] = true // while it is being made
			d[name] = d.whole(t)
		}
		return reference(name)
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": d.of(t.Elem())}
	case reflect.Slice:
		return orList(d.of(t.Elem()))
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	}
	return map[string]any{"type": []string{"string", "number", "boolean"}}
}

// orList is one of something, or a list of it.
func orList(one map[string]any) map[string]any {
	return map[string]any{"anyOf": []any{one, map[string]any{"type": "array", "items": one}}}
}

// wordsOf lists the words of a setting; YAML 1.1 reads some of them as booleans.
func wordsOf(e enumeration) []any {
	var all []any
	for _, word := range e.Words() {
		all = append(all, word)
		switch word {
		case "on":
			all = append(all, true)
		case "off":
			all = append(all, false)
		}
	}
	return all
}

// whole is the schema of a struct.
func (d definitions) whole(t reflect.Type) map[string]any {
	properties, columns := map[string]any{}, false
	var short map[string]any
	for i := range t.NumField() {
		f := t.Field(i)
		key := f.Tag.Get("key")
		switch {
		case f.Anonymous:
			d.of(f.Type)
			d.include(properties, f.Type.Name())
		case key == "*":
			columns = true
		case key != "":
			p := d.of(f.Type)
			p["description"] = f.Tag.Get("doc")
			if example, has := examples[t.Name()+"."+key]; has {
				p["examples"] = []any{example}
			} else if words, is := p["enum"].([]any); is {
				p["examples"] = words[:1]
			}
			properties[key] = p
			if f.Tag.Get("short") != "" {
				short = d.of(f.Type)
			}
		}
	}
	whole := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if columns {
		d.include(properties, "cells")
		whole["patternProperties"] = d["cells"].(map[string]any)["patternProperties"]
	}
	if short != nil {
		return map[string]any{"anyOf": []any{short, whole}}
	}
	return whole
}

// include adds the keys of a definition to those of another.
func (d definitions) include(into map[string]any, name string) {
	for key := range d[name].(map[string]any)["properties"].(map[string]any) {
		if into[key] == nil {
			into[key] = reference(name + "/properties/" + key)
		}
	}
}

// cellsSchema is a bundle of column defaults.
func cellsSchema() map[string]any {
	properties, perAdapter := map[string]any{}, []string{}
	for _, name := range column.Names() {
		p := reference("cell")
		p["description"], p["examples"] = cells[name].doc, []string{cells[name].example}
		properties[name] = p
		if c, _ := column.Named(name); c.PerAdapter {
			perAdapter = append(perAdapter, name)
		}
	}
	further := reference("cell")
	further["description"], further["examples"] = "the same of a further adapter", []string{"pool"}
	var numbers []string
	for n := 2; n <= column.MaxAdapters; n++ {
		numbers = append(numbers, strconv.Itoa(n))
	}
	return map[string]any{"type": "object", "properties": properties, "additionalProperties": false,
		"patternProperties": map[string]any{`^(` + strings.Join(perAdapter, "|") + `)\.(` + strings.Join(numbers, "|") + `)$`: further}}
}

// cellSchema is a column's default: a cell's text, a list of lines, or the
// words of a label cell.
func cellSchema() map[string]any {
	plain := []string{"string", "number", "boolean", "null"}
	return map[string]any{"anyOf": []any{
		map[string]any{"type": plain},
		map[string]any{"type": "array", "items": map[string]any{"type": plain}},
		map[string]any{"type": "object", "additionalProperties": map[string]any{"type": plain}},
	}}
}
