package input

import (
	"slices"
	"sync"
)

// noted is a set of names in the order in which they came. Values of a setup are fetched side by side while a run goes on.
type noted struct {
	mu    sync.Mutex
	names []string
}

func (n *noted) add(name string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if !slices.Contains(n.names, name) {
		n.names = append(n.names, name)
	}
}

// all is a copy of them.
func (n *noted) all() []string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return slices.Clone(n.names)
}
