package setup

import (
	"maps"
	"reflect"
	"slices"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/machine"
)

// Schema is the JSON Schema (draft 2020-12) of the setup file. It is read off
// the very types that the file is read into.
func Schema() map[string]any {
	s := schemaOf(reflect.TypeFor[Setup]())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "mintbatch.yaml"
	s["required"] = []string{"mintbatch", "sites"}
	return s
}

func schemaOf(t reflect.Type) map[string]any {
	switch {
	case t == valuesType:
		return map[string]any{"type": "object", "propertyNames": map[string]any{"enum": columnNames()}, "additionalProperties": cellSchema()}
	case t == durationType:
		return map[string]any{"type": "string", "pattern": `^([0-9.]+(ns|us|ms|s|m|h))+$`, "examples": []string{"90s", "10m"}}
	case t.Implements(reflect.TypeFor[enumeration]()):
		return map[string]any{"enum": wordsOf(reflect.Zero(t).Interface().(enumeration))}
	case reflect.PointerTo(t).Implements(appendType):
		one := map[string]any{"type": "string"}
		return map[string]any{"anyOf": []any{one, map[string]any{"type": "array", "items": one}}}
	case t == reflect.TypeFor[Port](), t == reflect.TypeFor[Percent]():
		return map[string]any{"type": []string{"string", "integer"}}
	case t == reflect.TypeFor[machine.Switch]():
		return map[string]any{"enum": []any{"on", "off", "yes", "no", true, false}}
	case reflect.PointerTo(t).Implements(unmarshalType):
		return map[string]any{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem())
	case reflect.Struct:
		return structSchema(t)
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem())}
	case reflect.Slice:
		one := schemaOf(t.Elem())
		return map[string]any{"anyOf": []any{one, map[string]any{"type": "array", "items": one}}}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	}
	return map[string]any{"type": []string{"string", "number", "boolean"}}
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

func structSchema(t reflect.Type) map[string]any {
	properties := map[string]any{}
	var short map[string]any
	for i := range t.NumField() {
		f := t.Field(i)
		key := f.Tag.Get("key")
		switch {
		case f.Anonymous:
			maps.Copy(properties, structSchema(f.Type)["properties"].(map[string]any))
		case key == "*":
			for _, name := range columnNames() {
				if properties[name] == nil {
					properties[name] = cellSchema()
				}
			}
		case key != "":
			p := schemaOf(f.Type)
			p["description"] = f.Tag.Get("doc")
			properties[key] = p
			if f.Tag.Get("short") != "" {
				short = schemaOf(f.Type)
			}
		}
	}
	whole := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if short != nil {
		return map[string]any{"anyOf": []any{short, whole}}
	}
	return whole
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

// columnNames lists the columns with those of the first few adapters.
func columnNames() []string {
	var names []string
	for _, name := range column.Names() {
		names = append(names, name)
		c, _ := column.Named(name)
		for n := 2; n <= column.MaxAdapters && c.PerAdapter; n++ {
			names = append(names, column.ID(name, n))
		}
	}
	return slices.Clip(names)
}
