package libvirt

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// snapshot is a checkpoint as libvirt describes it.
type snapshot struct {
	rpc.DomainSnapshot
	name    string
	taken   time.Time
	running bool
	// overlays are the files in which disks went on that cannot hold a checkpoint
	// themselves, by what they were before.
	overlays map[string]string
	files    []string // the disks of the machine as it was
}

// snapshots lists the checkpoints, the oldest first.
func (d *domain) snapshots(ctx context.Context) (all []snapshot, err error) {
	err = d.call(ctx, func(l daemon) error {
		all = nil
		found, _, err := l.DomainListAllSnapshots(d.dom, 1, 0)
		if err != nil {
			return err
		}
		for _, s := range found {
			text, err := l.DomainSnapshotGetXMLDesc(s, 0)
			if err != nil {
				return err
			}
			one, err := parseSnapshot(text)
			if err != nil {
				return err
			}
			one.DomainSnapshot = s
			all = append(all, one)
		}
		return nil
	})
	slices.SortStableFunc(all, func(a, b snapshot) int { return a.taken.Compare(b.taken) })
	return all, err
}

func parseSnapshot(text string) (snapshot, error) {
	doc := etree.NewDocument()
	if err := doc.ReadFromString(text); err != nil {
		return snapshot{}, fmt.Errorf("the description of a snapshot cannot be read: %w", err)
	}
	root := doc.Root()
	seconds, _ := strconv.ParseInt(textAt(root, "./creationTime"), 10, 64)
	one := snapshot{name: textAt(root, "./name"), taken: time.Unix(seconds, 0).UTC(), running: textAt(root, "./state") == "running", overlays: map[string]string{}}
	if was := root.FindElement("./domain"); was != nil {
		def := &definition{root: was}
		one.files = def.files()
		for _, e := range def.disks() {
			file, _ := diskFile(e)
			kept := root.FindElement("./disks/disk[@name='" + attr(e, "./target", "dev") + "']")
			if kept != nil && kept.SelectAttrValue("snapshot", "") == "external" {
				one.overlays[file] = attr(kept, "./source", "file")
			}
		}
	}
	return one, nil
}

// snapshot finds a checkpoint by its name, in whatever letter case.
func (d *domain) snapshot(ctx context.Context, name string) (one snapshot, later []snapshot, err error) {
	all, err := d.snapshots(ctx)
	if err != nil {
		return one, nil, err
	}
	i := slices.IndexFunc(all, func(s snapshot) bool { return strings.EqualFold(s.name, name) })
	if i < 0 {
		return one, nil, fmt.Errorf("%w: it has no checkpoint %s", site.ErrNotFound, name)
	}
	return all[i], all[i+1:], nil
}

// checkpoints are those of the machine, for whoever asks about it.
func (d *domain) checkpoints(ctx context.Context) (told []contract.Checkpoint, err error) {
	all, err := d.snapshots(ctx)
	for _, s := range all {
		told = append(told, contract.Checkpoint{Name: s.name, Taken: s.taken, Running: s.running})
	}
	return told, err
}

// checkpoint keeps the state of the machine under a name: inside of its disks, with its
// memory if it runs, or where a disk cannot, by going on in another file. One with UEFI
// firmware is shut down for that, since its variables cannot be kept while it runs.
func (d *domain) checkpoint(ctx context.Context, name string) error {
	if _, _, err := d.snapshot(ctx, name); err == nil || !errors.Is(err, site.ErrNotFound) {
		return err
	}
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	xml := etree.NewElement("domainsnapshot")
	text(xml, name, "name")
	if drive := def.seedDrive(); drive != nil && drive.SelectAttrValue("device", "") == "disk" {
		e := child(xml, "disks").CreateElement("disk")
		e.CreateAttr("name", attr(drive, "./target", "dev"))
		e.CreateAttr("snapshot", "no")
	}
	keep := func(flags rpc.DomainSnapshotCreateFlags) error {
		return d.copy(ctx, func(l daemon) error {
			_, err := l.DomainSnapshotCreateXML(d.dom, elementText(xml), uint32(flags))
			return err
		})
	}
	err = keep(0)
	switch {
	case err == nil || errors.Is(err, site.ErrUnreachable):
		return err
	case def.firmware() == machine.UEFI && !def.goesOnElsewhere():
		return d.checkpointUEFI(ctx, def, on, err, func() error { return keep(0) })
	}
	if broken := keep(rpc.DomainSnapshotCreateDiskOnly | rpc.DomainSnapshotCreateAtomic); broken == nil {
		return nil
	}
	return err
}

