package libvirt

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// template is what machines are cloned from, at its host.
type template struct {
	*host
	name       string
	source     machine.Cloned // the machine that it is, and its checkpoint; zero for a template
	definition *definition    // nil for a bare volume
	disks      []*volume
}

var errRunning = errors.New("it is running: shut it down first")

// templateAt finds a template at a host and looks whether anything can be
// cloned from it. What is wrong with one that is there is in the second error.
func (h *host) templateAt(ctx context.Context, name string) (t *template, problem, err error) {
	t = &template{host: h, name: name}
	if store, file, ok := strings.Cut(name, "/"); ok {
		v, err := h.templateVolume(ctx, store, file)
		if err != nil {
			return nil, nil, err
		}
		t.disks = []*volume{v}
		return t, h.chain(ctx, v), nil
	}
	source, isMachine := machine.SourceOf(name)
	if t.source = source; isMachine {
		name = source.Name
	}
	var text string
	var state, snapshots int32
	err = h.call(ctx, func(l daemon) error {
		dom, err := l.DomainLookupByName(name)
		if err != nil {
			return err
		}
		if state, _, err = l.DomainGetState(dom, 0); err != nil {
			return err
		}
		if snapshots, err = l.DomainSnapshotNum(dom, 0); err != nil {
			return err
		}
		text, err = l.DomainGetXMLDesc(dom, rpc.DomainXMLInactive|rpc.DomainXMLSecure)
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	if t.definition, err = parseDefinition(text); err != nil {
		return nil, nil, err
	}
	if isMachine {
		t.definition.dropSeed()
	}
	problem = h.usable(ctx, t)
	switch {
	case isMachine && source.Checkpoint != "":
		if problem == nil {
			problem = h.keptInside(ctx, t, source.Checkpoint)
		}
	case rpc.DomainState(state) != rpc.DomainShutoff:
		problem = errRunning
	case isMachine:
		for _, v := range t.disks {
			v.holdsStates = v.holdsStates || snapshots > 0
		}
	case snapshots > 0:
		problem = fmt.Errorf("it has %s, which clones do not get; delete them, or prepare another template", finding.Plural(int(snapshots), "snapshot"))
	}
	return t, problem, nil
}

// templateVolume finds a bare volume. One that was put into the store's folder
// by hand is seen after another look.
func (h *host) templateVolume(ctx context.Context, store, name string) (*volume, error) {
	var pool rpc.StoragePool
	err := h.call(ctx, func(l daemon) (err error) {
		pool, err = l.StoragePoolLookupByName(store)
		return err
	})
	if err != nil {
		return nil, err
	}
	v, err := h.volumeIn(ctx, pool, name)
	if !errors.Is(err, site.ErrNotFound) {
		return v, err
	}
	if err := h.refresh(ctx, pool); err != nil {
		return nil, err
	}
	return h.volumeIn(ctx, pool, name)
}

// usable looks at the disks of a template machine.
func (h *host) usable(ctx context.Context, t *template) error {
	for _, e := range t.definition.disks() {
		v, err := h.diskVolume(ctx, e)
		if err != nil {
			return err
		}
		if err := h.chain(ctx, v); err != nil {
			return err
		}
		t.disks = append(t.disks, v)
	}
	if len(t.disks) == 0 {
		return errors.New("it has no disk")
	}
	return nil
}

// diskVolume finds the volume that a disk is.
func (h *host) diskVolume(ctx context.Context, e *etree.Element) (*volume, error) {
	file, err := diskFile(e)
	if err != nil {
		return nil, err
	}
	var v *volume
	if file == "" {
		pool, err := h.findStore(ctx, attr(e, "./source", "pool"))
		if err != nil {
			return nil, err
		}
		v, err = h.volumeIn(ctx, pool, attr(e, "./source", "volume"))
		if err != nil {
			return nil, err
		}
	} else if v, err = h.volumeAt(ctx, file); err != nil {
		if errors.Is(err, site.ErrNotFound) {
			return nil, fmt.Errorf("its disk %s is missing or not in an active store of host %s; make %s a store with `virsh pool-define-as`", file, h.name, path.Dir(file))
		}
		return nil, fmt.Errorf("its disk %s: %w", file, err)
	}
	if format := attr(e, "./driver", "type"); format != "" {
		v.format = format // what the machine takes it for counts, not what it looks like
	}
	return v, nil
}

// longestChain bounds how deep disks may depend on disks.
const longestChain = 64

// chain walks the files that a disk depends on, and adds to its size what a
// copy without them takes.
func (h *host) chain(ctx context.Context, v *volume) error {
	for file, depth := v.backing, 0; file != ""; depth++ {
		if depth == longestChain {
			return fmt.Errorf("the backing chain of its disk is circular, or longer than %d files", longestChain)
		}
		below, err := h.volumeAt(ctx, file)
		if errors.Is(err, site.ErrNotFound) {
			return fmt.Errorf("its disk depends on %s, which is missing or not in an active store of host %s", file, h.name)
		}
		if err != nil {
			return fmt.Errorf("its disk depends on %s: %w", file, err)
		}
		file = below.backing
		v.used += below.used
	}
	return nil
}

// plain makes the definition of a machine around a bare volume.
func (h *host) plain(ctx context.Context, want machine.Hardware) (*definition, error) {
	caps, err := h.readCapabilities(ctx)
	if err != nil {
		return nil, err
	}
	arch := cmp.Or(want.Arch, caps.arch)
	emulator := cmp.Or(string(want.Emulator), caps.emulator(arch))
	board := cmp.Or(want.Board, boards[arch])
	cpu := cmp.Or(want.CPU, map[string]string{"kvm": "host-model", "qemu": "maximum"}[emulator])

	doc := etree.NewDocument()
	root := doc.CreateElement("domain")
	root.CreateAttr("type", emulator)
	text(root, "1", "vcpu")
	d := &definition{doc, root}
	d.setMemory(machine.GiB)
	kind := child(root, "os", "type")
	kind.SetText("hvm")
	kind.CreateAttr("arch", arch)
	if board != "" {
		kind.CreateAttr("machine", board)
	}
	child(root, "features", "acpi")
	if arch == "x86_64" || arch == "i686" {
		child(root, "features", "apic")
	}
	switch cpu {
	case "host-model", "host-passthrough", "maximum":
		child(root, "cpu").CreateAttr("mode", cpu)
	default:
		child(root, "cpu").CreateAttr("mode", "custom")
		text(root, cpu, "cpu", "model")
	}
	child(root, "clock").CreateAttr("offset", cmp.Or(string(want.Clock), "utc"))
	d.setSecureBoot(want.SecureBoot)
	devices := d.devices()
	disk := devices.CreateElement("disk")
	setDiskFile(disk, "", "qcow2")
	bus := cmp.Or(string(want.Bus), "virtio")
	child(disk, "target").CreateAttr("dev", busPrefix[bus]+"a")
	child(disk, "target").CreateAttr("bus", bus)
	if bus == "scsi" {
		c := devices.CreateElement("controller")
		c.CreateAttr("type", "scsi")
		c.CreateAttr("model", "virtio-scsi")
	}
	addConsole(devices)
	addDisplay(devices)
	if want.TPM == machine.SwitchOn {
		tpm := devices.CreateElement("tpm")
		tpm.CreateAttr("model", map[string]string{"x86_64": "tpm-crb"}[arch])
		if arch != "x86_64" {
			tpm.CreateAttr("model", "tpm-tis")
		}
		backend := tpm.CreateElement("backend")
		backend.CreateAttr("type", "emulator")
		backend.CreateAttr("version", "2.0")
	}
	rng := devices.CreateElement("rng")
	rng.CreateAttr("model", "virtio")
	backend := rng.CreateElement("backend")
	backend.CreateAttr("model", "random")
	backend.SetText("/dev/urandom")
	return d, nil
}

// dependant is a linked clone and what it knows of its parent.
type dependant struct {
	name   string
	parent parent
}

// dependants lists, by the file of the parent, the linked clones that carry a
// mark of ours.
func dependants(all []seenDomain) map[string][]dependant {
	found := map[string][]dependant{}
	for _, d := range all {
		if d.parent.path != "" {
			found[d.parent.path] = append(found[d.parent.path], dependant{d.dom.Name, d.parent})
		}
	}
	return found
}

// changedSince reports by which clone, of those that depend on the template's
// disk, it can be seen that the disk was changed after they were made.
func (t *template) changedSince(children map[string][]dependant) error {
	for _, v := range t.disks {
		for _, c := range children[v.path] {
			if c.parent.changed != "" && v.changed != "" && c.parent.changed != v.changed {
				return fmt.Errorf("its disk was changed after linked clones were made from it (%s was), which may have damaged them; restore the disk, or use a new template", c.name)
			}
		}
	}
	return nil
}

// unchanged holds the template's disk against the linked clones that depend on
// it. They are looked for once; those that this program makes are known.
func (h *host) unchanged(ctx context.Context, t *template) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.children == nil {
		all, err := h.domains(ctx)
		if err != nil {
			return err
		}
		h.children = dependants(all)
	}
	if err := t.changedSince(h.children); err != nil {
		return err
	}
	for _, v := range t.disks {
		if len(h.children[v.path]) == 0 {
			h.children[v.path] = []dependant{{"a machine of this run", parent{path: v.path, changed: v.changed}}}
		}
	}
	return nil
}
