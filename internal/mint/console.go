package mint

import (
	"bytes"
	"context"
	"fmt"
	"image/png"
	"io"

	"github.com/google/uuid"

	"mintbatch/internal/core/glob"
	"mintbatch/internal/output"
	"mintbatch/internal/site"
)

// consoler is a site that gives access to consoles and screens.
type consoler interface {
	Console(ctx context.Context, id uuid.UUID, in io.Reader, out io.Writer) error
	Screen(ctx context.Context, id uuid.UUID, out io.Writer) error
}

// Console connects in and out to a machine's serial console until in ends.
func (d *Desk) Console(ctx context.Context, name string, in io.Reader, out io.Writer) error {
	at, id, err := d.consoleOf(ctx, name)
	if err != nil {
		return err
	}
	return at.Console(ctx, id, in, out)
}

// Screen writes a picture of a machine's screen as PNG.
func (d *Desk) Screen(ctx context.Context, name, path string, over output.Over) error {
	guard := d.Guard()
	if err := guard.Check(path, over); err != nil {
		return err
	}
	at, id, err := d.consoleOf(ctx, name)
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
			return fmt.Errorf("cannot read the screenshot from the site: %w", err)
		}
	}
	var encoded bytes.Buffer
	if err := png.Encode(&encoded, decoded); err != nil {
		return err
	}
	return guard.Write(path, encoded.Bytes(), over, 0o600) // what is on a screen may be secret
}

func (d *Desk) consoleOf(ctx context.Context, name string) (consoler, uuid.UUID, error) {
	known, err := d.Known(ctx, []string{name})
	if err != nil {
		return nil, uuid.Nil, err
	}
	if len(known) > 1 {
		return nil, uuid.Nil, fmt.Errorf("%w: %q matches several machines", glob.ErrNoMatch, name)
	}
	k := known[0]
	opened, err := d.Sites.Site(k.Site)
	if err != nil {
		return nil, uuid.Nil, err
	}
	at, ok := opened.(consoler)
	if !ok {
		return nil, uuid.Nil, fmt.Errorf("%w: site %s gives no access to consoles", site.ErrRefused, k.Site)
	}
	return at, k.ID(d.Ledger.ID), nil
}
