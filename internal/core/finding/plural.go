package finding

import "fmt"

// Plural writes a number with its noun: 1 machine, 3 machines.
func Plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
