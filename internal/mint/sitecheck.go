package mint

import (
	"context"
	"errors"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/pinned"
)

// SiteCheck is what came of trying a site.
type SiteCheck struct {
	Site      string         `json:"site"`
	Kind      setup.SiteKind `json:"kind"`
	Reached   bool           `json:"reached"`
	Seconds   float64        `json:"seconds"`
	Hosts     int            `json:"hosts"`
	Machines  int            `json:"machines"`
	Down      []string       `json:"down,omitempty"`              // hosts that cannot be reached, and why
	Templates []string       `json:"missing_templates,omitempty"` // of the setup, that it does not have
	Networks  []string       `json:"missing_networks,omitempty"`
	Error     string         `json:"error,omitempty"`
	Hint      string         `json:"hint,omitempty"` // what to do about it, if the error does not say so
}

// CheckSites tries every site of the setup, and says what of the setup each has.
func (d *Desk) CheckSites(ctx context.Context) []SiteCheck {
	names := slices.Sorted(maps.Keys(d.Setup.Sites))
	all := make([]SiteCheck, len(names))
	var tried sync.WaitGroup
	for i, name := range names {
		tried.Go(func() {
			began := time.Now()
			c := SiteCheck{Site: name, Kind: d.Setup.Sites[name].Kind}
			answer, err := d.Sites.Ask(ctx, name)
			c.Seconds = time.Since(began).Round(time.Millisecond).Seconds()
			switch {
			case err == nil:
				d.compare(&c, answer)
			case c.Kind == setup.Libvirt: // whose errors say themselves what to do
				c.Error = err.Error()
			default:
				c.Error, c.Hint = err.Error(), remedy(err)
			}
			all[i] = c
		})
	}
	tried.Wait()
	return all
}

// compare says what of the setup a site does not have.
func (d *Desk) compare(c *SiteCheck, answer *contract.Survey) {
	c.Reached, c.Hosts, c.Machines = true, len(answer.Hosts), len(answer.Machines)
	for _, h := range answer.Hosts {
		if h.Down != "" {
			c.Down = append(c.Down, h.Name+": "+h.Down)
		}
	}
	for _, name := range setup.Names(d.Setup.Templates) {
		source := d.Setup.TemplateSource(name)
		has := has(answer, source)
		if !has && !strings.Contains(source, "/") { // a bare volume is looked for when it is cloned
			c.Templates = append(c.Templates, name)
		}
	}
	for _, name := range setup.Names(d.Setup.Networks) {
		if source := d.Setup.NetworkSource(name); !slices.Contains(answer.Networks, source) && !strings.HasPrefix(source, "bridge:") {
			c.Networks = append(c.Networks, name)
		}
	}
}

// remedies say what to do about a site that cannot be reached, by the cause.
var remedies = []struct {
	is   func(error) bool
	text string
}{
	{as[*pinned.CertificateError], "compare the fingerprint with that of the manager's own certificate, and write it in the setup: fingerprint: sha256:..."},
	{says("run `"), ""}, // which says it itself
	{says("does not accept the token"), "write the manager's token into the file or variable that token: names"},
	{says("its token"), "create the file, or set the variable, that token: names"},
	{of(syscall.ECONNREFUSED), "start the manager, or correct its address: nothing listens there"},
	{as[*net.DNSError], "correct the host in the address, or the name server of this computer"},
	{of(context.DeadlineExceeded), "check the network and the firewall between here and the site"},
	{says("no answer"), "check the network and the firewall between here and the site"},
	{says("redirects"), "write the address that it redirects to, if that is the manager"},
}

func of(target error) func(error) bool {
	return func(err error) bool { return errors.Is(err, target) }
}

func as[E error](err error) bool {
	var target E
	return errors.As(err, &target)
}

func says(text string) func(error) bool {
	return func(err error) bool { return strings.Contains(err.Error(), text) }
}

// remedy is what to do about an error of a site.
func remedy(err error) string {
	for _, r := range remedies {
		if r.is(err) {
			return r.text
		}
	}
	return "try again with --verbose, which logs each request"
}
