package sheet

import (
	"errors"
	"fmt"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/tree"
)

// readJSON reads a list of objects, one object a line, or an object with the
// list under `machines`.
func readJSON(s Source) ([]grid, *broken) {
	text, ok := decode(s.Content)
	if !ok {
		return nil, unreadable("not text")
	}
	nodes, err := tree.JSON([]byte(text))
	if err != nil {
		return nil, syntax("JSON", err)
	}
	if len(nodes) == 1 {
		return readList(nodes[0])
	}
	return readList(&tree.Node{Kind: tree.List, Items: nodes})
}

// readYAML reads a list of mappings, or a mapping with the list under `machines`.
func readYAML(s Source) ([]grid, *broken) {
	text, ok := decode(s.Content)
	if !ok {
		return nil, unreadable("not text")
	}
	root, err := tree.YAML("", []byte(text))
	if err != nil {
		return nil, syntax("YAML", err)
	}
	if root == nil {
		root = &tree.Node{Kind: tree.List}
	}
	return readList(root)
}

func syntax(kind string, err error) *broken {
	b := unreadable("not %s: %s", kind, err)
	var at *tree.SyntaxError
	if errors.As(err, &at) {
		b.message = fmt.Sprintf("not %s: %s", kind, at.Message)
		b.at = finding.Position{Row: at.Row, Column: at.Column, Text: true}
	}
	return b
}

// maxCells bounds what aliases can make of a small file.
const maxCells = 20_000_000

// readList makes a row of each mapping; its keys are the headings.
func readList(root *tree.Node) ([]grid, *broken) {
	if root.Kind == tree.Map {
		if list := root.Get("machines"); list != nil {
			root = list
		} else {
			root = &tree.Node{Kind: tree.List, Items: []*tree.Node{root}}
		}
	}
	if root.Kind != tree.List {
		return nil, unreadable("not a list of machines")
	}
	headings := line{}
	column := map[string]int{}
	lines := make([]line, 1, len(root.Items)+1)
	cells := 0
	for i, item := range root.Items {
		if item.Kind != tree.Map {
			b := unreadable("row %d is not a mapping of columns to values", i+1)
			b.at = finding.Position{Row: item.Row, Column: item.Column, Text: true}
			return nil, b
		}
		l := line{number: i + 1}
		for _, p := range item.Pairs {
			at, known := column[p.Key]
			if !known {
				at = len(headings.cells)
				column[p.Key] = at
				headings.cells = append(headings.cells, p.Key)
			}
			text, ok := p.Value.Cell()
			if !ok {
				b := unreadable("%s is neither a value nor a list of values", p.Key)
				b.at = finding.Position{Row: p.Row, Column: p.Column, Text: true}
				return nil, b
			}
			l.set(at, text)
		}
		if cells += len(l.cells); cells > maxCells {
			return nil, tooLarge("write it without aliases", "YAML aliases expand this list beyond the limit")
		}
		lines = append(lines, l)
	}
	lines[0] = headings
	return []grid{{lines: walk(lines), named: true}}, nil
}