// goesOnElsewhere reports whether a disk cannot hold a checkpoint.
func (d *definition) goesOnElsewhere() bool {
	return slices.ContainsFunc(d.disks(), func(e *etree.Element) bool {
		file, _ := diskFile(e)
		return attr(e, "./driver", "type") != "qcow2" && filepath.Ext(file) != seedSuffix
	})
}

// checkpointUEFI keeps the state of a machine whose firmware libvirt takes no checkpoint of.
// While that is done, the machine has none.
func (d *domain) checkpointUEFI(ctx context.Context, def *definition, on bool, refused error, keep func() error) error {
	if on {
		if err := d.shutDown(ctx); err != nil {
			return fmt.Errorf("shut it down for the checkpoint, since %w: %w", refused, err)
		}
	}
	err := keep()
	if err != nil && !errors.Is(err, site.ErrUnreachable) {
		bare, broken := parseDefinition(def.String())
		if broken != nil {
			return broken
		}
		bare.setFirmware(machine.BIOS)
		if err = d.define(ctx, bare); err == nil {
			err = keep()
		}
		err = errors.Join(err, d.define(ctx, def))
	}
	if on {
		err = errors.Join(err, d.start(ctx))
	}
	return err
}

// restore brings the machine back to a checkpoint. What it is made of stays as it is now.
func (d *domain) restore(ctx context.Context, name string) error {
	kept, later, err := d.snapshot(ctx, name)
	if errors.Is(err, site.ErrNotFound) {
		return fmt.Errorf("%w: %w", site.ErrRefused, err)
	}
	if err != nil {
		return err
	}
	def, err := d.definition(ctx)
	if err != nil {
		return err
	}
	if mark, _ := def.mark(); mark == nil {
		return errNotMarked
	}
	if err := kept.restorable(def, later); err != nil {
		return err
	}
	if err := d.stopForGood(ctx); err != nil {
		return err
	}
	if len(kept.overlays) > 0 {
		for before, overlay := range kept.overlays {
			if err := d.beginAgain(ctx, before, overlay); err != nil {
				return err
			}
		}
		return nil
	}
	err = d.copy(ctx, func(l daemon) error {
		return l.DomainRevertToSnapshot(kept.DomainSnapshot, uint32(rpc.DomainSnapshotRevertForce))
	})
	if err != nil {
		return err
	}
	return d.define(ctx, def)
}

// restorable refuses a checkpoint that is not one of the disks that the machine has.
func (s snapshot) restorable(def *definition, later []snapshot) error {
	var was []string
	for _, file := range s.files {
		was = append(was, cmp.Or(s.overlays[file], file))
	}
	has := def.files()
	slices.Sort(was)
	slices.Sort(has)
	switch {
	case slices.Equal(was, has):
		return nil
	case slices.ContainsFunc(later, func(l snapshot) bool { return len(l.overlays) > 0 }):
		return fmt.Errorf("%w: its disks went on in other files at a later checkpoint; restore that one", site.ErrRefused)
	}
	return fmt.Errorf("%w: its disks are others than when the checkpoint was kept (%s)", site.ErrRefused, strings.Join(was, " "))
}

// beginAgain makes an empty file of that in which a disk went on.
func (d *domain) beginAgain(ctx context.Context, before, overlay string) error {
	parent, err := d.volumeAt(ctx, before)
	if errors.Is(err, site.ErrNotFound) {
		if err := d.refreshAll(ctx); err != nil {
			return err
		}
		parent, err = d.volumeAt(ctx, before)
	}
	if err != nil {
		return err
	}
	pool, err := d.poolOf(ctx, parent)
	if err != nil {
		return err
	}
	if err := d.discardIn(ctx, pool, filepath.Base(overlay)); err != nil {
		return err
	}
	_, err = d.create(ctx, pool, volumeXML(filepath.Base(overlay), "qcow2", parent.capacity, 0, parent), 0)
	return err
}

func (d *domain) poolOf(ctx context.Context, v *volume) (pool rpc.StoragePool, err error) {
	err = d.call(ctx, func(l daemon) (err error) {
		pool, err = l.StoragePoolLookupByVolume(v.vol)
		return err
	})
	return pool, err
}

// drop deletes a checkpoint.
func (d *domain) drop(ctx context.Context, name string) error {
	kept, _, err := d.snapshot(ctx, name)
	switch {
	case errors.Is(err, site.ErrNotFound):
		return nil
	case err != nil:
		return err
	case len(kept.overlays) > 0:
		return fmt.Errorf("%w: its disks went on in other files when it was kept, which need it", site.ErrRefused)
	}
	return d.copy(ctx, func(l daemon) error { return l.DomainSnapshotDelete(kept.DomainSnapshot, 0) })
}
