package libvirt

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// The drives of our own, by their aliases: for an image of a store, and for big files.
const (
	mediaAlias = userAlias + "mintbatch-media"
	carryAlias = userAlias + "mintbatch-carry"
)

// insert puts an image of a store into a drive of its own, behind the disk in the boot order,
// or takes it out.
func (d *domain) insert(ctx context.Context, image string) error {
	if image == "" {
		return d.emptyOwn(ctx, mediaAlias)
	}
	store, name, _ := strings.Cut(image, "/")
	v, err := d.templateVolume(ctx, store, name)
	if errors.Is(err, site.ErrNotFound) {
		return fmt.Errorf("%w: host %s has no volume %s in store %q", site.ErrRefused, d.name, name, store)
	}
	if err != nil {
		return err
	}
	return d.insertInto(ctx, mediaAlias, v.path, (*definition).bootBehind)
}

// carry makes a volume of an image of big files and puts it into a drive of its own, or takes
// it out and deletes it.
func (d *domain) carry(ctx context.Context, id uuid.UUID, image contract.Image) error {
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	pool, err := d.storeFor(ctx, def, "")
	if err != nil {
		return err
	}
	name := volumeName(d.dom.Name, id, carrySuffix)
	if image.WriteTo == nil {
		if err := d.emptyOwn(ctx, carryAlias); err != nil {
			return err
		}
		return d.discardSuffix(ctx, id, carrySuffix)
	}
	if on {
		return fmt.Errorf("%w: it is running; an image is put in before a start only", site.ErrRefused)
	}
	if err := d.discardIn(ctx, pool, name); err != nil {
		return err
	}
	size := machine.Size(image.Size)
	file, err := d.create(ctx, pool, volumeXML(name, "raw", size, 0, nil), 0)
	if err != nil {
		return err
	}
	err = d.copy(ctx, func(l daemon) error {
		r, w := io.Pipe()
		defer r.Close()
		go func() { w.CloseWithError(image.WriteTo(w)) }()
		return l.StorageVolUpload(rpc.StorageVol{Pool: pool.Name, Name: name, Key: file}, &untilDone{ctx, r}, 0, uint64(image.Size), 0)
	})
	if err != nil {
		return d.roomIn(ctx, pool, size, size, err)
	}
	return d.insertInto(ctx, carryAlias, file, func(*definition, *etree.Element) {})
}

// carrySuffix is of the image of big files.
const carrySuffix = ".carry"

// insertInto puts a file into a drive of ours, which is made if there is none.
func (d *domain) insertInto(ctx context.Context, alias, file string, made func(*definition, *etree.Element)) error {
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	drive := def.ownDrive(alias)
	switch {
	case drive != nil && attr(drive, "./source", "file") == file:
		return nil
	case on:
		return fmt.Errorf("%w: it is running; an image is put in before a start only", site.ErrRefused)
	case drive == nil:
		drive = def.addDrive()
		drive.CreateElement("alias").CreateAttr("name", alias)
		made(def, drive)
	}
	drive.CreateAttr("type", "file")
	child(drive, "source").CreateAttr("file", file)
	child(drive, "driver").CreateAttr("type", "raw")
	return d.define(ctx, def)
}

// emptyOwn takes out what is in a drive of ours.
func (d *domain) emptyOwn(ctx context.Context, alias string) error {
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	drive := def.ownDrive(alias)
	if drive == nil || attr(drive, "./source", "file") == "" {
		return nil
	}
	if err := d.empty(ctx, drive, on); err != nil {
		return fmt.Errorf("take the image out: %w", err)
	}
	return nil
}

func (d *definition) ownDrive(alias string) *etree.Element {
	for _, e := range d.devices().SelectElements("disk") {
		if attr(e, "./alias", "name") == alias {
			return e
		}
	}
	return nil
}

// isOwnDrive reports whether a drive is one of ours, and not free for a seed.
func isOwnDrive(e *etree.Element) bool {
	alias := attr(e, "./alias", "name")
	return alias == mediaAlias || alias == carryAlias
}

// bootBehind lets the machine boot from a drive where nothing before it can be booted from.
func (d *definition) bootBehind(drive *etree.Element) {
	if ordered := d.root.FindElements("./devices/*[boot]"); len(ordered) > 0 {
		last := 0
		for _, e := range ordered {
			last = max(last, bootOrder(e))
		}
		child(drive, "boot").CreateAttr("order", strconv.Itoa(last+1))
		return
	}
	system := child(d.root, "os")
	for _, b := range system.SelectElements("boot") {
		if b.SelectAttrValue("dev", "") == "cdrom" {
			return
		}
	}
	system.CreateElement("boot").CreateAttr("dev", "cdrom")
}
