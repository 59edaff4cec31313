package setup

import (
	"encoding"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/core/tree"
)

// text reads a single value, wherever it stands.
func (d *decoder) text(n *tree.Node, path []string) (string, bool) {
	if n.Kind != tree.Text {
		d.wrong(n, path, "a single value", "")
		return "", false
	}
	return d.elsewhere(n, n.Text, path)
}

func (d *decoder) scalar(n *tree.Node, into reflect.Value, path []string) {
	text := n.Text
	if n.Kind != tree.Text || into.Type() != reflect.TypeFor[Reference]() {
		var ok bool
		if text, ok = d.text(n, path); !ok {
			return
		}
	}
	if u, ok := into.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if err := u.UnmarshalText([]byte(text)); err != nil {
			d.wrong(n, path, wanted(into), err.Error())
		}
		return
	}
	if e, ok := into.Interface().(enumeration); ok {
		words := e.Words()
		if text = strings.ToLower(text); !slices.Contains(words, text) {
			d.wrong(n, path, strings.Join(words[:len(words)-1], ", ")+" or "+words[len(words)-1], finding.DidYouMean(text, words))
			return
		}
	}
	var err error
	switch {
	case into.Type() == durationType:
		var v time.Duration
		if v, err = time.ParseDuration(text); v < 0 && err == nil || v == 0 && err == nil && path[len(path)-1] != "cooling" {
			err = errors.New("it must be greater than zero")
		}
		into.SetInt(int64(v))
	case into.Kind() == reflect.Bool:
		var v bool
		v, err = strconv.ParseBool(text)
		into.SetBool(v)
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

// wanted describes what a value has to be.
func wanted(v reflect.Value) string {
	if e, ok := v.Interface().(interface{ Expects() string }); ok {
		return e.Expects()
	}
	switch v.Type().String() {
	case "time.Duration":
		return "a time such as 90s or 10m"
	case "netip.Prefix":
		return "a subnet such as 198.51.100.0/24"
	case "netip.Addr":
		return "an address such as 198.51.100.1"
	case "machine.Switch":
		return "on or off"
	case "int":
		return "a whole number"
	case "bool":
		return "true or false"
	}
	return "text"
}

// elsewhere follows a value that is `env:NAME`, `file:PATH` or `secret:NAME`.
// The secret of a password, a licence or first-boot contents is only opened
// for the guest.
func (d *decoder) elsewhere(n *tree.Node, text string, path []string) (string, bool) {
	kind, name, ok := strings.Cut(text, ":")
	if !ok || !slices.Contains([]string{"env", "file", "secret"}, kind) || name == "" || strings.ContainsAny(name, " \t\n") || d.fetch == nil {
		return text, true
	}
	if kind == "secret" && forGuest(path) {
		return text, true
	}
	return d.fetched(n, kind, name)
}

// forGuest reports whether a value is one that only a seed gets.
func forGuest(path []string) bool {
	if last := path[len(path)-1]; last == "password" || last == "licence" {
		return true
	}
	if path[0] != "presets" && path[0] != "firstboot" || len(path) < 3 {
		return false
	}
	_, isColumn := sheet.ParseColumn(path[2])
	return !isColumn
}

// fetched gets a value that stands elsewhere.
func (d *decoder) fetched(n *tree.Node, kind, name string) (string, bool) {
	if d.fetch == nil {
		return "", true
	}
	value, err := d.fetch(kind, name)
	if err != nil {
		d.found.Add(finding.Finding{Code: "not-elsewhere", At: d.at(n), Value: n.Text,
			Message: fmt.Sprintf("%s cannot be read: %s", n.Text, err), Hint: "set it, or write the value here"})
	}
	return value, err == nil
}

func pathID(path []string) string { return strings.Join(path, "\x00") }
