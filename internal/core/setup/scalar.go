package setup

import (
	"encoding"
	"errors"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// scalarText returns a scalar as it is written: 012 stays 012.
func scalarText(n ast.Node) (string, bool) {
	switch t := n.(type) {
	case *ast.LiteralNode:
		return t.Value.Value, true
	case *ast.StringNode:
		return t.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return n.GetToken().Value, true
	}
	return "", false
}

func (d *decoder) scalar(n ast.Node, into reflect.Value, path []string) {
	text, ok := scalarText(n)
	if !ok {
		d.wrong(n, path, "a single value", "")
		return
	}
	if u, ok := into.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if err := u.UnmarshalText([]byte(text)); err != nil {
			d.wrong(n, path, wanted(into), err.Error())
		}
		return
	}
	var err error
	switch {
	case into.Type() == durationType:
		var v time.Duration
		if v, err = time.ParseDuration(text); v <= 0 && err == nil {
			err = errors.New("it must be more than nothing")
		}
		into.SetInt(int64(v))
	case into.Kind() == reflect.Int:
		var v int
		v, err = strconv.Atoi(text)
		into.SetInt(int64(v))
	default:
		into.SetString(text)
	}
	if err != nil {
		d.wrong(n, path, wanted(into), strings.TrimPrefix(err.Error(), "time: "))
	}
}

func wanted(v reflect.Value) string {
	switch v.Type().String() {
	case "time.Duration":
		return "a time such as 90s or 10m"
	case "netip.Prefix":
		return "a subnet such as 198.51.100.0/24"
	case "netip.Addr":
		return "an address such as 198.51.100.1"
	case "int":
		return "a whole number"
	}
	return "text"
}

func pathID(path []string) string { return strings.Join(path, "\x00") }

func asYAMLError(err error, into *yaml.Error) bool { return errors.As(err, into) }
