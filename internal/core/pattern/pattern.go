// Package pattern has regular expressions that cost nothing until they are used.
package pattern

import (
	"regexp"
	"sync"
)

// Lazy compiles an expression when it is first asked for.
func Lazy(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}
