package machine_test

import (
	"net/netip"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"

	"mintbatch/internal/core/machine"
)

// TestSame changes each value of a spec that has all of them, and takes it away.
func TestSame(t *testing.T) {
	var a, b machine.Spec
	fill(reflect.ValueOf(&a).Elem(), nil)
	changes := 0
	fill(reflect.ValueOf(&b).Elem(), nil)
	assert.True(t, machine.Same(&a, &b))
	fill(reflect.ValueOf(&b).Elem(), func(path string, v reflect.Value) {
		was := reflect.New(v.Type()).Elem()
		was.Set(v)
		v.SetZero()
		assert.False(t, machine.Same(&a, &b), path)
		assert.False(t, machine.Same(&b, &a), path)
		v.Set(was)
		changes++
	})
	assert.True(t, machine.Same(&a, &b))
	assert.Greater(t, changes, 100)
}

// fill gives every value another than its zero, and hands each to try once it has one.
func fill(v reflect.Value, try func(path string, v reflect.Value)) {
	var walk func(path string, v reflect.Value)
	walk = func(path string, v reflect.Value) {
		switch v.Kind() {
		case reflect.String:
			v.SetString("x")
		case reflect.Int, reflect.Int64:
			v.SetInt(7)
		case reflect.Uint8:
			v.SetUint(7)
		case reflect.Bool:
			v.SetBool(true)
		case reflect.Pointer:
			if v.IsNil() {
				v.Set(reflect.New(v.Type().Elem()))
			}
			walk(path, v.Elem())
		case reflect.Slice:
			if v.IsNil() {
				v.Set(reflect.MakeSlice(v.Type(), 1, 1))
			}
			walk(path+"[0]", v.Index(0))
		case reflect.Map:
			value := reflect.New(v.Type().Elem()).Elem()
			fill(value, nil)
			v.Set(reflect.MakeMap(v.Type()))
			v.SetMapIndex(reflect.ValueOf("x"), value)
		case reflect.Struct:
			switch v.Interface().(type) {
			case netip.Addr:
				v.Set(reflect.ValueOf(netip.MustParseAddr("198.51.100.9")))
			case netip.Prefix:
				v.Set(reflect.ValueOf(netip.MustParsePrefix("198.51.100.9/24")))
			default:
				for i := range v.NumField() {
					walk(path+"."+v.Type().Field(i).Name, v.Field(i))
				}
			}
		default:
			panic(path)
		}
		if try != nil {
			try(path, v)
		}
	}
	walk("spec", v)
}
