package internal

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sentence is text with at least two words; machineText is what looks like one and is
// read by a program.
var (
	sentence    = regexp.MustCompile(`[A-Za-z"'%\d)…:,;][ ]+[A-Za-z"'(%…]`)
	machineText = regexp.MustCompile(`^\s*(SELECT|INSERT|UPDATE|DELETE|CREATE|WITH|PRAGMA|BEGIN|COMMIT|ALTER|DROP|SAVEPOINT|ROLLBACK|RELEASE|VACUUM|LISTEN|SET|FROM|WHERE|ORDER BY|AND|ON CONFLICT|#!|<|\$|\{\{|#cloud)`)
)

// text writes a string expression as one template, what is put in as "…". It
// is false for an expression without a literal.
func text(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		s, err := strconv.Unquote(e.Value)
		return s, e.Kind == token.STRING && err == nil
	case *ast.ParenExpr:
		return text(e.X)
	case *ast.BinaryExpr:
		left, l := text(e.X)
		right, r := text(e.Y)
		if e.Op != token.ADD || !l && !r {
			return "…", false
		}
		return left + right, true
	}
	return "…", false
}

// collector gathers the sentences of a file by what they are.
type collector struct {
	kinds map[string][]string
	seen  map[string]bool
}

func (c *collector) add(kind string, e ast.Expr) {
	s, ok := text(e)
	if ok && sentence.MatchString(s) && !machineText.MatchString(s) {
		c.line(kind, s)
	}
}

func (c *collector) line(kind, s string) {
	s = strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r <= ' ' }), " ")
	if !c.seen[kind+s] {
		c.seen[kind+s] = true
		c.kinds[kind] = append(c.kinds[kind], s)
	}
}

func (c *collector) Visit(n ast.Node) ast.Visitor {
	switch n := n.(type) {
	case *ast.ImportSpec:
		return nil
	case *ast.Field:
		if n.Tag != nil {
			tag, _ := strconv.Unquote(n.Tag.Value)
			if doc := reflect.StructTag(tag).Get("doc"); doc != "" {
				c.line("Keys", "`"+reflect.StructTag(tag).Get("key")+"`: "+doc)
			}
		}
		return nil
	case *ast.KeyValueExpr:
		if key, ok := n.Key.(*ast.Ident); ok {
			switch key.Name {
			case "Usage", "UsageText", "ArgsUsage", "Description", "DefaultText":
				c.add("Usage", n.Value)
				return nil
			case "Message":
				c.sub("Findings", n.Value)
				return nil
			case "Hint":
				c.sub("Hints", n.Value)
				return nil
			}
		}
	case *ast.CallExpr:
		name := called(n)
		switch {
		case name == "pattern.Lazy":
			return nil
		case name == "fmt.Errorf" || name == "errors.New":
			c.sub("Errors", n.Args[0])
			for _, a := range n.Args[1:] {
				ast.Walk(c, a)
			}
			return nil
		}
	case *ast.BinaryExpr:
		if _, ok := text(n); ok {
			c.add("Other", n)
			return nil
		}
	case *ast.BasicLit:
		c.add("Other", n)
	}
	return c
}

// sub files everything below an expression under one kind.
func (c *collector) sub(kind string, e ast.Expr) {
	ast.Inspect(e, func(n ast.Node) bool {
		if b, ok := n.(*ast.BinaryExpr); ok {
			if _, ok := text(b); ok {
				c.add(kind, b)
				return false
			}
		}
		if l, ok := n.(*ast.BasicLit); ok {
			c.add(kind, l)
		}
		return true
	})
}

func called(c *ast.CallExpr) string {
	if s, ok := c.Fun.(*ast.SelectorExpr); ok {
		if x, ok := s.X.(*ast.Ident); ok {
			return x.Name + "." + s.Sel.Name
		}
	}
	return ""
}

// Every sentence of the program stands in docs/messages.md, so that all can be read in
// one go: `go test ./internal -run Messages -update` writes it anew.
func TestMessages(t *testing.T) {
	var out bytes.Buffer
	out.WriteString("# Messages\n\nEvery sentence that the program can say, by package: what stands in for a value is a verb such as `%s`, or `…`.\nMade by `go test ./internal -run Messages -update`.\n")
	packages := map[string]*collector{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		dir := filepath.ToSlash(filepath.Dir(path))
		if dir == "ledger/servertest" {
			return nil
		}
		if packages[dir] == nil {
			packages[dir] = &collector{kinds: map[string][]string{}, seen: map[string]bool{}}
		}
		ast.Walk(packages[dir], file)
		return nil
	})
	require.NoError(t, err)
	dirs := []string{}
	for dir := range packages {
		dirs = append(dirs, dir)
	}
	slices.Sort(dirs)
	for _, dir := range dirs {
		for _, kind := range []string{"Usage", "Keys", "Findings", "Hints", "Errors", "Other"} {
			if lines := packages[dir].kinds[kind]; len(lines) > 0 {
				fmt.Fprintf(&out, "\n## %s: %s\n\n    %s\n", dir, strings.ToLower(kind), strings.Join(lines, "\n    "))
			}
		}
	}
	const path = "../docs/messages.md"
	if *update {
		require.NoError(t, os.WriteFile(path, out.Bytes(), 0o644))
		return
	}
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, string(content) == out.String(), "docs/messages.md is not up to date: go test ./internal -run Messages -update")
}
