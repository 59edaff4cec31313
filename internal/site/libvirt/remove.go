package libvirt

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/pattern"
	"mintbatch/internal/site"
)

// keptSuffix is of the small file that stands beside disks which were kept when
// their machine was removed. While it is there they are nobody's to delete.
const keptSuffix = ".kept"

// Remove implements site.Site. Disks go before the machine that knows them, so
// that what is interrupted is found again; disks without a machine, of a clone
// that was cut short, go as well. Those that are to stay are marked first.
func (s *Site) Remove(ctx context.Context, id uuid.UUID, disks contract.Disks) (contract.Task, error) {
	return s.tasks.Start(ctx, func(ctx context.Context, _ func(float64)) error {
		return retry(ctx, func() error { return s.remove(ctx, id, disks) })
	})
}

func (s *Site) remove(ctx context.Context, id uuid.UUID, disks contract.Disks) error {
	s.consoles.forget(id)
	d, err := s.find(ctx, id)
	if errors.Is(err, site.ErrNotFound) {
		return s.removeRemains(ctx, id, disks)
	}
	if err != nil {
		return err
	}
	if disks == contract.KeepDisks {
		err = d.keepDisks(ctx, id)
	} else {
		err = d.deleteDisks(ctx, id, disks)
	}
	if err != nil {
		return err
	}
	return d.undefine(ctx)
}

// undefine takes away the definition of a machine whose disks are gone, with all that libvirt keeps beside it.
func (d *domain) undefine(ctx context.Context) error {
	err := d.call(ctx, func(l daemon) error {
		return l.DomainUndefineFlags(d.dom, rpc.DomainUndefineManagedSave|rpc.DomainUndefineSnapshotsMetadata|rpc.DomainUndefineNvram|rpc.DomainUndefineCheckpointsMetadata)
	})
	if errors.Is(err, site.ErrNotFound) {
		return nil
	}
	return err
}

// removeRemains deletes what a copy that was cut short has left, which may be a
// file that no store knows yet, or somebody who took away the definition alone.
func (s *Site) removeRemains(ctx context.Context, id uuid.UUID, disks contract.Disks) error {
	for _, h := range s.hosts {
		if err := h.refreshAll(ctx); err != nil {
			return err
		}
		volumes, err := h.remains(ctx, id)
		if err != nil {
			return err
		}
		switch err := notKept(volumes); {
		case err == nil:
			switch disks {
			case contract.KeepDisks:
				if err := h.markKept(ctx, slices.DeleteFunc(slices.Clone(volumes), isSeed)); err != nil {
					return err
				}
				volumes = slices.DeleteFunc(volumes, func(v rpc.StorageVol) bool { return !isSeed(v) })
			case contract.KeepData:
				volumes = slices.DeleteFunc(volumes, isDataDisk)
			}
			if err := h.unused(ctx, volumes, id, atOnce); err != nil {
				return err
			}
			if err := h.discardAll(ctx, volumes); err != nil {
				return err
			}
		case disks != contract.KeepDisks:
			return err
		}
	}
	return nil
}

// notKept refuses volumes of which the disks were kept.
func notKept(volumes []rpc.StorageVol) error {
	if !slices.ContainsFunc(volumes, func(v rpc.StorageVol) bool { return strings.HasSuffix(v.Name, keptSuffix) }) {
		return nil
	}
	var files []string
	for _, v := range volumes {
		files = append(files, v.Key)
	}
	return fmt.Errorf("%w: its disks were kept and are never deleted: %s", site.ErrRefused, strings.Join(files, ", "))
}

func (h *host) discardAll(ctx context.Context, volumes []rpc.StorageVol) error {
	for _, v := range volumes {
		if err := h.discardVolume(ctx, v); err != nil {
			return fmt.Errorf("delete %s: %w", v.Name, err)
		}
	}
	return nil
}

// deleteDisks deletes the disks that were made for the machine, but for its data disks if
// these are to be kept. Those that it has from others stay.
func (d *domain) deleteDisks(ctx context.Context, id uuid.UUID, disks contract.Disks) error {
	def, err := d.definition(ctx)
	if err != nil {
		return err
	}
	if mark, _ := def.mark(); mark == nil {
		return errNotMarked
	}
	if err := d.discover(ctx); err != nil {
		return err
	}
	volumes, err := d.remains(ctx, id)
	if err == nil {
		err = notKept(volumes)
	}
	if err != nil {
		return err // and nothing was done to it
	}
	if disks == contract.KeepData {
		if err := d.freeData(ctx); err != nil {
			return err
		}
		volumes = slices.DeleteFunc(volumes, isDataDisk)
	}
	if err := d.unused(ctx, volumes, id, lately); err != nil {
		return err
	}
	if err := d.stopForGood(ctx); err != nil {
		return err
	}
	if err := d.dropLeases(ctx, def); err != nil {
		return err
	}
	return d.discardAll(ctx, volumes)
}

// isDataDisk reports whether a volume of ours is a data disk.
func isDataDisk(v rpc.StorageVol) bool { return dataDisk().MatchString(v.Name) }

