// Package libvirt is a site of hosts that run their machines under libvirt. It
// speaks libvirt's own RPC.
//
// What makes a repeated act harmless: a machine's UUID is its identity, and
// every volume of it has the identity in its name. A machine is defined only
// once its disks are whole, so that a disk without its machine is a copy that
// was cut short, and is made again.
package libvirt

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// Options say which hosts a site has, and what is asked of them.
type Options struct {
	Hosts map[string]Address
	// Templates are the names that the setup knows; a survey looks into these.
	Templates []string
	Logger    *slog.Logger
}

// Address is where a host is reached.
type Address struct {
	URL      *url.URL
	Password string // of an SSH login
}

// Site is a group of hosts.
type Site struct {
	hosts     []*host // by name
	templates []string
	tasks     site.Tasks
	consoles  consoles

	mu    sync.Mutex
	where map[uuid.UUID]whereabouts
	away  map[*host]time.Time // when hosts did not answer
}

// whereabouts are where a machine was found, when all hosts were asked.
type whereabouts struct {
	*host
	at time.Time
}

// lookAgain is how long what is known of where machines are holds: somebody may move them.
const lookAgain = 30 * time.Second

// New prepares a site; nothing is connected yet.
func New(o Options) (*Site, error) {
	s := &Site{templates: o.Templates, where: map[uuid.UUID]whereabouts{}, away: map[*host]time.Time{}}
	for name, address := range o.Hosts {
		h, err := newHost(name, address, o.Logger)
		if err != nil {
			return nil, err
		}
		s.hosts = append(s.hosts, h)
	}
	slices.SortFunc(s.hosts, func(a, b *host) int { return strings.Compare(a.name, b.name) })
	return s, nil
}

// Close ends the connections.
func (s *Site) Close() {
	s.consoles.close()
	for _, h := range s.hosts {
		h.close()
	}
}

func (s *Site) host(name string) (*host, error) {
	for _, h := range s.hosts {
		if h.name == name {
			return h, nil
		}
	}
	return nil, fmt.Errorf("%w: the site has no host %q", site.ErrRefused, name)
}

// domain is a machine at its host.
type domain struct {
	*host
	dom rpc.Domain
}

// domain looks a machine up at this host.
func (h *host) domain(ctx context.Context, id uuid.UUID) (*domain, error) {
	d := &domain{host: h}
	err := h.call(ctx, func(l daemon) (err error) {
		d.dom, err = l.DomainLookupByUUID(rpc.UUID(id))
		return err
	})
	return d, err
}

// find looks a machine up at all hosts, but for one that was just found. A machine that is on none
// of the hosts is only known to be nowhere when all of them answer. One of ours that several hosts
// define is refused: which of them it is nobody knows.
func (s *Site) find(ctx context.Context, id uuid.UUID) (*domain, error) {
	last := s.last(id)
	if last.host != nil && time.Since(last.at) < lookAgain {
		if d, err := last.domain(ctx, id); err == nil {
			return d, nil
		}
	}
	var found []*domain
	var down error
	for _, h := range s.ordered(last.host) {
		if len(found) > 0 && s.isAway(h) {
			continue
		}
		d, err := h.domain(ctx, id)
		switch {
		case err == nil:
			found = append(found, d)
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case errors.Is(err, site.ErrUnreachable):
			s.setAway(h)
			down = errors.Join(down, err)
		case !errors.Is(err, site.ErrNotFound):
			return nil, err
		}
	}
	switch {
	case len(found) == 0 && down != nil:
		return nil, down
	case len(found) == 0:
		return nil, fmt.Errorf("%w: no machine %s", site.ErrNotFound, id)
	case len(found) > 1:
		if def, err := found[0].definition(ctx); err != nil {
			return nil, err
		} else if mark, _ := def.mark(); mark != nil {
			return nil, fmt.Errorf("%w: %s", site.ErrRefused, definedOn(found[0].dom.Name, found[0].name, found[1].name))
		}
	}
	s.setLast(id, found[0].host)
	return found[0], nil
}

