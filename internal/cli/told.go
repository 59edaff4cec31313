package cli

import "fmt"

// told is an error of which everything was printed already.
type told struct{ status int }

func (t *told) Error() string { return fmt.Sprintf("exit status %d", t.status) }
