package template

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/blocks"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/disk"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/image/qcow2"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/ovf"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// MakeOrder says what template to make.
type MakeOrder struct {
	Name string
	// Package is a file in the Open Virtualization Format instead of a disk.
	Package string
	// FirstDisk takes only the first disk of a package with several.
	FirstDisk bool
	// Disk is a file, or STORE/VOLUME or machine:NAME of the site; empty for an empty disk of a Size.
	Disk  string
	Size  machine.Size
	Site  string
	Host  string
	Store string
	// Preset is that of the setup whose CPUs, memory and firmware it gets; empty for the defaults.
	Preset string
	Notes  string
	// Anyway makes it whatever is left on the disk.
	Anyway bool
}

// Making is a template that is to be made.
type Making struct {
	mint.Task
	// Found is what was found on the disk; nil for an empty one.
	Found *mint.Inspected
	// Packed is the machine that a package describes; nil if there is none.
	Packed *ovf.Machine
	// Suggested is what the setup can say of a template that is made of a package, as a part of it; it may be empty.
	Suggested string
	// Blocking counts the findings that are errors.
	Blocking int
	ledger.Version
	Store string
	// Length is how much is sent.
	Length machine.Size
	// There means that the newest version has this very content: nothing is to be done.
	There bool

	source *source
}

// Close closes the disk that it is made of.
func (m *Making) Close() { m.source.done() }

// Question asks before that.
func (m *Making) Question() mint.Question {
	return mint.Question{Text: fmt.Sprintf("Make template %s at site %s, in store %s (%s)?", m.Name(), m.Site, m.Store, m.Length), Word: "yes"}
}

// source is a disk that a template is made of.
type source struct {
	blocks.Source
	size int64
	done func()
}

// Prepare looks at everything that a template is made of, and reads its disk: there is nothing to be
// made yet. The ledger is locked once the disk was read, which may take long.
func Prepare(ctx context.Context, d *mint.Desk, o MakeOrder, lock func() error) (*Making, error) {
	v, err := machine.ParseVersion(o.Name)
	if err != nil {
		return nil, err
	}
	if v.Number > 0 {
		return nil, refuse("%s: the number of a version is given by the ledger; name the template alone", o.Name)
	}
	where, err := siteOf(d, o.Site)
	if err != nil {
		return nil, err
	}
	to, at, err := maker(d, where)
	if err != nil {
		return nil, err
	}
	survey, err := d.Sites.Ask(ctx, where)
	if err != nil {
		return nil, err
	}
	store, err := storeOf(d, survey, where, o.Store)
	if err != nil {
		return nil, err
	}
	var from *source
	var packed *ovf.Machine
	if o.Package != "" {
		o.Disk = o.Package
		from, packed, err = openPackage(d, &o)
	} else {
		from, err = open(ctx, o, at)
	}
	if err != nil {
		return nil, err
	}
	if from.size > mostDisk {
		from.done()
		return nil, refuse("the disk of a template has at most %s", machine.Size(mostDisk))
	}
	m := &Making{source: from, Store: store, Packed: packed}
	fail := func(err error) (*Making, error) {
		from.done()
		return nil, err
	}
	if packed != nil {
		o.Notes = cmp.Or(o.Notes, strings.TrimSpace(packed.Product.Name+" "+packed.Product.Version))
		if m.Suggested, err = suggest(d.Setup, o.Name, packed); err != nil {
			return fail(err)
		}
	}
	if o.Disk != "" {
		i, err := inspect.Of(disk.Disk{ReaderAt: from, Size: from.size})
		if err != nil {
			return fail(fmt.Errorf("%s: %w", o.Disk, err))
		}
		m.Found = &mint.Inspected{Disk: o.Disk, Inspection: i}
		for _, l := range i.Leftovers {
			if l.Severity == finding.Error {
				m.Blocking++
			}
		}
		if m.Blocking > 0 && !o.Anyway {
			return m, nil
		}
	}
	content, err := blocks.Read(from, from.size, func(int64) error { return ctx.Err() })
	if err != nil {
		return fail(fmt.Errorf("%s: %w", o.Disk, err))
	}
	layout, err := qcow2.NewLayout(from.size, content.Has)
	if err != nil {
		return fail(err)
	}
	m.Length = machine.Size(layout.Length())
	user, host := mint.Operator()
	m.Version = ledger.Version{Site: where, Version: contract.Version{Ledger: d.Ledger.ID, Of: o.Name, Made: time.Now().UTC().Truncate(time.Second), By: user + "@" + host, Digest: content.Digest(), From: origin(o), Notes: o.Notes}}
	if err := lock(); err != nil {
		return fail(err)
	}
	_, newest, err := versionsAt(ctx, d, where, o.Name)
	if err != nil {
		return fail(err)
	}
	if err := m.number(ctx, d, newest); err != nil {
		return fail(err)
	}
	if m.There {
		return m, nil
	}
	order := contract.TemplateOrder{Host: o.Host, Store: store, Disk: machine.Size(from.size)}
	if err := hardware(d, o, m.Found, packed, &order); err != nil {
		return fail(err)
	}
	fill(&order, packed)
	image := contract.Image{Size: layout.Length(), WriteTo: func(w io.Writer) error { return layout.WriteTo(w, content.Checked(from)) }}
	m.Task = task("template make "+o.Name, machine.Key{Site: where, Name: m.Name()}, func(e *run.Engine) []act {
		return making(d, at, to, &m.Version, m.Found, e.Run, order, image)
	})
	return m, nil
}

