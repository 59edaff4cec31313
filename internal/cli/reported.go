package cli

import "fmt"

// reported is an error of which everything was printed already.
type reported struct{ status int }

func (t *reported) Error() string { return fmt.Sprintf("exit status %d", t.status) }
