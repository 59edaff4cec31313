package libvirt

import (
	"context"
	"errors"
	"fmt"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// Clone implements site.Site. The order has to name host and store.
func (s *Site) Clone(ctx context.Context, o contract.CloneOrder) (contract.Task, error) {
	return s.tasks.Start(ctx, func(ctx context.Context, share func(float64)) error {
		return retry(ctx, func() error { return s.clone(ctx, o, share) })
	})
}

func (s *Site) clone(ctx context.Context, o contract.CloneOrder, share func(float64)) error {
	to, err := s.host(o.Host)
	if err != nil {
		return err
	}
	there, err := s.cloned(ctx, to, o.Identity)
	if there || err != nil {
		return err
	}
	if err := to.nameIsFree(ctx, o.Name); err != nil {
		return err
	}
	from, err := s.templateFor(ctx, to, o.Clone)
	if err != nil {
		return err
	}
	pool, err := to.findStore(ctx, o.Store)
	if err != nil {
		return err
	}
	kept, err := to.volumeIn(ctx, pool, volumeName(o.Name, o.Identity, keptSuffix))
	if err == nil {
		return notKept([]rpc.StorageVol{kept.vol})
	}
	if !errors.Is(err, site.ErrNotFound) {
		return err
	}
	var hardware machine.Hardware
	if o.Hardware != nil {
		hardware = *o.Hardware
	}
	d := from.definition
	if d == nil {
		if d, err = to.plain(ctx, hardware); err != nil {
			return err
		}
	}
	if err := d.fits(o.Shape.CPUs, o.Shape.Memory); err != nil {
		return fmt.Errorf("template %s: %w", o.Template, err)
	}
	elements := d.disks()
	mark := parent{}
	for i, v := range from.disks {
		name, serial := volumeName(o.Name, o.Identity, diskPart(i, v.format)), ""
		if from.source.Name != "" && dataSerial().MatchString(textAt(elements[i], "./serial")) { // it is a data disk of the clone, too
			serial = textAt(elements[i], "./serial")
			name = volumeName(o.Name, o.Identity, "."+serial+".qcow2")
		}
		if err := to.replaceable(ctx, pool, name, o.Identity); err != nil {
			return err
		}
		format := v.format
		if o.Kind == machine.Linked {
			format = "qcow2"
			if i == 0 {
				mark = parent{v.path, v.changed, v.used}
				v.capacity = max(v.capacity, o.Shape.Disk) // as the child will be
			}
		}
		clone := to.cloneDisk
		if i == 0 && o.DiskKind == machine.FullDisk && o.Kind == machine.Full {
			clone = to.preallocated(o)
		}
		file, err := clone(ctx, o.Kind, pool, name, from, v, share)
		if err != nil {
			return err
		}
		setDiskFile(elements[i], file, format)
		if o.Mark.Seal != "" { // what is deleted on it is to be gone
			child(elements[i], "driver").CreateAttr("discard", "unmap")
		}
		if serial != "" {
			text(elements[i], serial, "serial")
		}
	}
	d.identify(o.Name, o.Identity)
	if from.host != to {
		without(d.root, "./os/nvram") // there is none of it at this host
	}
	d.eject()
	d.setFirmware(o.Firmware)
	d.bootFromDisk()
	d.addAgent()
	d.setHardware(hardware)
	d.setCPUs(o.Shape.CPUs, hardware.Sockets)
	d.setMemory(o.Shape.Memory)
	if hardware.Adapters == machine.UnplugAdapters {
		d.keepExtraAdapters(o.Identity, len(o.Adapters))
	}
	d.setAdapters(o.Adapters) // it never has the template's networks
	d.setMark(o.Mark, mark)
	d.describe(o.Mark, o.Name)
	return networkError(to.define(ctx, d), o.Adapters)
}

// cloned reports whether the clone is there. The ledger knew where it was to be
// before it was first asked for, so that the other hosts need not answer.
func (s *Site) cloned(ctx context.Context, to *host, id uuid.UUID) (bool, error) {
	_, err := s.find(ctx, id)
	switch {
	case err == nil || errors.Is(err, site.ErrNotFound):
		return err == nil, nil
	case errors.Is(err, site.ErrRefused): // several have it
		return false, err
	}
	_, err = to.domain(ctx, id)
	if errors.Is(err, site.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

func diskPart(i int, format string) string {
	ending := "." + format
	if format == "raw" {
		ending = ".img"
	}
	if i == 0 {
		return ".disk" + ending
	}
	return fmt.Sprintf(".disk-%d%s", i+1, ending)
}

// nameIsFree refuses a name that another machine of the host has.
func (h *host) nameIsFree(ctx context.Context, name string) error {
	err := h.call(ctx, func(l daemon) error {
		_, err := l.DomainLookupByName(name)
		return err
	})
	switch {
	case err == nil:
		return fmt.Errorf("%w: host %s has another machine named %s", site.ErrRefused, h.name, name)
	case errors.Is(err, site.ErrNotFound):
		return nil
	}
	return err
}

// templateFor finds the template for a clone at a host: there, else, for a full
// one, at another.
func (s *Site) templateFor(ctx context.Context, to *host, c machine.Clone) (*template, error) {
	var last error
	for _, h := range s.ordered(to) {
		t, problem, err := h.templateAt(ctx, c.Template)
		switch {
		case errors.Is(err, site.ErrNotFound):
			last = fmt.Errorf("%w: template %q does not exist", site.ErrRefused, c.Template)
			continue
		case err != nil:
			last = err
			continue
		case problem != nil:
			return nil, fmt.Errorf("%w: template %s: %w", site.ErrRefused, c.Template, problem)
		}
		if _, isMachine := machine.SourceOf(c.Template); isMachine && c.Kind == machine.Linked {
			return nil, fmt.Errorf("%w: %s can be started again, which would break linked clones; write clone: full", site.ErrRefused, c.Template)
		}
		if h != to && c.Kind == machine.Linked {
			// A store that both hosts have holds the same file for both.
			if _, err := to.volumeAt(ctx, t.disks[0].path); err != nil {
				return nil, fmt.Errorf("%w: host %s cannot reach the disk of template %s, which a linked clone needs", site.ErrRefused, to.name, c.Template)
			}
		}
		if c.Kind == machine.Linked {
			if err := h.unchanged(ctx, t); err != nil {
				return nil, fmt.Errorf("%w: template %s: %w", site.ErrRefused, c.Template, err)
			}
		}
		return t, nil
	}
	return nil, last
}

// cloneDisk makes a disk of its own for a machine and returns its file.
func (h *host) cloneDisk(ctx context.Context, kind machine.CloneKind, pool rpc.StoragePool, name string, from *template, v *volume, share func(float64)) (string, error) {
	if kind == machine.Linked {
		return h.create(ctx, pool, volumeXML(name, "qcow2", v.capacity, 0, v), 0)
	}
	var err error
	switch {
	case from.source.Checkpoint != "":
		err = h.copyState(ctx, pool, name, from, v, share)
	case from.host == h:
		err = h.copyDisk(ctx, pool, name, v, share)
	case v.holdsStates:
		err = fmt.Errorf("%w: a machine with checkpoints is cloned at its own host only, which is %s", site.ErrRefused, from.host.name)
	default:
		err = h.fetchDisk(ctx, pool, name, from.host, v, share)
	}
	if err != nil {
		return "", h.roomIn(ctx, pool, v.used, v.capacity, err)
	}
	made, err := h.volumeIn(ctx, pool, name)
	if err != nil {
		return "", err
	}
	return made.path, nil
}

// copyDisk lets the host make an independent copy. Holes stay holes; where the
// file system shares extents, a raw disk takes no room at all.
func (h *host) copyDisk(ctx context.Context, pool rpc.StoragePool, name string, v *volume, share func(float64)) error {
	if !v.holdsStates {
		if done, err := h.copyLocally(ctx, pool, name, v, share); done || err != nil {
			return err
		}
	}
	return h.copyByDaemon(ctx, pool, volumeXML(name, v.format, v.capacity, 0, nil), 0, v.format == "raw", name, v, share)
}

// copyByDaemon is copyDisk where nothing but the host's daemon gets at the files.
func (h *host) copyByDaemon(ctx context.Context, pool rpc.StoragePool, xml string, flags rpc.StorageVolCreateFlags, reflink bool, name string, v *volume, share func(float64)) error {
	watching, stop := context.WithCancel(ctx)
	defer stop()
	go h.watchCopy(watching, pool, name, v.used, share)
	return h.copy(ctx, func(l daemon) error {
		if reflink {
			// A file system that shares no extents refuses, by a code that tells nothing.
			_, err := l.StorageVolCreateXMLFrom(pool, xml, v.vol, rpc.StorageVolCreateReflink)
			if err == nil || isConnectionError(err) {
				return err
			}
		}
		_, err := l.StorageVolCreateXMLFrom(pool, xml, v.vol, flags)
		return err
	})
}

// watchCopy reports how far a copy is, by the room that it takes so far.
func (h *host) watchCopy(ctx context.Context, pool rpc.StoragePool, name string, whole machine.Size, share func(float64)) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
		_ = h.call(ctx, func(l daemon) error {
			v, err := l.StorageVolLookupByName(pool, name)
			if err != nil {
				return err
			}
			_, _, used, err := l.StorageVolGetInfo(v)
			if err == nil && whole > 0 {
				share(min(float64(used)/float64(whole), 0.99))
			}
			return err
		})
	}
}

// define defines a machine at the host, or redefines it.
func (h *host) define(ctx context.Context, d *definition) error {
	return h.call(ctx, func(l daemon) error {
		_, err := l.DomainDefineXMLFlags(d.String(), 0)
		return err
	})
}
