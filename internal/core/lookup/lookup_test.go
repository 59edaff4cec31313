package lookup

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestElementsAreFoundByTheirKeys(t *testing.T) {
	for list, want := range map[string]map[string][]int32{
		"":              {"a": {}},
		"b":             {"a": {}, "b": {0}, "c": {}},
		"c a b a c a d": {"a": {1, 3, 5}, "b": {2}, "c": {0, 4}, "d": {6}, "": {}, "bb": {}, "e": {}},
	} {
		all := strings.Fields(list)
		x := New(len(all), func(i int) string { return all[i] }, strings.Compare)
		for range 3 {
			for _, key := range all { // one after the other
				assert.Contains(t, x.All(key), int32(slices.Index(all, key)))
			}
		}
		for key, places := range want {
			assert.Equal(t, places, append([]int32{}, x.All(key)...), "%q in %q", key, list)
			first, found := x.Find(key)
			assert.Equal(t, len(places) > 0, found)
			if found {
				assert.EqualValues(t, places[0], first)
			}
		}
	}
}
