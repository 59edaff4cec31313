package inspect

import "mintbatch/internal/core/tree"

// config is what a file in YAML says; nothing if it cannot be read.
func config(name, text string) *tree.Node {
	n, err := tree.YAML(name, []byte(text))
	if err != nil || n == nil || n.Kind != tree.Map {
		return &tree.Node{}
	}
	return n
}

// items are the texts of a list. An item that is a list itself stands for its first.
func items(n *tree.Node) []string {
	all := []string{}
	for _, item := range n.Items {
		if item.Kind == tree.List && len(item.Items) > 0 {
			item = item.Items[0]
		}
		all = append(all, item.Text)
	}
	return all
}