func origin(o MakeOrder) string {
	if o.Disk == "" {
		return "an empty disk"
	}
	return o.Disk
}

// making are the steps of making a version of an image.
func making(d *mint.Desk, at site.Site, to site.TemplateMaker, v *ledger.Version, found *mint.Inspected, run string, order contract.TemplateOrder, image contract.Image) []act {
	return []act{
		{"begin", func(ctx context.Context, share func(float64)) (err error) {
			v.Run = run
			if err := clearRest(ctx, d, at, to, *v, share); err != nil {
				return err
			}
			*v, err = d.Ledger.BeginVersion(ctx, *v, 0)
			return err
		}},
		{"send", func(ctx context.Context, share func(float64)) error {
			ctx, cancel := inTime(ctx, d)
			defer cancel()
			order.Version = v.Version
			order.Identity = identity(*v)
			t, err := to.MakeTemplate(ctx, order, image)
			return settle(ctx, at, t, err, share)
		}},
		{"record", func(ctx context.Context, _ func(float64)) error {
			v.State = ledger.VersionMade
			if err := d.Ledger.PutVersion(ctx, *v); err != nil || found == nil {
				return err
			}
			return keepInspection(ctx, d, *v, found)
		}},
	}
}

// keepInspection keeps what was found on the disk of a version, for as long as its site tells of it as it
// does now.
func keepInspection(ctx context.Context, d *mint.Desk, v ledger.Version, found *mint.Inspected) error {
	answer, err := d.Sites.Ask(ctx, v.Site)
	if err != nil {
		return err
	}
	is := answer.Template(v.Name())
	if is == nil {
		return fmt.Errorf("site %s does not tell of template %s, which it was to make", v.Site, v.Name())
	}
	return d.Ledger.KeepInspection(ctx, ledger.TemplateKey{Site: v.Site, Template: v.Name()}, found.Summary(is.Changed, time.Now()))
}

func identity(v ledger.Version) (id [16]byte) {
	return machine.Version{Template: v.Of, Number: v.Number}.Identity(v.Ledger, v.Site)
}

// clearRest removes what is left of versions of the template whose deletion was begun at the site, or
// that were begun there and are given up for another one. One that the site does not let go, because a clone needs it, stays: it is made.
func clearRest(ctx context.Context, d *mint.Desk, at site.Site, to site.TemplateMaker, but ledger.Version, share func(float64)) error {
	all, err := d.Ledger.Versions(ctx)
	if err != nil {
		return err
	}
	for _, v := range all {
		abandoned := v.State == ledger.VersionMaking && v.Number != but.Number || v.State == ledger.VersionDropping
		if v.Of != but.Of || v.Site != but.Site || !abandoned {
			continue
		}
		if err := removeCopy(ctx, at, v, share); err != nil {
			return fmt.Errorf("remove the copy for %s: %w", v.Name(), err)
		}
		t, err := to.DropTemplate(ctx, v.Version, identity(v))
		err = settle(ctx, at, t, err, share)
		v.State = ledger.VersionDropped
		if errors.Is(err, site.ErrRefused) {
			answer, asked := d.Sites.Ask(ctx, v.Site)
			if asked != nil {
				return asked
			}
			if is := wholeAt(answer, v); is != nil {
				v.State, v.Version, err = ledger.VersionMade, *is, nil
			}
		}
		if err != nil {
			return fmt.Errorf("remove what is left of %s: %w", v.Name(), err)
		}
		if err := d.Ledger.PutVersion(ctx, v); err != nil {
			return err
		}
	}
	return nil
}

