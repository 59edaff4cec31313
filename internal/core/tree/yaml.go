package tree

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// YAML reads the first document of a file; nil if there is none. An alias is the very
// node of its anchor, so that aliases of aliases take no memory; whoever walks
// the tree has to count.
func YAML(name string, content []byte) (*Node, error) {
	if len(content) > maxYAML {
		return nil, &SyntaxError{Message: fmt.Sprintf("more than %d MiB of YAML", maxYAML>>20)}
	}
	if err := unreasonable(content); err != nil {
		return nil, err
	}
	file, err := parser.ParseBytes(content, 0)
	if err != nil {
		return nil, syntaxError(err)
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, nil
	}
	b := builder{file: name, anchors: map[string]*Node{}}
	n := b.node(file.Docs[0].Body)
	if b.err != nil {
		return nil, b.err
	}
	return n, nil
}

// What is more than this is meant for the parser's time and not for a reader.
const (
	maxYAML = 16 << 20
	maxLine = 64 << 10
)

// unreasonable refuses lines that are longer, or nested deeper, than anybody
// means, and on which the parser would spend its time.
func unreasonable(content []byte) error {
	row, open := 0, 0
	for line := range bytes.Lines(content) {
		row++
		if len(line) > maxLine {
			return &SyntaxError{row, 1, fmt.Sprintf("a line of more than %d characters", maxLine)}
		}
		opened := 0
		for word := range bytes.FieldsSeq(line) {
			last := word[len(word)-1]
			if last != ':' && word[0] != '&' && word[0] != '!' && !bytes.Equal(word, []byte("-")) && !bytes.Equal(word, []byte("?")) {
				break
			}
			opened++
		}
		for _, c := range line {
			switch c {
			case '[', '{':
				open++
			case ']', '}':
				open = max(open-1, 0)
			}
		}
		if opened > maxDepth || open > 2*maxDepth {
			return &SyntaxError{row, 1, fmt.Sprintf("nested deeper than %d", maxDepth)}
		}
	}
	return nil
}

func syntaxError(err error) error {
	e := &SyntaxError{Message: err.Error()}
	var at yaml.Error
	if errors.As(err, &at) {
		e.Message = at.GetMessage()
		if t := at.GetToken(); t != nil {
			e.Row, e.Column = t.Position.Line, t.Position.Column
		}
	}
	return e
}

type builder struct {
	file    string
	anchors map[string]*Node
	err     error
}

func (b *builder) fail(n ast.Node, message string) {
	if b.err == nil {
		b.err = &SyntaxError{n.GetToken().Position.Line, n.GetToken().Position.Column, message}
	}
}

func (b *builder) node(n ast.Node) *Node {
	out := &Node{File: b.file}
	if n == nil {
		return out
	}
	if t := n.GetToken(); t != nil {
		out.Row, out.Column = t.Position.Line, t.Position.Column
	}
	switch t := n.(type) {
	case *ast.AnchorNode:
		inner := b.node(t.Value)
		b.anchors[t.Name.GetToken().Value] = inner
		return inner
	case *ast.AliasNode:
		target, ok := b.anchors[t.Value.GetToken().Value]
		if !ok {
			b.fail(n, "an alias without an anchor above it")
			return out
		}
		return target
	case *ast.TagNode:
		return b.node(t.Value)
	case *ast.NullNode, *ast.CommentGroupNode:
	case *ast.MappingNode:
		b.pairs(out, t.Values)
	case *ast.MappingValueNode:
		b.pairs(out, []*ast.MappingValueNode{t})
	case *ast.SequenceNode:
		out.Kind = List
		for _, v := range t.Values {
			if text, ok := colonInside(v); ok && t.IsFlowStyle {
				v = text
			}
			out.Items = append(out.Items, b.node(v))
		}
	case *ast.LiteralNode:
		out.Kind, out.Text = Text, t.Value.Value
	case *ast.StringNode:
		out.Kind, out.Text = Text, t.Value
	case ast.ScalarNode:
		out.Kind, out.Text = Text, n.GetToken().Value
	default:
		b.fail(n, "not a value")
	}
	return out
}

// colonInside puts a plain scalar with a colon in it, such as x:y in [x:y], together
// again, which the parser takes for a mapping where it stands within one.
func colonInside(n ast.Node) (ast.Node, bool) {
	pair, ok := n.(*ast.MappingValueNode)
	if all, is := n.(*ast.MappingNode); is && len(all.Values) == 1 && !all.IsFlowStyle {
		pair, ok = all.Values[0], true
	}
	if !ok || pair.Start == nil || pair.Value == nil {
		return nil, false
	}
	key, plain := pair.Key.(*ast.StringNode)
	value, scalar := pair.Value.(ast.ScalarNode)
	if !plain || !scalar || key.Token.Type != token.StringType || value.GetToken().Position.Offset != pair.Start.Position.Offset+1 {
		return nil, false
	}
	joined := *key
	joined.Value = key.Value + ":" + value.GetToken().Value
	return &joined, true
}

func (b *builder) pairs(out *Node, values []*ast.MappingValueNode) {
	out.Kind = Map
	for _, v := range values {
		at := v.Key.GetToken()
		if v.Key.IsMergeKey() {
			merged := b.node(v.Value)
			for _, p := range merged.Pairs {
				if out.Get(p.Key) == nil {
					out.Pairs = append(out.Pairs, p)
				}
			}
			continue
		}
		out.Pairs = append(out.Pairs, Pair{Key: at.Value, Value: b.node(v.Value), File: b.file, Row: at.Position.Line, Column: at.Position.Column})
	}
	if len(out.Pairs) > 0 {
		out.Row, out.Column = out.Pairs[0].Row, out.Pairs[0].Column
	}
}
