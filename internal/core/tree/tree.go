// Package tree reads YAML and JSON into one plain tree, in which every value
// is the text that was written and knows where it stands.
package tree

import (
	"fmt"
	"strings"
)

// Kind is what a Node is.
type Kind int

// The kinds of a Node.
const (
	Null Kind = iota
	Text
	List
	Map
)

// Node is a value. A scalar is the text as it is written: 012 stays 012, and
// what it means is for its reader to say.
type Node struct {
	Kind        Kind
	Text        string
	Items       []*Node
	Pairs       []Pair
	File        string
	Row, Column int // from 1
}

// Pair is a key of a Map with its value.
type Pair struct {
	Key         string
	Value       *Node
	File        string
	Row, Column int // of the key
}

// SyntaxError says where a text stops making sense.
type SyntaxError struct {
	Row, Column int // 0 if it is not known
	Message     string
}

// Error gives position and message in one line.
func (e *SyntaxError) Error() string { return fmt.Sprintf("%d:%d: %s", e.Row, e.Column, e.Message) }

// Get returns the value of a key; nil if a map has none.
func (n *Node) Get(key string) *Node {
	for _, p := range n.Pairs {
		if p.Key == key {
			return p.Value
		}
	}
	return nil
}

// Merge lays one tree over another: a map's keys over the keys below, anything
// else in place of what is below.
func Merge(below, above *Node) *Node {
	if below == nil || below.Kind != Map || above.Kind != Map {
		return above
	}
	merged := *above
	merged.Pairs = nil
	over := map[string]*Node{}
	for _, p := range above.Pairs {
		over[p.Key] = p.Value
	}
	for _, p := range below.Pairs {
		if value, ok := over[p.Key]; ok {
			p.Value = Merge(p.Value, value)
			delete(over, p.Key)
		}
		merged.Pairs = append(merged.Pairs, p)
	}
	for _, p := range above.Pairs {
		if _, left := over[p.Key]; left {
			merged.Pairs = append(merged.Pairs, p)
		}
	}
	return &merged
}

// Cell returns a value as the text of a cell: a list is a cell of several
// lines, a map one of `name=value` words, with quotes around a value that is not one
// word. Anything deeper is no cell.
func (n *Node) Cell() (text string, ok bool) {
	var parts []string
	for _, item := range n.Items {
		if item.Kind > Text {
			return "", false
		}
		parts = append(parts, item.Text)
	}
	for _, p := range n.Pairs {
		if p.Value.Kind > Text {
			return "", false
		}
		parts = append(parts, p.Key+"="+quoted(p.Value.Text))
	}
	if n.Kind > Text {
		return strings.Join(parts, "\n"), true
	}
	return n.Text, true
}

func quoted(s string) string {
	if !strings.ContainsAny(s, " \t\n\r,;\"") {
		return s
	}
	return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
}
