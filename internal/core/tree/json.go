package tree

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"sort"
)

// maxDepth bounds how deep JSON may be nested.
const maxDepth = 100

// JSON reads all values of a text: one, or several as in JSON Lines.
func JSON(content []byte) ([]*Node, error) {
	p := jsonParser{d: json.NewDecoder(bytes.NewReader(content))}
	p.d.UseNumber()
	for i, c := range content {
		if c == '\n' {
			p.breaks = append(p.breaks, int64(i))
		}
	}
	var all []*Node
	for {
		t, err := p.d.Token()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		var n *Node
		if err == nil {
			n, err = p.node(t, 0)
		}
		if err != nil {
			row, column := p.at()
			return nil, &SyntaxError{row, column, err.Error()}
		}
		all = append(all, n)
	}
}

type jsonParser struct {
	d      *json.Decoder
	breaks []int64 // offsets of the line feeds
}

// at is where the last token ended.
func (p *jsonParser) at() (row, column int) {
	offset := p.d.InputOffset()
	row = sort.Search(len(p.breaks), func(i int) bool { return p.breaks[i] >= offset })
	column = int(offset)
	if row > 0 {
		column = int(offset - p.breaks[row-1] - 1)
	}
	return row + 1, max(column, 1)
}

func (p *jsonParser) node(t json.Token, depth int) (*Node, error) {
	n := &Node{}
	n.Row, n.Column = p.at()
	if depth > maxDepth {
		return nil, fmt.Errorf("nested deeper than %d", maxDepth)
	}
	switch v := t.(type) {
	case nil:
	case string:
		n.Kind, n.Text = Text, v
	case json.Delim:
		n.Kind = List
		if v == '{' {
			n.Kind = Map
		}
		return n, p.inside(n, depth)
	case json.Number:
		n.Kind, n.Text = Text, plain(v.String())
	default:
		n.Kind, n.Text = Text, fmt.Sprint(v)
	}
	return n, nil
}

// plain writes a whole number without an exponent: what a program wrote as
// 1e11 is no text that a person meant.
func plain(number string) string {
	r, ok := new(big.Rat).SetString(number)
	if len(number) > 30 || !ok || !r.IsInt() || len(r.Num().String()) > 40 {
		return number
	}
	return r.Num().String()
}

func (p *jsonParser) inside(n *Node, depth int) error {
	keys := map[string]bool{}
	for p.d.More() {
		var pair Pair
		if n.Kind == Map {
			t, err := p.d.Token()
			if err != nil {
				return err
			}
			pair.Key, _ = t.(string)
			if keys[pair.Key] {
				return fmt.Errorf("key %q is there twice", pair.Key)
			}
			keys[pair.Key] = true
			pair.Row, pair.Column = p.at()
		}
		t, err := p.d.Token()
		if err != nil {
			return err
		}
		value, err := p.node(t, depth+1)
		if err != nil {
			return err
		}
		if n.Kind == Map {
			pair.Value = value
			n.Pairs = append(n.Pairs, pair)
		} else {
			n.Items = append(n.Items, value)
		}
	}
	_, err := p.d.Token()
	return err
}
