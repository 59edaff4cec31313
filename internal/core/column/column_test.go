package column

import (
	"fmt"
	"net/netip"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
)

// leaves calls do with each field of a value that has no fields itself.
func leaves(path string, v reflect.Value, do func(path string, leaf reflect.Value)) {
	switch {
	case v.Type() == reflect.TypeFor[netip.Prefix]() || v.Kind() != reflect.Struct && v.Kind() != reflect.Pointer:
		do(path, v)
	case v.Kind() == reflect.Pointer:
		if v.IsNil() {
			v.Set(reflect.New(v.Type().Elem()))
		}
		leaves(path, v.Elem(), do)
	default:
		for i := range v.NumField() {
			leaves(path+"."+v.Type().Field(i).Name, v.Field(i), do)
		}
	}
}

// another sets a leaf to a value that it does not have.
func another(t *testing.T, path string, leaf reflect.Value) {
	switch {
	case leaf.Type() == reflect.TypeFor[netip.Prefix]():
		leaf.Set(reflect.ValueOf(netip.MustParsePrefix("198.51.100.7/24")))
	case leaf.Kind() == reflect.String:
		leaf.SetString("something")
	case leaf.Kind() == reflect.Bool:
		leaf.SetBool(true)
	case leaf.CanInt():
		leaf.SetInt(7 << 20)
	case leaf.Kind() == reflect.Slice:
		leaf.Set(reflect.MakeSlice(leaf.Type(), 1, 1))
		if element := leaf.Index(0); element.Kind() == reflect.String {
			element.SetString("something")
		}
	case leaf.Kind() == reflect.Map:
		leaf.Set(reflect.MakeMap(leaf.Type()))
		leaf.SetMapIndex(reflect.ValueOf("name"), reflect.Zero(leaf.Type().Elem()))
	default:
		t.Fatalf("no other value for %s (%s)", path, leaf.Type())
	}
}

func one() *machine.Spec {
	return &machine.Spec{Adapters: []machine.Adapter{{}}, Clone: machine.Clone{Hardware: &machine.Hardware{}},
		Guest: machine.Guest{Own: &machine.OwnAnswers{}, Firstboot: &machine.Firstboot{}}}
}

// shown is what the whole table shows of a spec.
func shown(s *machine.Spec) string {
	all := ""
	for _, c := range All() {
		if c.HasField() {
			all += fmt.Sprintf("%s=%s\n", c.Name, c.Show(s, 0))
		}
	}
	return all
}

// No field of a spec is forgotten: the table shows each, and copies it.
func TestEveryFieldHasAColumn(t *testing.T) {
	// The setup's name of a template goes with the site's, and whether an adapter was
	// added later is not for a row to say.
	without := map[string]bool{".Template": true, ".Adapters.Interface.Later": true}
	base := shown(one())
	paths := 0
	check := func(path string, changed *machine.Spec) {
		paths++
		if without[path] {
			return
		}
		if !assert.NotEqual(t, base, shown(changed), "%s is in no column", path) {
			return
		}
		copied := one()
		for _, c := range All() {
			if c.HasField() {
				c.Copy(copied, changed, 0)
			}
		}
		assert.Equal(t, shown(changed), shown(copied), "%s is not copied", path)
	}
	n := 0
	leaves("", reflect.ValueOf(one()), func(string, reflect.Value) { n++ })
	for k := range n {
		changed, i, at := one(), 0, ""
		leaves("", reflect.ValueOf(changed), func(path string, leaf reflect.Value) {
			if i++; i == k+1 && path != ".Adapters" {
				at = path
				another(t, path, leaf)
			}
		})
		if at != "" {
			check(at, changed)
		}
	}
	m := 0
	leaves("", reflect.ValueOf(&one().Adapters[0]), func(string, reflect.Value) { m++ })
	for k := range m {
		changed, i, at := one(), 0, ""
		leaves(".Adapters", reflect.ValueOf(&changed.Adapters[0]), func(path string, leaf reflect.Value) {
			if i++; i == k+1 {
				at = path
				another(t, path, leaf)
			}
		})
		check(at, changed)
	}
	assert.Greater(t, paths, 60)
}

func TestListsThatDifferReadDifferently(t *testing.T) {
	seen := map[string]bool{}
	for _, l := range [][]string{{"a, b"}, {"a", "b"}, {`"a`, `b"`}, {"a b"}, {"a,b"}, nil} {
		text := list(l)
		assert.False(t, seen[text], text)
		seen[text] = true
	}
}

// A name is said once, and a heading means one column.
func TestNamesAndHeadings(t *testing.T) {
	seen := map[string]string{}
	for _, name := range Names() {
		require.NotContains(t, seen, name)
		seen[name] = name
	}
	for _, c := range All() {
		for _, h := range c.Headings {
			require.NotContains(t, seen, h, "%s and %s", c.Name, seen[h])
			seen[h] = c.Name
		}
	}
}
