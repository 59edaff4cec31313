package libvirt

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/media"
	"mintbatch/internal/site"
)

// seed uploads the seed and puts it into a CD drive; without an image the drive
// is emptied and the seed deleted.
func (d *domain) seed(ctx context.Context, id uuid.UUID, image []byte) error {
	def, on, err := d.state(ctx)
	switch {
	case err != nil:
		return err
	case len(image) == 0:
		return d.dropSeed(ctx, id, def, on)
	case on:
		return fmt.Errorf("%w: it is running; a seed is attached before the first start only", site.ErrRefused)
	}
	pool, err := d.storeFor(ctx, def, "")
	if err != nil {
		return err
	}
	file, err := d.put(ctx, pool, volumeName(d.dom.Name, id, seedSuffix), image)
	if err != nil {
		return fmt.Errorf("upload the seed: %w", err)
	}
	before := def.String()
	def.setSeed(file, media.KindOf(image))
	if def.String() == before {
		return nil
	}
	return d.define(ctx, def)
}

func (d *domain) dropSeed(ctx context.Context, id uuid.UUID, def *definition, on bool) error {
	if drive := def.seedDrive(); drive != nil {
		if err := d.empty(ctx, drive, on); err != nil {
			return fmt.Errorf("eject the seed: %w", err)
		}
	}
	return d.discardSuffix(ctx, id, seedSuffix)
}

// discardSuffix deletes the volumes of a machine whose names end so.
func (d *domain) discardSuffix(ctx context.Context, id uuid.UUID, suffix string) error {
	volumes, err := d.remains(ctx, id)
	if err != nil {
		return err
	}
	for _, v := range volumes {
		if strings.HasSuffix(v.Name, suffix) {
			if err := d.discardVolume(ctx, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// empty takes out what is in a drive, or the drive itself if it is a disk.
func (d *domain) empty(ctx context.Context, drive *etree.Element, on bool) error {
	flags := rpc.DomainDeviceModifyConfig
	if on {
		flags |= rpc.DomainDeviceModifyLive
	}
	return d.call(ctx, func(l daemon) error {
		if drive.SelectAttrValue("device", "") == "disk" {
			return l.DomainDetachDeviceFlags(d.dom, elementText(drive), uint32(flags))
		}
		without(drive, "./source")
		if on {
			flags |= rpc.DomainDeviceModifyForce // a guest may hold the drive shut
		}
		return l.DomainUpdateDeviceFlags(d.dom, elementText(drive), flags)
	})
}

// record stores the mark, the title and the notes.
func (d *domain) record(ctx context.Context, mark contract.Mark) error {
	def, err := d.definition(ctx)
	if err != nil {
		return err
	}
	before := def.String()
	has, p := def.mark()
	if has == nil || has.Ledger != mark.Ledger {
		return fmt.Errorf("%w: it does not carry this ledger's mark", site.ErrRefused)
	}
	def.setMark(mark, p)
	def.describe(mark, d.dom.Name)
	if def.String() == before {
		return nil
	}
	on, err := d.running(ctx)
	if err != nil {
		return err
	}
	if !on {
		return d.define(ctx, def)
	}
	flags := rpc.DomainAffectConfig | rpc.DomainAffectLive
	return d.call(ctx, func(l daemon) error {
		err := l.DomainSetMetadata(d.dom, int32(rpc.DomainMetadataElement), rpc.OptString{elementText(withMark(mark, p))}, rpc.OptString{prefix}, rpc.OptString{namespace}, flags)
		if err != nil {
			return err
		}
		if err := l.DomainSetMetadata(d.dom, int32(rpc.DomainMetadataTitle), optional(textAt(def.root, "./title")), nil, nil, flags); err != nil {
			return err
		}
		return l.DomainSetMetadata(d.dom, int32(rpc.DomainMetadataDescription), optional(textAt(def.root, "./description")), nil, nil, flags)
	})
}

func optional(s string) rpc.OptString {
	if s == "" {
		return nil
	}
	return rpc.OptString{s}
}

// start starts the machine, unless it runs.
func (d *domain) start(ctx context.Context) error {
	on, err := d.running(ctx)
	if err != nil || on {
		return err
	}
	boot := func(l daemon) error {
		_, err := l.DomainCreateWithFlags(d.dom, 0)
		return err
	}
	err = d.call(ctx, boot)
	if err == nil {
		return nil
	}
	// The template was never started, and so has no NVRAM to copy: the
	// firmware's own is as good. Of the words of an error only the path is sure.
	def, broken := d.definition(ctx)
	if broken != nil {
		return err
	}
	if template := attr(def.root, "./os/nvram", "template"); template == "" || !strings.Contains(err.Error(), template) {
		return err
	}
	for _, nvram := range def.root.FindElements("./os/nvram") {
		nvram.RemoveAttr("template")
	}
	if broken := d.define(ctx, def); broken != nil {
		return err
	}
	return d.call(ctx, boot)
}

// The limits of an orderly shut-down; a guest may not hear the first word.
const (
	shutDownLimit = 3 * time.Minute
	askAgain      = 20 * time.Second
)

// shutDown shuts the machine down in an orderly way and waits for it.
func (d *domain) shutDown(ctx context.Context) error {
	deadline, asked := time.Now().Add(shutDownLimit), time.Time{}
	for {
		on, err := d.running(ctx)
		if err != nil || !on {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%w within %s", site.ErrNoShutdown, shutDownLimit)
		}
		if time.Since(asked) > askAgain {
			asked = time.Now()
			// It may have ended by itself in between; the state tells.
			_ = d.call(ctx, func(l daemon) error { return l.DomainShutdownFlags(d.dom, 0) })
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

var errNotMarked = fmt.Errorf("%w: it does not carry this ledger's mark", site.ErrRefused)

// stopForGood cuts the power of a machine that is ours: its disks are about to
// be deleted, or somebody has asked for it.
func (d *domain) stopForGood(ctx context.Context) error {
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	if mark, _ := def.mark(); mark == nil {
		return errNotMarked
	}
	if !on {
		return nil
	}
	if err := d.call(ctx, func(l daemon) error { return l.DomainDestroyFlags(d.dom, 0) }); err != nil {
		if on, broken := d.running(ctx); broken != nil || on {
			return err
		}
	}
	return nil
}
