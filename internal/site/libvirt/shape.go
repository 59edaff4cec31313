package libvirt

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// definition reads what the machine will be at its next start.
func (d *domain) definition(ctx context.Context) (*definition, error) {
	var text string
	err := d.call(ctx, func(l daemon) (err error) {
		text, err = l.DomainGetXMLDesc(d.dom, rpc.DomainXMLInactive|rpc.DomainXMLSecure)
		return err
	})
	if err != nil {
		return nil, err
	}
	return parseDefinition(text)
}

func (d *domain) running(ctx context.Context) (bool, error) {
	var state int32
	err := d.call(ctx, func(l daemon) (err error) {
		state, _, err = l.DomainGetState(d.dom, 0)
		return err
	})
	return runs(state), err
}

// state reads both what the machine will be and whether it runs.
func (d *domain) state(ctx context.Context) (def *definition, on bool, err error) {
	if def, err = d.definition(ctx); err != nil {
		return nil, false, err
	}
	on, err = d.running(ctx)
	return def, on, err
}

// runs reports whether a state is one in which the machine takes memory.
func runs(state int32) bool {
	switch rpc.DomainState(state) {
	case rpc.DomainShutoff, rpc.DomainCrashed, rpc.DomainNostate:
		return false
	}
	return true
}

// shape sets CPUs, memory and disks. A machine that runs is shut down in an
// orderly way for what it cannot take while it does, and started again.
func (d *domain) shape(ctx context.Context, id uuid.UUID, want machine.Shape, restart contract.Restart) error {
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	if err := def.fits(want.CPUs, want.Memory); err != nil {
		return err
	}
	if want.Disk > 0 {
		disks := def.disks()
		if len(disks) == 0 {
			return fmt.Errorf("%w: it has no disk", site.ErrRefused)
		}
		if err := d.grow(ctx, disks[0], want.Disk, on); err != nil {
			return err
		}
	}
	changed := want.CPUs > 0 && want.CPUs != def.cpus() && def.setCPUs(want.CPUs, 0)
	changed = def.setMemory(want.Memory) || changed
	added, cold, err := d.dataDisks(ctx, id, def, want.Disks, on)
	if err != nil || !changed && !added {
		return err
	}
	return d.redefine(ctx, def, on && (changed || cold), restart)
}

// redefine makes a definition that of the machine. One that cannot take it while it
// runs is shut down for it and started again, if it may be.
func (d *domain) redefine(ctx context.Context, def *definition, cold bool, restart contract.Restart) error {
	if !cold {
		return d.define(ctx, def)
	}
	if restart == contract.NoRestart {
		return fmt.Errorf("%w: this change needs a restart, which the row forbids", site.ErrRefused)
	}
	if err := d.shutDown(ctx); err != nil {
		return fmt.Errorf("shut it down to change its hardware: %w", err)
	}
	if err := d.define(ctx, def); err != nil {
		return err
	}
	return d.start(ctx)
}

// grow makes a disk larger, never smaller.
func (d *domain) grow(ctx context.Context, disk *etree.Element, size machine.Size, on bool) error {
	file, err := diskFile(disk)
	if err != nil {
		return err
	}
	v, err := d.volumeAt(ctx, file)
	if err != nil {
		return err
	}
	switch {
	case v.capacity == size:
		return nil
	case v.capacity > size:
		return fmt.Errorf("%w: its disk has %s and cannot shrink to %s", site.ErrRefused, v.capacity, size)
	}
	return d.call(ctx, func(l daemon) error {
		if on {
			return l.DomainBlockResize(d.dom, attr(disk, "./target", "dev"), uint64(size), rpc.DomainBlockResizeBytes)
		}
		flags := rpc.StorageVolResizeFlags(0)
		if v.format == "raw" && v.used >= v.capacity { // it has taken its room at once
			flags = rpc.StorageVolResizeAllocate
		}
		return l.StorageVolResize(v.vol, uint64(size), flags)
	})
}

// dataDisks makes the data disks that are missing and grows those that are too
// small. It reports whether the definition got another disk, and whether one is
// cold: the running machine has no slot left for it until its next start.
func (d *domain) dataDisks(ctx context.Context, id uuid.UUID, def *definition, want []machine.Disk, on bool) (added, cold bool, err error) {
	for i, disk := range want {
		serial := fmt.Sprintf("data-%d", i+1)
		if e := def.root.FindElement("./devices/disk[serial='" + serial + "']"); e != nil {
			if err := d.grow(ctx, e, disk.Size, on); err != nil {
				return added, cold, fmt.Errorf("data disk %d: %w", i+1, err)
			}
			continue
		}
		file, err := d.dataDisk(ctx, id, def, i, disk)
		if err != nil {
			return added, cold, fmt.Errorf("data disk %d: %w", i+1, err)
		}
		e := def.addDisk(file, serial)
		if on {
			err := d.call(ctx, func(l daemon) error {
				return l.DomainAttachDeviceFlags(d.dom, elementText(e), uint32(rpc.DomainDeviceModifyLive))
			})
			cold = cold || err != nil
		}
		added = true
	}
	return added, cold, nil
}

