package sequence

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mintbatch/internal/core/machine"
)

func node(site, name, preset, role string, after ...string) Node {
	return Node{Key: machine.Key{Site: site, Name: name}, Preset: preset, After: after, Labels: map[string]string{"role": role}}
}

func TestWordsMatch(t *testing.T) {
	others := []Node{node("quay", "bms-dns-01", "dns", "dns"), node("vessel", "bms-dns-01", "dns", ""), node("quay", "bms-dns-02", "other", "dns"), node("quay", "bms-gate", "", "gate=1")}
	for word, want := range map[string][]int{
		"bms-dns-01": {0, 1}, "BMS-DNS-01": {0, 1}, "quay/bms-dns-01": {0}, "vessel/*": {1}, "quay/bms-dns-[01-12]": {0, 2}, "bms-dns-[02-04]": {2}, "bms-dns-*": {0, 1, 2}, "bms-*-0[12]": {0, 1, 2},
		"preset:dns": {0, 1}, "preset:DNS": {0, 1}, "role=dns": {0, 2}, "role=gate=1": {3}, "role=": {1}, "bms": nil, "preset:d*": nil, "rank=dns": nil,
	} {
		s := Of(append(slices.Clone(others), node("quay", "bms-app", "app", "app", word)))
		assert.Equal(t, want, s.Groups[s.After[4][0]].Members, word)
		assert.Empty(t, s.Circles(), word)
	}
}

func TestCircles(t *testing.T) {
	self := Of([]Node{node("quay", "a", "", "", "a")})
	assert.Equal(t, [][]int{{0}}, self.Circles())
	byGlob := Of([]Node{node("quay", "a-1", "", "", "a-*"), node("quay", "a-2", "", "")})
	assert.Equal(t, [][]int{{0}}, byGlob.Circles())
	three := Of([]Node{node("quay", "a", "", "", "b"), node("quay", "b", "", "", "preset:c"), node("quay", "c", "c", "", "a"), node("quay", "d", "", "", "a")})
	assert.Equal(t, [][]int{{0, 1, 2}}, three.Circles())
	users := Of([]Node{node("quay", "x", "", "", "preset:p"), node("quay", "y", "p", "", "z"), node("quay", "z", "", "", "preset:p")})
	assert.Equal(t, [][]int{{1, 2}}, users.Circles(), "the word of both is being followed already")
}

// Random batches without a circle: everybody is behind those before it, both ways, and
// the chain behind a machine is what trying every path gives. One edge back makes a circle.
func TestSortedAndBehind(t *testing.T) {
	for seed := range uint64(300) {
		chance := rand.New(rand.NewPCG(seed, 1))
		n := 2 + chance.IntN(12)
		order := chance.Perm(n)
		nodes := make([]Node, n)
		for rank, i := range order {
			var words []string
			for _, j := range order[:rank] {
				switch chance.IntN(6) {
				case 0:
					words = append(words, fmt.Sprintf("m%02d", j))
				case 1:
					words = append(words, fmt.Sprintf("role=r%d", j))
				}
			}
			nodes[i] = node("quay", fmt.Sprintf("m%02d", i), "", fmt.Sprintf("r%d", i), words...)
		}
		s := Of(nodes)
		assert.Empty(t, s.Circles(), "seed %d", seed)
		before := func(s *Sequence, i int) (all []int) {
			for _, g := range s.After[i] {
				all = append(all, s.Groups[g].Members...)
			}
			return all
		}
		for _, way := range []*Sequence{s, s.Reversed()} {
			sorted := way.Sorted()
			assert.Len(t, sorted, n)
			for i := range n {
				for _, b := range before(way, i) {
					assert.Less(t, slices.Index(sorted, b), slices.Index(sorted, i), "seed %d", seed)
				}
			}
		}
		own := func(i int) time.Duration { return time.Duration(i + 1) }
		var longest func(i int) time.Duration
		longest = func(i int) (most time.Duration) {
			for j := range n {
				if slices.Contains(before(s, j), i) {
					most = max(most, own(j)+longest(j))
				}
			}
			return most
		}
		for i, d := range s.Behind(own) {
			assert.Equal(t, longest(i), d, "seed %d", seed)
		}
		if first, last := order[0], order[n-1]; slices.Contains(reach(s, before, last), first) {
			nodes[first].After = append(nodes[first].After, nodes[last].Name)
			assert.NotEmpty(t, Of(nodes).Circles(), "seed %d", seed)
		}
	}
}

func reach(s *Sequence, before func(*Sequence, int) []int, from int) (all []int) {
	for _, b := range before(s, from) {
		all = append(append(all, b), reach(s, before, b)...)
	}
	return all
}