// wholeAt is a version as its site has it; nil if it has none: one that is listed is whole.
func wholeAt(answer *contract.Survey, v ledger.Version) *contract.Version {
	for _, t := range answer.Templates {
		if t.Name == v.Name() && t.Version != nil && t.Version.Ledger == v.Ledger {
			return t.Version
		}
	}
	return nil
}

// versionsAt asks a site for what it has, and all sites for the largest number of a version of a template.
func versionsAt(ctx context.Context, d *mint.Desk, where, template string) (*contract.Survey, int, error) {
	answers, err := d.Sites.AskAll(ctx, d.Sites.Every())
	if err != nil {
		return nil, 0, fmt.Errorf("the versions of %s are known only once all sites answer: %w", template, err)
	}
	newest := 0
	for _, a := range answers {
		newest = max(newest, a.Newest()[template])
	}
	return answers[where], max(newest, published(ctx, d, template)), nil
}

// libraryPatience is how long a library is waited for that is only asked which numbers it has.
const libraryPatience = 10 * time.Second

// published is the largest number of a version of a template in the libraries that answer.
func published(ctx context.Context, d *mint.Desk, template string) int {
	limited, cancel := context.WithTimeout(ctx, libraryPatience)
	defer cancel()
	newest := 0
	for _, name := range setup.Names(d.Setup.Libraries) {
		if shelf, err := Open(d, name); err == nil {
			if v, err := shelf.newest(limited, template); err == nil {
				newest = max(newest, v.Number)
			}
		}
	}
	return newest
}

// number gives the version its number: that of one with this content, which was begun or is there, or
// the next one.
func (m *Making) number(ctx context.Context, d *mint.Desk, newest int) error {
	all, err := d.Ledger.Versions(ctx)
	if err != nil {
		return err
	}
	for _, v := range all {
		if v.Of != m.Of {
			continue
		}
		newest = max(newest, v.Number)
		if v.Digest != m.Digest || v.Site != m.Site {
			continue
		}
		switch v.State {
		case ledger.VersionMaking:
			m.Number, m.Made = v.Number, v.Made
		case ledger.VersionMade:
			m.There, m.Number = true, v.Number
		}
	}
	if m.There && m.Number < newest {
		m.There, m.Number = false, 0 // it is wanted as the newest again
	}
	if m.Number == 0 {
		m.Number = newest + 1
	}
	return nil
}

// mostDisk is how large a disk may be.
const mostDisk = 16 << 40

// open opens the disk that a template is made of.
func open(ctx context.Context, o MakeOrder, at site.Site) (*source, error) {
	if o.Disk == "" {
		return &source{blank{}, int64(o.Size), func() {}}, nil
	}
	_, isMachine := machine.SourceOf(o.Disk)
	if _, err := os.Stat(o.Disk); !isMachine && (err == nil || strings.HasPrefix(o.Disk, "/") || strings.HasPrefix(o.Disk, ".") || !strings.Contains(o.Disk, "/")) {
		d, err := diskfile.Open(o.Disk, "")
		if err != nil {
			return nil, err
		}
		return &source{d, d.Virtual(), d.Close}, nil
	}
	reader, can := at.(site.DiskReader)
	if !can {
		return nil, refuse("this kind of site cannot read disks; name a file")
	}
	whole, _, err := reader.Disk(ctx, o.Disk)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", o.Disk, err)
	}
	return &source{sourceOf(whole), whole.Size, func() {}}, nil
}

