package libvirt

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"time"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// setVersion puts the mark of a template that was made by this program into a definition, in the
// place of any other mark.
func (d *definition) setVersion(v contract.Version) {
	metadata := child(d.root, "metadata")
	for _, e := range metadata.ChildElements() {
		if e.NamespaceURI() == namespace {
			metadata.RemoveChild(e)
		}
	}
	e := metadata.CreateElement("template")
	e.Space = prefix
	e.CreateAttr("xmlns:"+prefix, namespace)
	for _, a := range [][2]string{{"ledger", v.Ledger.String()}, {"of", v.Of}, {"number", strconv.Itoa(v.Number)}, {"made", v.Made.UTC().Format(time.RFC3339)}, {"by", v.By}, {"digest", v.Digest}, {"from", v.From}} {
		if a[1] != "" {
			e.CreateAttr(a[0], plainText(a[1]))
		}
	}
	without(d.root, "./title")
	without(d.root, "./description")
	text(d.root, "template "+v.Name(), "title")
	if v.Notes != "" {
		text(d.root, plainText(v.Notes), "description")
	}
}

// version reads that mark; nil where there is none that can be read.
func (d *definition) version() *contract.Version {
	var e *etree.Element
	for _, found := range d.root.FindElements("./metadata/*") {
		if found.NamespaceURI() == namespace && found.Tag == "template" {
			e = found
		}
	}
	if e == nil {
		return nil
	}
	get := func(name string) string { return e.SelectAttrValue(name, "") }
	ledger, err := uuid.Parse(get("ledger"))
	number, err2 := strconv.Atoi(get("number"))
	made, err3 := time.Parse(time.RFC3339, get("made"))
	if errors.Join(err, err2, err3) != nil || number < 1 {
		return nil
	}
	return &contract.Version{Ledger: ledger, Of: get("of"), Number: number, Made: made, By: get("by"), Digest: get("digest"), From: get("from"), Notes: textAt(d.root, "./description")}
}

// versions names the templates of this program that are among machines.
func versions(all []seenDomain) []string {
	var names []string
	for _, d := range all {
		if v := d.definition.version(); v != nil && v.Name() == d.dom.Name {
			names = append(names, d.dom.Name)
		}
	}
	return names
}

// templatePart ends the name of the disk of a template that was made here.
const templatePart = ".template.qcow2"

// MakeTemplate implements site.TemplateMaker. The machine is defined once its disk is whole.
func (s *Site) MakeTemplate(ctx context.Context, o contract.TemplateOrder, image contract.Image) (contract.Task, error) {
	return s.tasks.Start(ctx, func(ctx context.Context, share func(float64)) error {
		return retry(ctx, func() error { return s.makeTemplate(ctx, o, image, share) })
	})
}

func (s *Site) makeTemplate(ctx context.Context, o contract.TemplateOrder, image contract.Image, share func(float64)) error {
	h, pool, err := s.storeOf(ctx, o.Host, o.Store)
	if err != nil {
		return err
	}
	name := o.Version.Name()
	switch d, err := s.find(ctx, o.Identity); {
	case errors.Is(err, site.ErrNotFound):
		if err := h.nameIsFree(ctx, name); err != nil {
			return err
		}
	case err != nil:
		return err
	default: // whole, or what an earlier try has left
		def, err := d.definition(ctx)
		if err != nil || def.version() != nil {
			return err
		}
	}
	file := volumeName(name, o.Identity, templatePart)
	if err := h.replaceable(ctx, pool, file, o.Identity); err != nil {
		return err
	}
	if err := h.upload(ctx, pool, file, o.Disk, image, share); err != nil {
		return err
	}
	v, err := h.volumeIn(ctx, pool, file)
	if err != nil {
		return err
	}
	d, err := s.like(ctx, h, o)
	if err != nil {
		return err
	}
	setDiskFile(d.disks()[0], v.path, "qcow2")
	h.fillNVRAM(ctx, d)
	d.setVersion(o.Version)
	return h.define(ctx, d)
}

// fillNVRAM gives a template the NVRAM of the machine that it is like: its system may boot by an entry in there only.
// libvirt copies it at the first start, and a template is never started; so a machine without any device is, and does not
// run. Where that fails, clones start with what the firmware has by itself.
func (h *host) fillNVRAM(ctx context.Context, d *definition) {
	if attr(d.root, "./os/nvram", "template") == "" {
		return
	}
	bare, err := parseDefinition(d.String())
	if err != nil {
		return
	}
	for _, e := range bare.devices().ChildElements() {
		if e.Tag != "emulator" {
			bare.devices().RemoveChild(e)
		}
	}
	if h.define(ctx, bare) != nil {
		return
	}
	_ = h.call(ctx, func(l daemon) error {
		dom, err := l.DomainLookupByName(textAt(bare.root, "./name"))
		if err != nil {
			return err
		}
		if _, err := l.DomainCreateWithFlags(dom, uint32(rpc.DomainStartPaused)); err != nil {
			return err
		}
		return l.DomainDestroyFlags(dom, 0)
	})
}

