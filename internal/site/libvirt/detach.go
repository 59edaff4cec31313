package libvirt

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/site"
)

// detach makes the disks of a linked clone independent of the template's: those of a machine
// that runs take over what they lack, those of another are copied.
func (d *domain) detach(ctx context.Context, id uuid.UUID, share func(float64)) error {
	kept, err := d.snapshots(ctx)
	if err != nil {
		return err
	}
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	mark, from := def.mark()
	switch {
	case mark == nil:
		return errNotMarked
	case from.path == "":
		return d.discardDetached(ctx, id, def)
	case len(kept) > 0:
		return fmt.Errorf("%w: its checkpoints need the template's disk: drop them first (%s)", site.ErrRefused, kept[0].name)
	}
	for n, e := range def.disks() {
		file, err := diskFile(e)
		if err != nil || filepath.Ext(file) == seedSuffix {
			continue
		}
		v, err := d.volumeAt(ctx, file)
		switch {
		case err != nil:
			return err
		case v.backing == "":
		case on:
			err = d.pull(ctx, attr(e, "./target", "dev"), share)
		default:
			err = d.copyApart(ctx, id, def, e, n, v, share)
		}
		if err != nil {
			return err
		}
	}
	if err := d.refreshAll(ctx); err != nil {
		return err
	}
	if !on {
		def.setMark(*mark, parent{})
		if err := d.define(ctx, def); err != nil {
			return err
		}
		return d.discardDetached(ctx, id, def)
	}
	flags := rpc.DomainAffectConfig | rpc.DomainAffectLive
	return d.call(ctx, func(l daemon) error {
		return l.DomainSetMetadata(d.dom, int32(rpc.DomainMetadataElement), rpc.OptString{elementText(withMark(*mark, parent{}))}, rpc.OptString{prefix}, rpc.OptString{namespace}, flags)
	})
}

// pull lets a disk of a machine that runs take over what it lacks of its parent. One that an
// earlier try began goes on.
func (d *domain) pull(ctx context.Context, device string, share func(float64)) error {
	var found int32
	var done, whole uint64
	job := func() error {
		return d.call(ctx, func(l daemon) (err error) {
			found, _, _, done, whole, err = l.DomainGetBlockJobInfo(d.dom, device, 0)
			return err
		})
	}
	err := job()
	if err == nil && found == 0 {
		err = d.call(ctx, func(l daemon) error { return l.DomainBlockPull(d.dom, device, 0, 0) })
	}
	for err == nil {
		if err = job(); err != nil || found == 0 {
			break
		}
		if whole > 0 {
			share(min(float64(done)/float64(whole), 0.99))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
	if err != nil {
		return fmt.Errorf("take over the template's disk: %w", err)
	}
	return nil
}

// detachedSuffix is of disks that were copied to be independent.
const detachedSuffix = ".own.qcow2"

// copyApart copies a disk of a machine that is off, with all that it has of its parent.
func (d *domain) copyApart(ctx context.Context, id uuid.UUID, def *definition, disk *etree.Element, n int, v *volume, share func(float64)) error {
	pool, err := d.poolOf(ctx, v)
	if err != nil {
		return err
	}
	name := volumeName(d.dom.Name, id, fmt.Sprintf(".disk-%d%s", n+1, detachedSuffix))
	if err := d.replaceable(ctx, pool, name, id); err != nil {
		return err
	}
	watching, stop := context.WithCancel(ctx)
	defer stop()
	go d.watchCopy(watching, pool, name, v.used, share)
	var made rpc.StorageVol
	err = d.copy(ctx, func(l daemon) (err error) {
		made, err = l.StorageVolCreateXMLFrom(pool, volumeXML(name, "qcow2", v.capacity, 0, nil), v.vol, 0)
		return err
	})
	if err != nil {
		return d.roomIn(ctx, pool, v.used, v.capacity, err)
	}
	serial := textAt(disk, "./serial")
	setDiskFile(disk, made.Key, "qcow2")
	if serial != "" {
		text(disk, serial, "serial")
	}
	return nil
}

// discardDetached deletes the disks that copies have replaced.
func (d *domain) discardDetached(ctx context.Context, id uuid.UUID, def *definition) error {
	var apart []string
	for _, file := range def.files() {
		if strings.HasSuffix(file, detachedSuffix) {
			apart = append(apart, file)
		}
	}
	if len(apart) == 0 {
		return nil
	}
	volumes, err := d.remains(ctx, id)
	if err != nil {
		return err
	}
	for _, v := range volumes {
		used := false
		for _, file := range def.files() {
			used = used || file == v.Key
		}
		if used || !strings.HasSuffix(v.Name, ".disk.qcow2") {
			continue
		}
		if err := d.discardVolume(ctx, v); err != nil && !errors.Is(err, site.ErrNotFound) {
			return err
		}
	}
	return nil
}
