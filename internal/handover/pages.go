package handover

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mintbatch/internal/core/event"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	"mintbatch/internal/plan"
	"mintbatch/internal/pools"
	"mintbatch/internal/report"
	"mintbatch/internal/run"
	"mintbatch/internal/runlog"
)

// Pages gathers what hand-over pages say.
type Pages struct {
	desk    *mint.Desk
	entries []mint.Entry
	log     *event.Log
	pools   report.Gauges
	stores  report.Gauges
	now     time.Time
}

// Gather asks ledger and sites for what pages say. The chart is that of the run named, else of
// the last one that has a log; if one is named, only its machines are handed over. A site that
// cannot be reached is reported, and what else there is comes all the same.
func Gather(ctx context.Context, d *mint.Desk, runID string, contact plan.Contact) (*Pages, error) {
	p := &Pages{desk: d, now: time.Now()}
	var unreachable error
	p.entries, _, unreachable = d.List(ctx, mint.ListRequest{Contact: contact})
	if p.entries == nil && unreachable != nil {
		return nil, unreachable
	}
	l, err := runlog.Read(ctx, d.Batch, d.Ledger, runID)
	switch {
	case err == nil:
		p.log = l
	case runID != "" || !errors.Is(err, runlog.ErrNoRun) && !errors.Is(err, event.ErrLog):
		return nil, err
	}
	if runID != "" {
		in := map[machine.Key]bool{}
		for _, c := range l.Courses {
			in[c.Key] = true
		}
		p.entries = slices.DeleteFunc(p.entries, func(e mint.Entry) bool { return !in[e.Key] })
	}
	return p, errors.Join(unreachable, p.gauges(ctx, contact))
}

// OwnPage is the page about some machines alone, for whoever has asked for them.
func OwnPage(d *mint.Desk, title string, entries []mint.Entry) ([]byte, error) {
	p := &Pages{desk: d, now: time.Now(), entries: entries}
	var b bytes.Buffer
	err := p.page(title, p.entries).HTML(&b)
	return b.Bytes(), err
}

// gauges reads how full pools and stores are.
func (p *Pages) gauges(ctx context.Context, contact plan.Contact) error {
	all, err := (&pools.Pools{Setup: p.desk.Setup, Ledger: p.desk.Ledger}).List(ctx, nil)
	if err != nil {
		return err
	}
	p.pools = report.Gauges{ID: "pools", Title: "Address pools"}
	for _, v := range all {
		p.pools.Gauges = append(p.pools.Gauges, gauge(v.Network+"/"+v.Pool, float64(v.Size-v.Free), float64(v.Size), fmt.Sprintf("%d of %d used", v.Size-v.Free, v.Size)))
	}
	p.stores = report.Gauges{ID: "stores", Title: "Stores"}
	if contact != plan.Online {
		return nil
	}
	views, unreachable := p.desk.Survey(ctx, nil)
	for _, v := range views {
		for _, s := range v.Stores {
			if s.Capacity > 0 {
				p.stores.Gauges = append(p.stores.Gauges, gauge(v.Site+"/"+s.Name, float64(s.Capacity-s.Free), float64(s.Capacity), fmt.Sprintf("%.0f GiB of %.0f GiB used", gib(s.Capacity-s.Free), gib(s.Capacity))))
			}
		}
	}
	return unreachable
}

func gib(s machine.Size) float64 { return float64(s) / float64(machine.GiB) }

func gauge(name string, used, whole float64, text string) report.Gauge {
	return report.Gauge{Name: name, Text: text, Percent: int(100 * used / max(whole, 1))}
}

// handover is what is said of a machine.
func (p *Pages) handover(e mint.Entry) report.Handover {
	s := e.Spec
	h := report.Handover{Name: e.Name, Site: e.Site, State: e.InWords(), Owner: s.Info.Owner, Until: s.Info.Until, Notes: s.Info.Notes, Template: s.Template,
		Login: s.Guest.Login, Error: e.Error, Addresses: addresses(e), Labels: field("labels", e), Size: sizeOf(s.Shape)}
	address := e.Address()
	windows := p.desk.Setup.Templates[s.Template].Guest == setup.Windows
	switch {
	case address == "" || h.Login == "":
	case windows:
		h.Connect = fmt.Sprintf("remote desktop to %s as %s", address, h.Login)
	default:
		h.Connect = fmt.Sprintf("ssh %s@%s", h.Login, address)
	}
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(e.HostKey)); err == nil {
		h.Fingerprint = ssh.FingerprintSHA256(key)
		h.KnownHost = strings.Join(run.Names(&machine.Machine{Key: e.Key, Spec: *s}), ",") + " " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	}
	return h
}

