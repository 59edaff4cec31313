package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/site"
)

// consoles listens to the serial consoles of machines that were started, so
// that what a guest said last can be told when it does not report.
type consoles struct {
	mu  sync.Mutex
	all map[uuid.UUID]*tail
}

// watch begins to listen, unless it does already. Whoever opens the console
// himself takes it over; nothing more is heard then.
func (c *consoles) watch(d *domain, id uuid.UUID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all == nil {
		c.all = map[uuid.UUID]*tail{}
	}
	if c.all[id] != nil {
		return
	}
	t := &tail{}
	c.all[id] = t
	go func() {
		if l, err := d.calls.get(); err == nil {
			_ = l.DomainOpenConsole(d.dom, nil, t, 0)
		}
	}()
}

func (c *consoles) last(id uuid.UUID) []string {
	c.mu.Lock()
	t := c.all[id]
	c.mu.Unlock()
	if t == nil {
		return nil
	}
	return t.lines()
}

// tail keeps the last of what it is given.
type tail struct {
	mu   sync.Mutex
	kept []byte
}

const (
	tailBytes = 4 << 10
	tailLines = 6
)

// Write implements io.Writer.
func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.kept = append(t.kept, p...)
	if over := len(t.kept) - tailBytes; over > 0 {
		t.kept = slices.Delete(t.kept, 0, over)
	}
	return len(p), nil
}

// escapes are what moves a terminal's cursor or colours its text (ECMA-48,
// section 5.4).
var escapes = regexp.MustCompile("\x1b(\\[[0-?]*[ -/]*[@-~]|[@-_])")

// lines are the last ones that say anything.
func (t *tail) lines() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	var all []string
	for line := range strings.Lines(escapes.ReplaceAllString(string(bytes.ToValidUTF8(t.kept, nil)), "")) {
		if line = strings.TrimSpace(line); line != "" {
			all = append(all, line)
		}
	}
	return all[max(0, len(all)-tailLines):]
}

// Console connects a terminal to a machine's serial console until in ends.
func (s *Site) Console(ctx context.Context, id uuid.UUID, in io.Reader, out io.Writer) error {
	d, err := s.find(ctx, id)
	if err != nil {
		return err
	}
	on, err := d.running(ctx)
	if err != nil {
		return err
	}
	if !on {
		return fmt.Errorf("%w: it is off; a console is there only while it runs", site.ErrRefused)
	}
	l, err := d.calls.get()
	if err != nil {
		return d.unreachable(err)
	}
	done := make(chan error, 1)
	ended := &ending{Reader: in, over: make(chan struct{})}
	go func() {
		done <- l.DomainOpenConsoleBidirectional(d.dom, nil, ended, out, uint32(rpc.DomainConsoleForce))
	}()
	select {
	case err = <-done:
	case <-ended.over:
	case <-ctx.Done():
		err = ctx.Err()
	}
	if err != nil && strings.Contains(err.Error(), "cannot find character device") {
		return fmt.Errorf("%w: it has no serial console", site.ErrRefused)
	}
	return d.explained(err)
}

// ending tells when a reader has come to its end.
type ending struct {
	io.Reader
	once sync.Once
	over chan struct{}
}

// Read implements io.Reader.
func (e *ending) Read(p []byte) (int, error) {
	n, err := e.Reader.Read(p)
	if errors.Is(err, io.EOF) {
		e.once.Do(func() { close(e.over) })
	}
	return n, err
}

// Screen writes a picture of the machine's screen, of whatever kind the
// emulator gives: PNG or, from older ones, PPM.
func (s *Site) Screen(ctx context.Context, id uuid.UUID, out io.Writer) error {
	d, err := s.find(ctx, id)
	if err != nil {
		return err
	}
	return d.call(ctx, func(l *rpc.Libvirt) error {
		var picture bytes.Buffer
		// The library loses the answer that comes before the picture and takes
		// the end of the picture for it; what counts is that there is one.
		if _, err := l.DomainScreenshot(d.dom, &picture, 0, 0); err != nil && picture.Len() == 0 {
			return err
		}
		_, err := picture.WriteTo(out)
		return err
	})
}
