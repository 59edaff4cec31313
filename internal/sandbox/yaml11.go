package sandbox

import (
	"fmt"
	"regexp"

	"go.yaml.in/yaml/v3"

	"mintbatch/internal/core/pattern"
)

// A guest reads YAML 1.1. The library reads the syntax; what an unquoted
// scalar means is decided here by the types that YAML 1.1 defines (yaml.org/type)
// in the forms that the usual reader of Linux guests takes: yes is a boolean,
// 012 is ten, 1:30 is ninety.
var scalars11 = []struct {
	name string
	form func() *regexp.Regexp
}{
	{"bool", pattern.Lazy(`^(?:yes|Yes|YES|no|No|NO|true|True|TRUE|false|False|FALSE|on|On|ON|off|Off|OFF)$`)},
	{"int", pattern.Lazy(`^(?:[-+]?0b[0-1_]+|[-+]?0[0-7_]+|[-+]?(?:0|[1-9][0-9_]*)|[-+]?0x[0-9a-fA-F_]+|[-+]?[1-9][0-9_]*(?::[0-5]?[0-9])+)$`)},
	{"float", pattern.Lazy(`^(?:[-+]?(?:[0-9][0-9_]*)\.[0-9_]*(?:[eE][-+][0-9]+)?|\.[0-9][0-9_]*(?:[eE][-+][0-9]+)?|[-+]?[0-9][0-9_]*(?::[0-5]?[0-9])+\.[0-9_]*|[-+]?\.(?:inf|Inf|INF)|\.(?:nan|NaN|NAN))$`)},
	{"null", pattern.Lazy(`^(?:~|null|Null|NULL|)$`)},
	{"timestamp", pattern.Lazy(`^\d{4}-\d\d?-\d\d?(?:(?:[Tt]|[ \t]+)\d\d?:\d\d:\d\d(?:\.\d*)?(?:[ \t]*(?:Z|[-+]\d\d?(?::\d\d)?))?)?$`)},
	{"merge", pattern.Lazy(`^<<$`)},
}

// typed is a scalar that is not text.
type typed struct{ kind, text string }

// parse11 reads a document into map[string]any, []any, string and typed.
func parse11(content []byte) (any, error) {
	var n yaml.Node
	if err := yaml.Unmarshal(content, &n); err != nil {
		return nil, err
	}
	if len(n.Content) == 0 {
		return nil, fmt.Errorf("the document is empty")
	}
	return value11(n.Content[0])
}

func value11(n *yaml.Node) (any, error) {
	switch n.Kind {
	case yaml.MappingNode:
		m := map[string]any{}
		for i := 0; i < len(n.Content); i += 2 {
			key, isText := scalar11(n.Content[i]).(string)
			if !isText {
				return nil, fmt.Errorf("line %d: the key %s is not text", n.Content[i].Line, n.Content[i].Value)
			}
			v, err := value11(n.Content[i+1])
			if err != nil {
				return nil, err
			}
			m[key] = v
		}
		return m, nil
	case yaml.SequenceNode:
		list := make([]any, len(n.Content))
		for i, c := range n.Content {
			v, err := value11(c)
			if err != nil {
				return nil, err
			}
			list[i] = v
		}
		return list, nil
	case yaml.ScalarNode:
		return scalar11(n), nil
	}
	return nil, fmt.Errorf("line %d: an alias", n.Line)
}

func scalar11(n *yaml.Node) any {
	if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		return n.Value
	}
	for _, s := range scalars11 {
		if s.form().MatchString(n.Value) {
			return typed{s.name, n.Value}
		}
	}
	return n.Value
}
