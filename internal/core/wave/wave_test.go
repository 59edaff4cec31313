package wave

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWaves(t *testing.T) {
	for text, sizes := range map[string][]int{"": {40}, "1,10%,rest": {1, 4, 35}, "5,100%,rest": {5, 35}, "1%,rest": {1, 39}, " 39 , rest": {39, 1}, "rest": {40}} {
		w, err := Parse(text)
		require.NoError(t, err, text)
		var got []int
		seen := 0
		for _, wave := range Split(w, make([]string, 40)) {
			got = append(got, len(wave))
			seen += len(wave)
		}
		assert.Equal(t, sizes, got, text)
		assert.Equal(t, 40, seen)
		assert.Empty(t, Split[string](w, nil))
	}
	for _, text := range []string{"1", "1,10%", "0,rest", "-1,rest", "101%,rest", "rest,1", "x,rest", ",rest", "%,rest"} {
		_, err := Parse(text)
		assert.ErrorIs(t, err, ErrSizes, text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("1,10%,rest")
	f.Fuzz(func(t *testing.T, text string) {
		w, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(w.String())
		require.NoError(t, err)
		assert.Equal(t, w, again)
	})
}
