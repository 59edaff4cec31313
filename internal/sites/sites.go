// Package sites opens the sites of a setup, each once, and asks them in parallel.
package sites

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/site"
	"mintbatch/internal/site/folder"
	"mintbatch/internal/site/gateway"
	"mintbatch/internal/site/libvirt"
	"mintbatch/internal/vault"
)

// Sites are the sites of a setup.
type Sites struct {
	setup *setup.Setup
	vault *vault.Vault
	log   *slog.Logger
	// notice, if set, takes a remark for whoever waits.
	notice func(string)

	mu     sync.Mutex
	opened map[string]site.Site
}

// New returns the sites of a setup; none is opened yet.
func New(v *vault.Vault, log *slog.Logger) *Sites {
	return &Sites{setup: v.Setup, vault: v, log: log, notice: v.Notice, opened: map[string]site.Site{}}
}

// Close closes the sites that were opened.
func (s *Sites) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, opened := range s.opened {
		if c, ok := opened.(interface{ Close() }); ok {
			c.Close()
		}
	}
}

// Opened returns the sites that were opened so far.
func (s *Sites) Opened() map[string]site.Site {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.opened)
}

// Use replaces a site that was opened, for tests.
func (s *Sites) Use(name string, by func(site.Site) site.Site) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.opened[name] = by(s.opened[name])
}

// Site opens a site; nothing is sent to it yet.
func (s *Sites) Site(name string) (site.Site, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if opened, ok := s.opened[name]; ok {
		return opened, nil
	}
	from, defined := s.setup.Sites[name]
	if !defined {
		return nil, fmt.Errorf("%w: site %s is no longer in the setup", site.ErrUnreachable, name)
	}
	open := map[setup.SiteKind]func(setup.Site) (site.Site, error){setup.Gateway: s.gateway, setup.Libvirt: s.libvirt, setup.Folder: s.folder}[from.Kind]
	opened, err := open(from)
	if err != nil {
		return nil, fmt.Errorf("site %s: %w", name, err)
	}
	s.opened[name] = opened
	return opened, nil
}

func (s *Sites) gateway(from setup.Site) (site.Site, error) {
	token, err := s.vault.Resolve(from.Token)
	if err != nil {
		return nil, fmt.Errorf("its token: %w: %w", site.ErrUnreachable, err)
	}
	return gateway.New(gateway.Options{URL: from.URL.URL, Token: token, Fingerprint: from.Fingerprint, Logger: s.log}), nil
}

func (s *Sites) libvirt(from setup.Site) (site.Site, error) {
	hosts := map[string]libvirt.Address{}
	for name, h := range from.Hosts {
		password, err := s.vault.Resolve(h.Password)
		if err != nil {
			return nil, fmt.Errorf("the password of host %s: %w: %w", name, site.ErrUnreachable, err)
		}
		hosts[name] = libvirt.Address{URL: h.URL.URL, Password: password}
	}
	var templates []string
	for name := range s.setup.Templates {
		templates = append(templates, s.setup.TemplateSource(name))
	}
	slices.Sort(templates)
	return libvirt.New(libvirt.Options{Hosts: hosts, Templates: slices.Compact(templates), Logger: s.log})
}

func (s *Sites) folder(from setup.Site) (site.Site, error) {
	var networks []string
	for name := range s.setup.Networks {
		networks = append(networks, s.setup.NetworkSource(name))
	}
	slices.Sort(networks)
	var describe []folder.Description
	for _, d := range from.Describe {
		describe = append(describe, folder.Description(d))
	}
	return folder.New(folder.Options{Path: s.vault.Path(from.Path), Format: string(from.Format), Describe: describe, Networks: slices.Compact(networks)})
}

// Surveys are the answers of sites, by name.
type Surveys map[string]*contract.Survey

// Every names all sites of the setup.
func (s *Sites) Every() map[string]bool {
	names := map[string]bool{}
	for name := range s.setup.Sites {
		names[name] = true
	}
	return names
}

