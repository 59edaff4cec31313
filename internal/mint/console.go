package mint

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"io"
	"os"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// consoler is a site that gives access to consoles and screens.
type consoler interface {
	Console(ctx context.Context, id uuid.UUID, in io.Reader, out io.Writer) error
	Screen(ctx context.Context, id uuid.UUID, out io.Writer) error
}

// Console connects in and out to a machine's serial console until in ends.
func (s *Session) Console(ctx context.Context, name string, in io.Reader, out io.Writer) error {
	at, id, err := s.consoleOf(ctx, name)
	if err != nil {
		return err
	}
	return at.Console(ctx, id, in, out)
}

// Screen writes a picture of a machine's screen as PNG.
func (s *Session) Screen(ctx context.Context, name, path string) error {
	at, id, err := s.consoleOf(ctx, name)
	if err != nil {
		return err
	}
	var picture bytes.Buffer
	if err := at.Screen(ctx, id, &picture); err != nil {
		return err
	}
	decoded, err := png.Decode(bytes.NewReader(picture.Bytes()))
	if err != nil {
		if decoded, err = decodePPM(picture.Bytes()); err != nil {
			return fmt.Errorf("the site's picture of the screen cannot be read: %w", err)
		}
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600) // what is on a screen may be secret
	if err != nil {
		return err
	}
	return errors.Join(png.Encode(f, decoded), f.Close())
}

func (s *Session) consoleOf(ctx context.Context, name string) (consoler, uuid.UUID, error) {
	known, err := s.known(ctx, []string{name})
	if err != nil {
		return nil, uuid.Nil, err
	}
	if len(known) > 1 {
		return nil, uuid.Nil, fmt.Errorf("%w: %q are several", ErrNoMachine, name)
	}
	k := known[0]
	opened, err := s.site(k.Site)
	if err != nil {
		return nil, uuid.Nil, err
	}
	at, ok := opened.(consoler)
	if !ok {
		return nil, uuid.Nil, fmt.Errorf("%w: site %s gives no access to consoles", site.ErrRefused, k.Site)
	}
	return at, machine.Identity(s.Ledger.ID, k.Key, k.Generation), nil
}
