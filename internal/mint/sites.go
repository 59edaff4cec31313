package mint

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
	"mintbatch/internal/site/gateway"
	"mintbatch/internal/site/libvirt"
)

// site prepares a site of the setup, once; nothing is sent to it yet.
func (s *Session) site(name string) (site.Site, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if opened, ok := s.sites[name]; ok {
		return opened, nil
	}
	from, defined := s.Setup.Sites[name]
	if !defined {
		return nil, fmt.Errorf("%w: site %s is no longer in the setup", site.ErrUnreachable, name)
	}
	open := map[string]func(setup.Site) (site.Site, error){"gateway": s.gateway, "libvirt": s.libvirt}[from.Kind]
	opened, err := open(from)
	if err != nil {
		return nil, fmt.Errorf("site %s: %w", name, err)
	}
	s.sites[name] = opened
	return opened, nil
}

func (s *Session) gateway(from setup.Site) (site.Site, error) {
	token, err := s.resolve(from.Token)
	if err != nil {
		return nil, fmt.Errorf("its token: %w: %w", site.ErrUnreachable, err)
	}
	return gateway.New(gateway.Options{URL: from.URL, Token: token, Fingerprint: from.Fingerprint, Logger: s.Log})
}

func (s *Session) libvirt(from setup.Site) (site.Site, error) {
	hosts := map[string]libvirt.Address{}
	for name, h := range from.Hosts {
		password, err := s.resolve(h.Password)
		if err != nil {
			return nil, fmt.Errorf("the password of host %s: %w: %w", name, site.ErrUnreachable, err)
		}
		hosts[name] = libvirt.Address{URL: h.URL, Password: password}
	}
	var templates []string
	for name := range s.Setup.Templates {
		templates = append(templates, s.Setup.TemplateSource(name))
	}
	slices.Sort(templates)
	return libvirt.New(libvirt.Options{Hosts: hosts, Templates: slices.Compact(templates), Logger: s.Log})
}

// resolve follows a reference to where the value stands.
func (s *Session) resolve(r setup.Reference) (string, error) {
	kind, name, _ := strings.Cut(string(r), ":")
	switch kind {
	case "env", "file":
		return s.fetch(kind, name)
	case "secret":
		return s.OpenSecret(context.Background(), name)
	}
	return string(r), nil
}

// fetch gets a value of the setup that stands elsewhere.
// mostContent bounds the files that a setup takes values from: they are kept
// with every machine, and travel on its seed.
const mostContent = 1 << 20

func (b *Batch) fetch(kind, name string) (string, error) {
	if kind == "env" {
		v, ok := os.LookupEnv(name)
		if !ok {
			return "", fmt.Errorf("the environment variable %s is not set", name)
		}
		return v, nil
	}
	content, err := os.ReadFile(b.path(name))
	if err != nil {
		return "", fmt.Errorf("the file %s cannot be read: %w", b.path(name), reason(err))
	}
	if len(content) > mostContent {
		return "", fmt.Errorf("the file %s is larger than %d MiB", b.path(name), mostContent>>20)
	}
	if kind == "content" {
		return string(content), nil
	}
	return strings.TrimRight(string(content), "\r\n"), nil
}

// slots tells how many machines of a site are worked on side by side.
func (b *Batch) slots(name string) int { return cmp.Or(b.Setup.Sites[name].Machines, 8) }

// limits are what the setup says of how much goes on at once, at every site.
func (b *Batch) limits() map[string]run.Limits {
	atOnce := func(a setup.AtOnce) run.AtOnce {
		return run.AtOnce{run.Work: a.Machines, run.Copy: a.Copies, run.Boot: a.Starts, run.Waiting: a.Confirms}
	}
	all := map[string]run.Limits{}
	for name, from := range b.Setup.Sites {
		whole := from.AtOnce
		whole.Machines = cmp.Or(whole.Machines, b.slots(name))
		whole.Copies = cmp.Or(whole.Copies, whole.Machines-whole.Machines/4) // so that others get through
		whole.Confirms = cmp.Or(whole.Confirms, 256)
		all[name] = run.Limits{Site: atOnce(whole), Host: atOnce(from.PerHost), Store: atOnce(from.PerStore)}
	}
	return all
}

// times are what the setup says of how long acts may take.
func (b *Batch) times() map[run.Act]time.Duration {
	l := b.Setup.Limits
	task := cmp.Or(l.Task, 30*time.Minute)
	return map[run.Act]time.Duration{run.Work: task, run.Copy: cmp.Or(l.Copy, task), run.Boot: cmp.Or(l.Start, task), run.Waiting: cmp.Or(l.Confirm, 10*time.Minute)}
}
