// Package wave divides a batch into waves, each of which is confirmed before the next
// is started.
package wave

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Sizes are those of the waves of a batch, such as `1,10%,rest`. The zero value is
// one wave of all.
type Sizes struct{ portions []portion }

type portion struct {
	count   int
	percent bool
	rest    bool
}

// ErrSizes is what every failure of Parse unwraps to.
var ErrSizes = errors.New("invalid waves")

// Parse reads counts, shares of the whole batch and, as the last, `rest`.
func Parse(s string) (Sizes, error) {
	var w Sizes
	if strings.TrimSpace(s) == "" {
		return w, nil
	}
	words := strings.Split(s, ",")
	for i, word := range words {
		word = strings.TrimSpace(word)
		if i == len(words)-1 {
			if word != "rest" {
				return Sizes{}, fmt.Errorf("%w: %q does not end with \"rest\", as in 1,10%%,rest", ErrSizes, s)
			}
			w.portions = append(w.portions, portion{rest: true})
			break
		}
		number, percent := strings.CutSuffix(word, "%")
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 || percent && n > 100 {
			return Sizes{}, fmt.Errorf("%w: %q is neither a number of machines nor a percentage such as 10%%", ErrSizes, word)
		}
		w.portions = append(w.portions, portion{count: n, percent: percent})
	}
	return w, nil
}

// String writes the waves as Parse reads them.
func (w Sizes) String() string {
	words := make([]string, len(w.portions))
	for i, p := range w.portions {
		switch words[i] = strconv.Itoa(p.count); {
		case p.rest:
			words[i] = "rest"
		case p.percent:
			words[i] += "%"
		}
	}
	return strings.Join(words, ",")
}

// UnmarshalText reads what Parse reads.
func (w *Sizes) UnmarshalText(text []byte) (err error) {
	*w, err = Parse(string(text))
	return err
}

// Expects describes sizes.
func (Sizes) Expects() string { return "the sizes of waves, such as 1,10%,rest" }

// IsZero reports whether there is one wave of all.
func (w Sizes) IsZero() bool { return len(w.portions) == 0 }

// Split divides a batch into waves, none of them empty. A share is of the whole batch,
// and at least one.
func Split[T any](w Sizes, batch []T) [][]T {
	var all [][]T
	left := batch
	for _, p := range w.portions {
		n := p.count
		switch {
		case p.rest:
			n = len(left)
		case p.percent:
			n = max(1, len(batch)*p.count/100)
		}
		if n = min(n, len(left)); n > 0 {
			all = append(all, slices.Clip(left[:n]))
			left = left[n:]
		}
	}
	if len(w.portions) == 0 && len(batch) > 0 {
		all = append(all, batch)
	}
	return all
}