// isSeed reports whether a volume of ours is a seed, or has its big files: nobody's data.
func isSeed(v rpc.StorageVol) bool {
	return strings.HasSuffix(v.Name, seedSuffix) || strings.HasSuffix(v.Name, carrySuffix)
}

// dataSerial is the serial number of a data disk.
var dataSerial = pattern.Lazy(`^data-[0-9]+$`)

var dataDisk = pattern.Lazy(`\.data-[0-9]+\.qcow2$`)

// freeData frees the data disks of a machine from all that ties them to it: they are about to
// be another's.
func (d *domain) freeData(ctx context.Context) error {
	on, err := d.running(ctx)
	if err != nil {
		return err
	}
	if on {
		return fmt.Errorf("%w: it is running; shut it down first", site.ErrRefused)
	}
	all, err := d.snapshots(ctx)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(all, func(s snapshot) bool { return len(s.overlays) > 0 }) {
		return fmt.Errorf("%w: its disks went on in other files at a checkpoint, so its data disks cannot be kept", site.ErrRefused)
	}
	for _, s := range all {
		if err := d.copy(ctx, func(l daemon) error { return l.DomainSnapshotDelete(s.DomainSnapshot, 0) }); err != nil {
			return fmt.Errorf("drop its checkpoint %s: %w", s.name, err)
		}
	}
	return nil
}

// keepDisks puts the mark of kept disks beside them, and takes away what is not
// theirs: the seed, and the addresses that a network keeps.
func (d *domain) keepDisks(ctx context.Context, id uuid.UUID) error {
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	if mark, _ := def.mark(); mark == nil {
		return errNotMarked
	}
	if on {
		return fmt.Errorf("%w: it is running; shut it down first", site.ErrRefused)
	}
	if err := d.discover(ctx); err != nil {
		return err
	}
	mark, _ := def.mark()
	volumes, err := d.remainsOf(ctx, append([]uuid.UUID{id}, mark.Data...))
	if err != nil {
		return err
	}
	for _, v := range volumes {
		if isSeed(v) {
			if err := d.discardVolume(ctx, v); err != nil {
				return err
			}
		}
	}
	if err := d.markKept(ctx, slices.DeleteFunc(volumes, isSeed)); err != nil {
		return err
	}
	return d.dropLeases(ctx, def)
}

// markKept puts the mark of kept disks beside volumes.
func (h *host) markKept(ctx context.Context, volumes []rpc.StorageVol) error {
	marked := map[[2]string]bool{} // by store, and by what the disks were made for
	for _, v := range volumes {
		of := [2]string{v.Pool, volumeOwner(v.Name)}
		if marked[of] || strings.HasSuffix(v.Name, keptSuffix) {
			continue
		}
		marked[of] = true
		pool, err := h.findStore(ctx, v.Pool)
		if err != nil {
			return err
		}
		told := "The disks beside this file were kept when the machine " + of[1] + " was retired.\n"
		if _, err := h.put(ctx, pool, of[1]+keptSuffix, []byte(told)); err != nil {
			return fmt.Errorf("mark the kept disks: %w", err)
		}
	}
	return nil
}

// discover lets the stores look anew where the machine has a disk that they do
// not know: a checkpoint of a disk that cannot hold one goes on in another file.
func (d *domain) discover(ctx context.Context) error {
	def, err := d.definition(ctx)
	if err != nil {
		return err
	}
	for _, e := range def.disks() {
		file, err := diskFile(e)
		if err != nil || file == "" {
			continue // it is none that we have made
		}
		if _, err := d.volumeAt(ctx, file); !errors.Is(err, site.ErrNotFound) {
			continue
		}
		return d.refreshAll(ctx)
	}
	return nil
}

// kept lists the machines whose disks were kept, and adds those disks to the
// dependants of templates.
func (h *host) kept(ctx context.Context, children map[string][]dependant) ([]contract.Kept, error) {
	volumes, err := h.volumes(ctx)
	if err != nil {
		return nil, err
	}
	var all []contract.Kept
	for _, mark := range volumes {
		of, is := strings.CutSuffix(mark.Name, keptSuffix)
		if !is {
			continue
		}
		dot := strings.LastIndex(of, ".")
		id, err := uuid.Parse(of[dot+1:])
		if err != nil {
			continue // not one of ours
		}
		one := contract.Kept{ID: id, Name: of[:max(dot, 0)]}
		for _, v := range volumes {
			if v.Name == mark.Name || !strings.HasPrefix(v.Name, of+".") {
				continue
			}
			one.Files = append(one.Files, v.Key)
			disk, err := h.volumeAt(ctx, v.Key)
			if err != nil && !errors.Is(err, site.ErrNotFound) {
				return nil, err
			}
			if err == nil && disk.backing != "" {
				children[disk.backing] = append(children[disk.backing], dependant{v.Name, parent{path: disk.backing}})
			}
		}
		all = append(all, one)
	}
	return all, nil
}

// files are the machine's own disks.
func (d *definition) files() []string {
	var all []string
	for _, e := range d.disks() {
		if file, err := diskFile(e); err == nil && file != "" && path.Ext(file) != seedSuffix {
			all = append(all, file)
		}
	}
	return all
}
