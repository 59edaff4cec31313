package mint

import (
	"bytes"
	"context"
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
	Screen(ctx context.Context, id uuid.UUID, out io.Writer) (kind string, err error)
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
	kind, err := at.Screen(ctx, id, &picture)
	if err != nil {
		return err
	}
	content := picture.Bytes()
	if kind != "image/png" {
		decoded, err := decodePPM(content)
		if err != nil {
			return fmt.Errorf("the site gives a picture of the kind %s, which cannot be read: %w", kind, err)
		}
		picture.Reset()
		if err := png.Encode(&picture, decoded); err != nil {
			return err
		}
		content = picture.Bytes()
	}
	return os.WriteFile(path, content, 0o600) // what is on a screen may be secret
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
