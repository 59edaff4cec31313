package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/pattern"
	"mintbatch/internal/site"
)

// consoles listens to the serial consoles of machines that were started, so
// that a guest's last output can be shown when it does not report.
type consoles struct {
	mu  sync.Mutex
	all map[uuid.UUID]*listener
}

// listener is a console that is listened to, until its stream is ended.
type listener struct {
	outputTail
	end  *io.PipeWriter // closing it ends the stream in good order
	over chan struct{}
}

// watch begins to listen, unless it does already.
func (c *consoles) watch(d *domain, id uuid.UUID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all == nil {
		c.all = map[uuid.UUID]*listener{}
	}
	if c.all[id] != nil {
		return
	}
	// What is typed is nothing; its end is that of the stream.
	typed, end := io.Pipe()
	t := &listener{end: end, over: make(chan struct{})}
	c.all[id] = t
	go func() {
		defer close(t.over)
		if l, err := d.calls.get(); err == nil {
			_ = l.DomainOpenConsoleBidirectional(d.dom, nil, typed, t, 0)
		}
	}()
}

// endLimit is how long the end of a stream is waited for.
const endLimit = 2 * time.Second

// forget ends the stream of a console that is not listened to any more.
func (c *consoles) forget(id uuid.UUID) {
	c.mu.Lock()
	t := c.all[id]
	delete(c.all, id)
	c.mu.Unlock()
	if t == nil {
		return
	}
	_ = t.end.Close()
	select {
	case <-t.over:
	case <-time.After(endLimit):
	}
}

// close ends all streams.
func (c *consoles) close() {
	c.mu.Lock()
	ids := slices.Collect(maps.Keys(c.all))
	c.mu.Unlock()
	var all sync.WaitGroup
	for _, id := range ids {
		all.Go(func() { c.forget(id) })
	}
	all.Wait()
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

// outputTail keeps the last of what it is given.
type outputTail struct {
	mu   sync.Mutex
	kept []byte
}

const (
	tailBytes = 4 << 10
	tailLines = 6
)

// Write implements io.Writer.
func (t *outputTail) Write(p []byte) (int, error) {
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
var escapes = pattern.Lazy("\x1b(\\[[0-?]*[ -/]*[@-~]|[@-_])")

// lines are the last ones that say anything.
func (t *outputTail) lines() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	var all []string
	for line := range strings.Lines(escapes().ReplaceAllString(string(bytes.ToValidUTF8(t.kept, nil)), "")) {
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
		return fmt.Errorf("%w: it is off; start it to use its console", site.ErrRefused)
	}
	def, err := d.definition(ctx)
	if err != nil {
		return err
	}
	if def.devices().SelectElement("serial") == nil && def.devices().SelectElement("console") == nil {
		return fmt.Errorf("%w: it has no serial console", site.ErrRefused)
	}
	s.consoles.forget(id) // a console has one listener at a time
	l, err := d.calls.get()
	if err != nil {
		return d.unreachable(err)
	}
	done := make(chan error, 1)
	ended := &escapeReader{Reader: in, over: make(chan struct{})}
	go func() {
		done <- l.DomainOpenConsoleBidirectional(d.dom, nil, ended, out, uint32(rpc.DomainConsoleForce))
	}()
	select {
	case err = <-done:
	case <-ended.over:
		select { // the stream's own end
		case err = <-done:
		case <-time.After(endLimit):
		}
	case <-ctx.Done():
		err = ctx.Err()
	}
	return d.translate(err)
}

// escapeReader reports when a reader has come to its end.
type escapeReader struct {
	io.Reader
	once sync.Once
	over chan struct{}
}

// Read implements io.Reader.
func (e *escapeReader) Read(p []byte) (int, error) {
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
	return d.call(ctx, func(l daemon) error {
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