// sourceOf is a disk that may know where it was never written to.
func sourceOf(d disk.Disk) blocks.Source {
	if s, knows := d.ReaderAt.(blocks.Source); knows {
		return s
	}
	return blocks.Whole{ReaderAt: d.ReaderAt}
}

// blank is an empty disk.
type blank struct{}

// ReadAt implements io.ReaderAt.
func (blank) ReadAt(p []byte, _ int64) (int, error) {
	clear(p)
	return len(p), nil
}

// Written implements blocks.Source.
func (blank) Written(int64, int64) (bool, error) { return false, nil }

// storeOf is the store that is named, that of the setup's defaults, or the only one of the site.
func storeOf(d *mint.Desk, survey *contract.Survey, where, name string) (string, error) {
	var all []string
	for _, st := range survey.Stores {
		if !slices.Contains(all, st.Name) {
			all = append(all, st.Name)
		}
	}
	if usual := d.Setup.Defaults["store"]; name == "" && slices.Contains(all, usual) {
		name = usual
	}
	switch {
	case name == "" && len(all) == 1:
		return all[0], nil
	case name == "":
		return "", refuse("site %s has several stores; name one with --store (%s)", where, strings.Join(all, ", "))
	case !slices.Contains(all, name):
		return "", refuse("site %s has no store %q (%s)", where, name, finding.DidYouMean(name, all))
	}
	return name, nil
}

// hardware fills in the machine around the disk: what the setup's template of this name says, and the
// columns of a preset.
func hardware(d *mint.Desk, o MakeOrder, found *mint.Inspected, packed *ovf.Machine, order *contract.TemplateOrder) error {
	if h := machine.Hardware(d.Setup.Templates[o.Name].Hardware); h != (machine.Hardware{}) {
		order.Hardware = &h
	}
	values := []setup.Values{}
	if o.Preset != "" {
		if _, known := d.Setup.Presets[o.Preset]; !known {
			return fmt.Errorf("%w preset: %q (%s)", mint.ErrUnknown, o.Preset, finding.DidYouMean(o.Preset, setup.Names(d.Setup.Presets)))
		}
		for _, p := range d.Setup.Lineage(o.Preset) {
			values = append(values, d.Setup.Presets[p].Values)
		}
	}
	values = append(values, d.Setup.Templates[o.Name].Values)
	var spec machine.Spec
	for _, c := range column.All() {
		if !slices.Contains([]string{"cpus", "memory", "firmware"}, c.Name) {
			continue
		}
		i := slices.IndexFunc(values, func(v setup.Values) bool { return v[c.Name] != "" })
		if i < 0 {
			continue
		}
		if wrong := c.Read(&spec, values[i][c.Name]); len(wrong) > 0 {
			return refuse("%s: %s", c.Name, wrong[0].Message)
		}
	}
	order.CPUs, order.Memory, order.Firmware = spec.Shape.CPUs, spec.Shape.Memory, spec.Clone.Firmware
	if packed != nil {
		order.Firmware = cmp.Or(order.Firmware, packed.Firmware)
	}
	if found != nil && order.Firmware == "" { // what it can be started by
		order.Firmware = bootsBy(found.System.Boot)
	}
	order.Firmware = cmp.Or(order.Firmware, machine.BIOS)
	return nil
}

// bootsBy is the firmware that a system can be started by; BIOS where it can be by both.
func bootsBy(boot []string) machine.Firmware {
	if slices.Contains(boot, string(machine.UEFI)) && !slices.Contains(boot, string(machine.BIOS)) {
		return machine.UEFI
	}
	return machine.BIOS
}

// Failure is why a task did not come to its end.
type Failure struct {
	cause error
	err   error // of the run
}

// Error says at which step, and why.
func (f *Failure) Error() string { return f.cause.Error() }

// Unwrap returns the cause, and that the run is incomplete.
func (f *Failure) Unwrap() []error { return []error{f.cause, f.err} }

// Outcome is what came of a task; a *Failure if a step of it has failed.
func Outcome(o *mint.Outcome, err error) error {
	for _, r := range o.Results {
		if r.Err != nil && !errors.Is(r.Err, run.ErrStopped) {
			return &Failure{fmt.Errorf("%s failed at %s: %w", r.Name, r.Step, r.Err), err}
		}
	}
	return err
}
