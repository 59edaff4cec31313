package ledger

import "fmt"

// explain makes an error of the ledger of what went wrong with its database.
func (l *Ledger) explain(err error) error { return explain(l.store, err) }

func explain(s store, err error) error {
	if s.explain != nil {
		if what, ok := s.explain(err); ok {
			return fmt.Errorf("%w: %s: %s", ErrLedger, s.name, what)
		}
	}
	return fmt.Errorf("%w: %s: %w", ErrLedger, s.name, err)
}