// definedOn says that several hosts define a machine, such as after it was migrated.
func definedOn(name string, hosts ...string) string {
	return fmt.Sprintf("%s is defined on the hosts %s: undefine it where it does not belong any more, and leave its disks", name, strings.Join(hosts, " and "))
}

func (s *Site) last(id uuid.UUID) whereabouts {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.where[id]
}

func (s *Site) setLast(id uuid.UUID, h *host) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.where[id] = whereabouts{h, time.Now()}
}

func (s *Site) isAway(h *host) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return time.Since(s.away[h]) < lookAgain
}

func (s *Site) setAway(h *host) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.away[h] = time.Now()
}

// ordered are the hosts: one before all others, and at the end those that have just not answered.
func (s *Site) ordered(first *host) []*host {
	all := slices.Clone(s.hosts)
	slices.SortStableFunc(all, func(a, b *host) int {
		rank := func(h *host) int {
			switch {
			case h == first:
				return 0
			case s.isAway(h):
				return 2
			}
			return 1
		}
		return cmp.Compare(rank(a), rank(b))
	})
	return all
}

// on does something with a machine as an act that may take long.
func (s *Site) on(ctx context.Context, id uuid.UUID, do func(ctx context.Context, d *domain) error) (contract.Task, error) {
	return s.tasks.Start(ctx, func(ctx context.Context, _ func(float64)) error {
		return retry(ctx, func() error {
			d, err := s.find(ctx, id)
			if err != nil {
				return err
			}
			return do(ctx, d)
		})
	})
}

// Shape implements site.Site.
func (s *Site) Shape(ctx context.Context, id uuid.UUID, shape machine.Shape, restart contract.Restart) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.shape(ctx, id, shape, restart) })
}

// Wire implements site.Site.
func (s *Site) Wire(ctx context.Context, id uuid.UUID, adapters []machine.Card, restart contract.Restart) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.wire(ctx, adapters, restart) })
}

// Seed implements site.Site.
func (s *Site) Seed(ctx context.Context, id uuid.UUID, image []byte) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.seed(ctx, id, image) })
}

// Insert implements site.Site.
func (s *Site) Insert(ctx context.Context, id uuid.UUID, image string) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.insert(ctx, image) })
}

// Carry implements site.Site.
func (s *Site) Carry(ctx context.Context, id uuid.UUID, image contract.Image) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.carry(ctx, id, image) })
}

// Checkpoint implements site.Site.
func (s *Site) Checkpoint(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.checkpoint(ctx, name) })
}

// Restore implements site.Site.
func (s *Site) Restore(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.restore(ctx, name) })
}

// Drop implements site.Site.
func (s *Site) Drop(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.drop(ctx, name) })
}

// Detach implements site.Site.
func (s *Site) Detach(ctx context.Context, id uuid.UUID) (contract.Task, error) {
	return s.tasks.Start(ctx, func(ctx context.Context, share func(float64)) error {
		return retry(ctx, func() error {
			d, err := s.find(ctx, id)
			if err != nil {
				return err
			}
			return d.detach(ctx, id, share)
		})
	})
}

// Record implements site.Site.
func (s *Site) Record(ctx context.Context, id uuid.UUID, mark contract.Mark) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.record(ctx, mark) })
}

// Power implements site.Site.
func (s *Site) Power(ctx context.Context, id uuid.UUID, power machine.Power) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error {
		switch power {
		case machine.Off:
			return d.shutDown(ctx)
		case machine.Cut:
			return d.stopForGood(ctx)
		}
		if err := d.start(ctx); err != nil {
			return err
		}
		s.consoles.watch(d, id)
		return nil
	})
}

// Task implements site.Site.
func (s *Site) Task(ctx context.Context, id string) (contract.Task, error) {
	return s.tasks.Poll(ctx, id)
}