// dataDisk makes a data disk and returns its file, or finds the one that an earlier clone
// has handed on.
func (d *domain) dataDisk(ctx context.Context, id uuid.UUID, def *definition, i int, disk machine.Disk) (string, error) {
	part := fmt.Sprintf(".data-%d.qcow2", i+1)
	if mark, _ := def.mark(); mark != nil && mark.IsHandedOn(i) {
		return d.handedOn(ctx, id, mark.Data[i], part, disk.Size)
	}
	pool, err := d.storeFor(ctx, def, disk.Store)
	if err != nil {
		return "", err
	}
	name := volumeName(d.dom.Name, id, part)
	if err := d.replaceable(ctx, pool, name, id); err != nil {
		return "", err
	}
	allocation, flags := machine.Size(0), rpc.StorageVolCreateFlags(0)
	if disk.Kind == machine.FullDisk {
		allocation, flags = disk.Size, rpc.StorageVolCreatePreallocMetadata
	}
	return d.create(ctx, pool, volumeXML(name, "qcow2", disk.Size, allocation, nil), flags)
}

// handedOn finds a data disk that was made for an earlier clone, and grows it if it is to be
// larger. It is only ever one that no machine has.
func (d *domain) handedOn(ctx context.Context, id, from uuid.UUID, part string, size machine.Size) (string, error) {
	volumes, err := d.remains(ctx, from)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(volumes, func(v rpc.StorageVol) bool { return strings.HasSuffix(v.Name, part) })
	if i < 0 {
		return "", fmt.Errorf("%w: the one that was to be kept is not in an active store of host %s", site.ErrRefused, d.name)
	}
	if err := d.unused(ctx, volumes[i:i+1], id, atOnce); err != nil {
		return "", err
	}
	v, err := d.volumeAt(ctx, volumes[i].Key)
	if err != nil {
		return "", err
	}
	switch {
	case v.capacity > size:
		return "", fmt.Errorf("%w: it has %s and cannot shrink to %s", site.ErrRefused, v.capacity, size)
	case v.capacity < size:
		err = d.call(ctx, func(l daemon) error { return l.StorageVolResize(v.vol, uint64(size), 0) })
	}
	return v.path, err
}

// storeFor is the named store, else that of the machine's own disk.
func (d *domain) storeFor(ctx context.Context, def *definition, name string) (rpc.StoragePool, error) {
	if name != "" {
		return d.findStore(ctx, name)
	}
	disks := def.disks()
	if len(disks) == 0 {
		return rpc.StoragePool{}, fmt.Errorf("%w: it has no disk", site.ErrRefused)
	}
	file, err := diskFile(disks[0])
	if err != nil {
		return rpc.StoragePool{}, err
	}
	var pool rpc.StoragePool
	err = d.call(ctx, func(l daemon) error {
		v, err := l.StorageVolLookupByPath(file)
		if err != nil {
			return err
		}
		pool, err = l.StoragePoolLookupByVolume(v)
		return err
	})
	return pool, err
}

// wire connects the adapters.
func (d *domain) wire(ctx context.Context, adapters []machine.Card, restart contract.Restart) error {
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	if err := d.reserveLeases(ctx, adapters); err != nil {
		return err
	}
	has := def.adapters()
	same := len(has) == len(adapters)
	for i := 0; same && i < len(has); i++ {
		same = networkWithCard(has[i], adapters[i])
	}
	if same {
		return nil
	}
	var gone []string
	for _, e := range has[min(len(has), len(adapters)):] {
		gone = append(gone, elementText(e))
	}
	def.setAdapters(adapters)
	cold := on && d.wireLive(ctx, def, len(has), gone) != nil
	return networkError(d.redefine(ctx, def, cold, restart), adapters)
}

// wireLive connects the adapters of a machine that runs: changes those that it
// has, of which some go, and adds the others.
func (d *domain) wireLive(ctx context.Context, def *definition, has int, gone []string) error {
	flags := uint32(rpc.DomainDeviceModifyLive)
	return d.call(ctx, func(l daemon) error {
		for i, e := range def.adapters() {
			var err error
			if i < has {
				err = l.DomainUpdateDeviceFlags(d.dom, elementText(e), rpc.DomainDeviceModifyFlags(flags))
			} else {
				err = l.DomainAttachDeviceFlags(d.dom, elementText(e), flags)
			}
			if err != nil {
				return err
			}
		}
		for _, e := range gone {
			if err := l.DomainDetachDeviceFlags(d.dom, e, flags); err != nil {
				return err
			}
		}
		return nil
	})
}

// networkError names the network that libvirt has not found.
func networkError(err error, adapters []machine.Card) error {
	for _, a := range adapters {
		if err != nil && strings.Contains(err.Error(), strings.TrimPrefix(a.Network, contract.BridgePrefix)) {
			return fmt.Errorf("%w: network %s: %w", site.ErrRefused, a.Network, err)
		}
	}
	return err
}
