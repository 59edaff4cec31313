package proof

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Waves say in which portions a batch is minted, such as `1,10%,rest`: each is
// done before the next is begun. The zero value is one wave of all.
type Waves struct{ portions []portion }

type portion struct {
	count   int
	percent bool
	rest    bool
}

// ErrWaves is what every failure of ParseWaves unwraps to.
var ErrWaves = errors.New("not waves")

// ParseWaves reads counts, shares of the whole batch and, as the last, `rest`.
func ParseWaves(s string) (Waves, error) {
	var w Waves
	if strings.TrimSpace(s) == "" {
		return w, nil
	}
	words := strings.Split(s, ",")
	for i, word := range words {
		word = strings.TrimSpace(word)
		if i == len(words)-1 {
			if word != "rest" {
				return Waves{}, fmt.Errorf("%w: %q does not end with rest, as 1,10%%,rest does", ErrWaves, s)
			}
			w.portions = append(w.portions, portion{rest: true})
			break
		}
		number, percent := strings.CutSuffix(word, "%")
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 || percent && n > 100 {
			return Waves{}, fmt.Errorf("%w: %q is no count of machines, nor a share such as 10%%", ErrWaves, word)
		}
		w.portions = append(w.portions, portion{count: n, percent: percent})
	}
	return w, nil
}

// String writes the waves as ParseWaves reads them.
func (w Waves) String() string {
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

// Split cuts works into waves, none of them empty. A share is of all works, and
// at least one machine.
func (w Waves) Split(works []Work) [][]Work {
	var all [][]Work
	left := works
	for _, p := range w.portions {
		n := p.count
		switch {
		case p.rest:
			n = len(left)
		case p.percent:
			n = max(1, len(works)*p.count/100)
		}
		if n = min(n, len(left)); n > 0 {
			all = append(all, slices.Clip(left[:n]))
			left = left[n:]
		}
	}
	if len(w.portions) == 0 && len(works) > 0 {
		all = append(all, works)
	}
	return all
}