// AskAll surveys sites side by side. Those that cannot be reached are reported in
// the error, in the order of their names; the others are answered for.
func (s *Sites) AskAll(ctx context.Context, names map[string]bool) (Surveys, error) {
	order := slices.Sorted(maps.Keys(names))
	answers, failures := make([]*contract.Survey, len(order)), make([]error, len(order))
	var all sync.WaitGroup
	for i, name := range order {
		all.Go(func() { answers[i], failures[i] = s.Ask(ctx, name) })
	}
	all.Wait()
	asked := Surveys{}
	for i, name := range order {
		if failures[i] == nil {
			asked[name] = answers[i]
		}
	}
	return asked, errors.Join(failures...)
}

// patience is for how long a site may say nothing before that is reported.
const patience = 10 * time.Second

// remind reports every now and then that a site has not answered yet, until answered is
// called.
func (s *Sites) remind(site string) (answered func()) {
	if s.notice == nil {
		return func() {}
	}
	began, done := time.Now(), make(chan struct{})
	go func() {
		tick := time.NewTicker(patience)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				s.notice(fmt.Sprintf("site %s has not answered for %s; press Ctrl-C to give up", site, time.Since(began).Round(time.Second)))
			}
		}
	}()
	return func() { close(done) }
}

// Ask surveys one site. A machine whose mark came with a copy belongs to no ledger.
func (s *Sites) Ask(ctx context.Context, name string) (*contract.Survey, error) {
	opened, err := s.Site(name)
	if err != nil {
		return nil, err
	}
	answered := s.remind(name)
	answer, err := opened.Survey(ctx)
	answered()
	if err != nil {
		return nil, s.from(name, err)
	}
	for i := range answer.Machines {
		if m := &answer.Machines[i]; m.Copied() {
			mark := *m.Mark
			mark.Ledger, mark.Key = uuid.Nil, "" // what it was made to is true of the copy as well: it may have the same addresses
			m.Mark = &mark
		}
	}
	answer.Machines = slices.DeleteFunc(answer.Machines, func(m contract.Machine) bool {
		is := m.Mark != nil && m.Mark.Seal != ""
		if is {
			answer.Sealing = append(answer.Sealing, m)
		}
		return is
	})
	return answer, nil
}

// Specs adds to surveys the specs in marks that they leave out: what known tells of a
// machine, and for all others what their site says. A site that does not is taken out.
func (s *Sites) Specs(ctx context.Context, asked Surveys, known func(contract.Mark) *machine.Spec) error {
	var failures []error
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		opened, err := s.Site(name)
		if err != nil {
			return err
		}
		source, ok := opened.(site.SpecSource)
		if !ok {
			continue
		}
		if err := addSpecs(ctx, source, asked[name].Machines, known); err != nil {
			failures = append(failures, s.from(name, err))
			delete(asked, name)
		}
	}
	return errors.Join(failures...)
}

func addSpecs(ctx context.Context, from site.SpecSource, all []contract.Machine, known func(contract.Mark) *machine.Spec) error {
	var ids []uuid.UUID
	for _, m := range all {
		if m.Mark == nil || m.Mark.Spec != nil {
			continue
		}
		if m.Mark.Spec = known(*m.Mark); m.Mark.Spec == nil {
			ids = append(ids, m.ID)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	specs, err := from.Specs(ctx, ids)
	if err != nil {
		return err
	}
	for _, m := range all {
		if m.Mark != nil && m.Mark.Spec == nil {
			m.Mark.Spec = specs[m.ID]
		}
	}
	return nil
}

// NoneKnown is for those who know no machine.
func NoneKnown(contract.Mark) *machine.Spec { return nil }

// Machine asks a site for one machine.
func (s *Sites) Machine(ctx context.Context, name string, id uuid.UUID) (*contract.Machine, error) {
	opened, err := s.Site(name)
	if err != nil {
		return nil, err
	}
	answered := s.remind(name)
	m, err := opened.Machine(ctx, id)
	answered()
	if err != nil {
		return nil, s.from(name, err)
	}
	return m, nil
}

// from says of which site an error is.
func (s *Sites) from(name string, err error) error {
	return fmt.Errorf("site %s: %w", strings.TrimSuffix(name+" at "+s.setup.Sites[name].URL.String(), " at "), err)
}
