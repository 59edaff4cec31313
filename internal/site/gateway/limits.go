package gateway

import "fmt"

// What a site with 200,000 machines says is less than this. More is no answer, and
// would only take this program's memory.
const (
	mostAnswer = 256 << 20 // bytes, once they are unpacked
	mostItems  = 300_000   // in one list or object
	mostValues = 30_000_000
	mostDepth  = 64
)

// reasonable looks through JSON, without reading it, for more than any site has.
func reasonable(content []byte) error {
	var items [mostDepth]int
	depth, values := 0, 0
	text := false
	for i := 0; i < len(content); i++ {
		switch c := content[i]; {
		case text:
			if c == '\\' {
				i++
			}
			text = c != '"'
		case c == '"':
			text = true
		case c == '[' || c == '{':
			if depth++; depth == mostDepth {
				return fmt.Errorf("it is nested deeper than %d", mostDepth)
			}
			items[depth] = 0
		case c == ']' || c == '}':
			depth = max(depth-1, 0)
		case c == ',':
			items[depth]++
			if values++; items[depth] > mostItems || values > mostValues {
				return fmt.Errorf("it has more than %d values, or more than %d in one list", mostValues, mostItems)
			}
		}
	}
	return nil
}
