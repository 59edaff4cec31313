package glob

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"mintbatch/internal/core/machine"
)

func TestMatch(t *testing.T) {
	for pattern, c := range map[string]struct{ has, lacks string }{
		"bms-[01-08]":             {"bms-01 bms-08", "bms-00 bms-09 bms-1 bms-001 bms-0 bms-"},
		"bms-[8-12]":              {"bms-8 bms-12", "bms-08 bms-1 bms-2 bms-13"},
		"bms-[000-120]-x":         {"bms-007-x bms-120-x", "bms-7-x bms-121-x bms-007"},
		"*-[01-02]*":              {"a-01 a-02-b", "a-03 a-1"},
		"[quay,vessel]-[01-03,7]": {"quay-02 vessel-7", "quay-07 pier-01 quay-vessel-01"},
		"bms-[12]":                {"bms-1 bms-2", "bms-12"},
		"bms-[1-3]":               {"bms-1 bms-3", "bms-13"},
		"bms-[^0-9]?":             {"bms-ab", "bms-01"},
		`bms-\[01-02]`:            {"bms-[01-02]", "bms-01"},
		"bms-[01-02][a-c]":        {"bms-01a", "bms-01 bms-03a"},
	} {
		assert.True(t, Valid(pattern), pattern)
		for _, name := range strings.Fields(c.has) {
			assert.True(t, Match([]string{pattern}, name), "%s %s", pattern, name)
		}
		for _, name := range strings.Fields(c.lacks) {
			assert.False(t, Match([]string{pattern}, name), "%s %s", pattern, name)
		}
	}
	for _, pattern := range []string{"bms-[01-", "bms-[08-01]", "[01-02][", `x\`} {
		assert.False(t, Valid(pattern), pattern)
	}
}

// What a sheet calls a range has the same names here; what has no brackets with numbers is a glob as ever.
func FuzzMatch(f *testing.F) {
	f.Add("bms-[08-11]", "bms-09", 1)
	f.Add("[a,b]-[1-10]*", "a-10", 3)
	f.Add(`\[01-02]`, "[01-02]", 0)
	f.Fuzz(func(t *testing.T, pattern, name string, i int) {
		if len(pattern) > 80 || len(name) > 80 {
			return
		}
		got := Match([]string{pattern}, name)
		_, _, _, ranges := cut(pattern)
		if !ranges {
			want, _ := path.Match(pattern, name)
			assert.Equal(t, want, got)
			return
		}
		span, err := machine.ParseSpan(pattern)
		if err == nil && i >= 0 && i < span.Count() {
			assert.True(t, span.Has(span.Name(i)), span.Name(i))
			if before, _, after, _ := cut(pattern); !strings.ContainsAny(before+after, `[*?\`) {
				assert.True(t, Match([]string{pattern}, span.Name(i)), span.Name(i))
			}
		}
	})
}