// like is the definition of a template without its disk: that of a machine, or a plain one.
func (s *Site) like(ctx context.Context, h *host, o contract.TemplateOrder) (*definition, error) {
	if o.Like == uuid.Nil {
		var hardware machine.Hardware
		if o.Hardware != nil {
			hardware = *o.Hardware
		}
		d, err := h.plain(ctx, hardware)
		if err != nil {
			return nil, err
		}
		d.identify(o.Version.Name(), o.Identity)
		d.setFirmware(o.Firmware)
		d.bootFromDisk()
		d.addAgent()
		d.setHardware(hardware)
		d.setCPUs(cmp.Or(o.CPUs, 1), hardware.Sockets)
		d.setMemory(cmp.Or(o.Memory, machine.GiB))
		return d, nil
	}
	from, err := s.find(ctx, o.Like)
	if err != nil {
		return nil, err
	}
	d, err := from.definition(ctx)
	if err != nil {
		return nil, err
	}
	if n := len(d.disks()); n != 1 {
		return nil, fmt.Errorf("%w: machine %s has %s, and a template that is made has one", site.ErrRefused, from.dom.Name, finding.Plural(n, "disk"))
	}
	d.dropSeed()
	d.identify(o.Version.Name(), o.Identity)
	if from.host != h {
		without(d.root, "./os/nvram")
	}
	d.eject()
	d.bootFromDisk()
	return d, nil
}

// storeOf finds a store, at a host or at the first that has it.
func (s *Site) storeOf(ctx context.Context, host, store string) (*host, rpc.StoragePool, error) {
	var failed error
	for _, h := range s.hosts {
		if host != "" && h.name != host {
			continue
		}
		pool, err := h.findStore(ctx, store)
		if err == nil {
			return h, pool, nil
		}
		failed = errors.Join(failed, err)
	}
	if failed == nil {
		failed = fmt.Errorf("%w: the site has no host %q", site.ErrRefused, host)
	}
	return nil, rpc.StoragePool{}, failed
}

// upload makes a volume of an image, which nobody may write to afterwards.
func (h *host) upload(ctx context.Context, pool rpc.StoragePool, name string, disk machine.Size, image contract.Image, share func(float64)) error {
	key, err := h.create(ctx, pool, volumeXMLFor("0444", name, "qcow2", disk, 0, nil), 0)
	if err != nil {
		return err
	}
	err = h.copy(ctx, func(l daemon) error {
		r, w := io.Pipe()
		defer r.Close()
		go func() { w.CloseWithError(image.WriteTo(w)) }()
		counted := &counting{from: &untilDone{ctx, r}, whole: image.Size, share: share}
		return l.StorageVolUpload(rpc.StorageVol{Pool: pool.Name, Name: name, Key: key}, counted, 0, uint64(image.Size), 0)
	})
	if err == nil {
		return h.refresh(ctx, pool)
	}
	return h.roomIn(ctx, pool, machine.Size(image.Size), machine.Size(image.Size), err)
}

// counting tells how much of a stream was read.
type counting struct {
	from        io.Reader
	whole, done int64
	share       func(float64)
}

// Read implements io.Reader.
func (c *counting) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	c.done += int64(n)
	if c.whole > 0 {
		c.share(min(float64(c.done)/float64(c.whole), 0.99))
	}
	return n, err
}

// DropTemplate implements site.TemplateMaker. The disk goes before the machine that knows it.
func (s *Site) DropTemplate(ctx context.Context, v contract.Version, id uuid.UUID) (contract.Task, error) {
	return s.tasks.Start(ctx, func(ctx context.Context, _ func(float64)) error {
		return retry(ctx, func() error { return s.dropTemplate(ctx, v, id) })
	})
}

func (s *Site) dropTemplate(ctx context.Context, v contract.Version, id uuid.UUID) error {
	d, err := s.find(ctx, id)
	if errors.Is(err, site.ErrNotFound) {
		for _, h := range s.hosts {
			volumes, err := h.remains(ctx, id)
			if err == nil {
				err = h.unused(ctx, volumes, id, atOnce)
			}
			if err == nil {
				err = h.discardAll(ctx, volumes)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	if err != nil {
		return err
	}
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	bare := def.version() == nil && len(def.disks()) == 0 // what a try that was cut short has left
	if is := def.version(); !bare && (is == nil || is.Ledger != v.Ledger || is.Name() != v.Name()) {
		return fmt.Errorf("%w: it does not carry the mark of template %s of this ledger", site.ErrRefused, v.Name())
	}
	if on {
		return fmt.Errorf("%w: %w", site.ErrRefused, errRunning)
	}
	for _, h := range s.hosts { // a store of several hosts has children at each
		if err := h.childless(ctx, def); err != nil {
			return err
		}
	}
	volumes, err := d.remains(ctx, id)
	if err == nil {
		err = d.unused(ctx, volumes, id, atOnce)
	}
	if err == nil {
		err = d.discardAll(ctx, volumes)
	}
	if err != nil {
		return err
	}
	return d.undefine(ctx)
}

// childless refuses a template on whose disk others of the host depend: linked clones, and any volume
// of a store.
func (h *host) childless(ctx context.Context, def *definition) error {
	all, err := h.domains(ctx)
	if err != nil {
		return err
	}
	children := dependants(all)
	volumes, err := h.volumes(ctx)
	if err != nil {
		return err
	}
	files := def.files()
	for _, file := range files {
		if n := len(children[file]); n > 0 {
			return fmt.Errorf("%w: %s of host %s need it (such as %s)", site.ErrRefused, finding.Plural(n, "linked clone"), h.name, children[file][0].name)
		}
	}
	for _, vol := range volumes {
		v, err := h.findVolume(ctx, func(daemon) (rpc.StorageVol, error) { return vol, nil })
		if errors.Is(err, site.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		if slices.Contains(files, v.backing) {
			return fmt.Errorf("%w: %s of host %s depends on its disk", site.ErrRefused, v.path, h.name)
		}
	}
	return nil
}
