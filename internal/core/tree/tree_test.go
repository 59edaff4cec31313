package tree

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPositionsAndTexts(t *testing.T) {
	y, err := YAML("m.yaml", []byte("a: &x 012\nb: [*x, yes]\nc: {d: ~}\n<<: {e: 1}\n"))
	require.NoError(t, err)
	assert.Equal(t, "012", y.Get("a").Text)
	list, ok := y.Get("b").Cell()
	assert.True(t, ok)
	assert.Equal(t, "012\nyes", list)
	assert.Equal(t, Null, y.Get("c").Get("d").Kind)
	assert.Equal(t, "1", y.Get("e").Text)
	assert.Equal(t, 3, y.Get("c").Pairs[0].Row)

	j, err := JSON([]byte("{\"a\": 1e3, \"b\": [true, null]}\n{\"c\": 12345678901234567890}"))
	require.NoError(t, err)
	require.Len(t, j, 2)
	assert.Equal(t, "1000", j[0].Get("a").Text)
	assert.Equal(t, "12345678901234567890", j[1].Get("c").Text)
	assert.Equal(t, 2, j[1].Pairs[0].Row)
}

func TestSyntaxErrorsSayWhere(t *testing.T) {
	for text, row := range map[string]int{"[{\"a\": 1,\n\"b\" 2}]": 2, "{\"a\": }": 1, strings.Repeat("[", 200): 1} {
		_, err := JSON([]byte(text))
		var at *SyntaxError
		require.True(t, errors.As(err, &at), text)
		assert.Equal(t, row, at.Row, text)
	}
	for _, text := range []string{"a: *nowhere", "a: &a [*a]", "a: [", "a: b: c"} {
		_, err := YAML("m", []byte(text))
		assert.Error(t, err, text)
	}
}

// What is written to keep a parser busy is refused at once.
func TestHostileYAML(t *testing.T) {
	for _, text := range []string{"[", "{", "- ", "&a ", "!x ", "a: ", "? ", "\""} {
		_, err := YAML("m", []byte(strings.Repeat(text, 300_000)))
		assert.Error(t, err, text)
	}
	_, err := YAML("m", []byte(strings.Repeat("\"\n", 300_000)))
	assert.Error(t, err)
}

func TestMerge(t *testing.T) {
	below, _ := YAML("a", []byte("x: {k: 1, l: [1, 2]}\ny: 2\n"))
	above, _ := YAML("b", []byte("x: {l: [3], m: 4}\nz: 5\n"))
	m := Merge(below, above)
	list, _ := m.Get("x").Get("l").Cell()
	assert.Equal(t, "1 3 4 2 5", strings.Join([]string{m.Get("x").Get("k").Text, list, m.Get("x").Get("m").Text, m.Get("y").Text, m.Get("z").Text}, " "))
	assert.Equal(t, "b", m.Get("x").Get("l").File, "a value knows the file it came from")
	assert.Equal(t, "a", m.Get("y").File)
}

func FuzzYAML(f *testing.F) {
	f.Add([]byte("a: &x [1, *x]\n"))
	f.Fuzz(func(_ *testing.T, b []byte) {
		if n, err := YAML("m", b); err == nil && n != nil {
			_, _ = n.Cell()
			Merge(n, n)
		}
	})
}

func FuzzJSON(f *testing.F) {
	f.Add([]byte(`{"a": [1, "x", null]}`))
	f.Fuzz(func(_ *testing.T, b []byte) { _, _ = JSON(b) })
}