// addresses are those of a machine, without their prefixes; of DHCP, those that its guest has
// reported, if it was asked.
func addresses(e mint.Entry) []string {
	var all []string
	for _, a := range e.Spec.Adapters {
		for _, p := range a.Given() {
			all = append(all, p.Addr().String())
		}
	}
	if len(all) == 0 {
		for _, a := range e.Spec.Adapters {
			all = append(all, a.Words()...)
		}
	}
	return all
}

// sizeOf is a machine's size in words.
func sizeOf(s machine.Shape) string {
	var words []string
	if s.CPUs > 0 {
		words = append(words, finding.Plural(s.CPUs, "CPU"))
	}
	if s.Memory > 0 {
		words = append(words, s.Memory.String())
	}
	if s.Disk > 0 {
		words = append(words, "disk "+s.Disk.String())
	}
	return strings.Join(words, ", ")
}

func field(name string, e mint.Entry) string {
	f, err := mint.ParseField(name)
	if err != nil {
		return ""
	}
	return f.Of(&e)
}

// page is the page of some machines.
func (p *Pages) page(title string, entries []mint.Entry) report.Page {
	page := report.Page{Title: title, Made: p.now.Format("2006-01-02 15:04 MST"), Caption: "What was made, and where it can be reached"}
	told := map[string]bool{}
	failed := 0
	for _, e := range entries {
		page.Machines = append(page.Machines, p.handover(e))
		told[e.Name] = true
		if e.Error != "" {
			failed++
		}
	}
	page.Summary = finding.Plural(len(entries), "machine")
	if failed > 0 {
		page.Summary += fmt.Sprintf(", %d of them with a failure", failed)
	}
	if p.log != nil {
		page.Run = report.NewRun(p.log, func(name string) bool { return told[name] })
	}
	return page
}

// title is that of pages about all machines.
func (p *Pages) title() string {
	if p.log != nil {
		return "Machines of " + p.log.Started.Local().Format("2 January 2006")
	}
	return "Machines"
}

// WritePage writes one page of all machines.
func (p *Pages) WritePage(path string, over output.Over) error {
	page := p.page(p.title(), p.entries)
	for _, g := range []report.Gauges{p.pools, p.stores} {
		if len(g.Gauges) > 0 {
			page.Gauges = append(page.Gauges, g)
		}
	}
	return p.write(path, page, over)
}

// WriteCards writes a card for each machine.
func (p *Pages) WriteCards(path string, over output.Over) error {
	return p.desk.Guard().WriteBy(path, over, 0o644, func(w io.Writer) error {
		return report.Cards(w, p.title(), p.page("", p.entries).Machines)
	})
}

// WriteParts writes a page for each value of a field, and an index of them.
func (p *Pages) WriteParts(dir string, by mint.Field, over output.Over) (files int, err error) {
	index := report.Page{Title: p.title(), Summary: finding.Plural(len(p.entries), "machine"), Made: p.now.Format("2006-01-02 15:04 MST")}
	type part struct {
		path string
		page report.Page
	}
	var parts []part
	taken := map[string]bool{"index.html": true}
	for _, entries := range mint.Parts(p.entries, by) {
		value := by.Of(&entries[0])
		name := fileName(cmp.Or(value, "no "+by.Name), taken)
		parts = append(parts, part{filepath.Join(dir, name), p.page("Machines of "+cmp.Or(value, "no "+by.Name), entries)})
		index.Parts = append(index.Parts, report.Part{File: name, Name: cmp.Or(value, "no "+by.Name), Machines: finding.Plural(len(entries), "machine")})
	}
	parts = append(parts, part{filepath.Join(dir, "index.html"), index})
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, fmt.Errorf("create the folder of the pages: %w", err)
	}
	for _, part := range parts { // all or none
		if err := p.desk.Guard().Check(part.path, over); err != nil {
			return 0, err
		}
	}
	for _, part := range parts {
		if err := p.write(part.path, part.page, over); err != nil {
			return files, err
		}
		files++
	}
	return files, nil
}

func (p *Pages) write(path string, page report.Page, over output.Over) error {
	return p.desk.Guard().WriteBy(path, over, 0o644, page.HTML)
}

// fileName is a name for the page of a value that no other page has.
func fileName(value string, taken map[string]bool) string {
	other := func(r rune) bool { return (r < 'a' || r > 'z') && (r < '0' || r > '9') }
	plain := cmp.Or(strings.Join(strings.FieldsFunc(strings.ToLower(value), other), "-"), "other")
	plain = plain[:min(len(plain), 60)]
	name := plain + ".html"
	for n := 2; taken[name]; n++ {
		name = fmt.Sprintf("%s-%d.html", plain, n)
	}
	taken[name] = true
	return name
}
