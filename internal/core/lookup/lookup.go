// Package lookup finds elements of long lists by their keys, in little memory.
package lookup

import (
	"cmp"
	"slices"
	"sort"
)

// Index finds the elements of a list that is not changed meanwhile. It takes four bytes for each. It is for one goroutine at a time.
type Index[K any] struct {
	order   []int32 // their places, by key and then by place
	next    int     // in order, behind what was found last: often that is looked for next
	key     func(place int) K
	compare func(a, b K) int
}

// New makes the index of a list of n elements, whose keys key tells.
func New[K any](n int, key func(place int) K, compare func(a, b K) int) *Index[K] {
	order := make([]int32, n)
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortFunc(order, func(a, b int32) int { return cmp.Or(compare(key(int(a)), key(int(b))), cmp.Compare(a, b)) })
	return &Index[K]{order: order, key: key, compare: compare}
}

// All are the places of the elements of a key, from the first. They are not to be changed.
func (x *Index[K]) All(key K) []int32 {
	from := x.next
	if from == len(x.order) || x.against(from, key) != 0 {
		from = sort.Search(len(x.order), func(i int) bool { return x.against(i, key) >= 0 })
	}
	for x.next = from; x.next < len(x.order) && x.against(x.next, key) == 0; x.next++ {
	}
	return x.order[from:x.next]
}

// Find is the place of the first element of a key.
func (x *Index[K]) Find(key K) (place int, found bool) {
	all := x.All(key)
	if len(all) == 0 {
		return 0, false
	}
	return int(all[0]), true
}

// against compares the key of the i-th in order with another.
func (x *Index[K]) against(i int, key K) int { return x.compare(x.key(int(x.order[i])), key) }
