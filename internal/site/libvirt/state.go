package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/disk"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/qcow2"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// keptInside reports why a machine cannot be cloned as it was at a checkpoint; nil if it can:
// all of its disks hold that inside of them. It may run meanwhile, for what belongs to a checkpoint
// is not written to any more.
func (h *host) keptInside(ctx context.Context, t *template, checkpoint string) error {
	var dom rpc.Domain
	err := h.call(ctx, func(l daemon) (err error) {
		dom, err = l.DomainLookupByName(t.source.Name)
		return err
	})
	if err != nil {
		return err
	}
	kept, _, err := (&domain{h, dom}).snapshot(ctx, checkpoint)
	if err != nil {
		return err
	}
	if len(kept.overlays) > 0 {
		return errors.New("its disks went on in other files at this checkpoint, which cannot be cloned; shut it down, and clone it as it is")
	}
	for _, v := range t.disks {
		if v.format != "qcow2" || !slices.Contains(kept.files, v.path) {
			return fmt.Errorf("its disk %s is not a part of this checkpoint", v.path)
		}
	}
	return nil
}

// copyState copies a disk as it was at a checkpoint, through this program. Its holes stay
// holes, and what it has of a parent becomes its own.
func (h *host) copyState(ctx context.Context, pool rpc.StoragePool, name string, from *template, v *volume, share func(float64)) error {
	chain, err := from.kept(ctx, v, stateBlock, stateBlocks)
	if err != nil {
		return err
	}
	size := chain[0].Length()
	// What libvirt makes a qcow2 image of has to be a volume first.
	apart := strings.TrimSuffix(name, ".qcow2") + ".state.img"
	if err := h.discardIn(ctx, pool, apart); err != nil {
		return err
	}
	file, err := h.create(ctx, pool, volumeXML(apart, "raw", machine.Size(size), 0, nil), 0)
	if err != nil {
		return err
	}
	defer h.discardIn(context.WithoutCancel(ctx), pool, apart) //nolint:errcheck // it goes with the machine at the latest
	target := rpc.StorageVol{Pool: pool.Name, Name: apart, Key: file}
	piece := make([]byte, pieceSize)
	for at := int64(0); at < size; at += pieceSize {
		part := piece[:min(pieceSize, size-at)]
		if _, err := chain.ReadAt(part, at); err != nil {
			return fmt.Errorf("read %s: %w", v.path, err)
		}
		if bytes.Equal(part, zeros[:len(part)]) {
			continue
		}
		err := h.copy(ctx, func(l daemon) error {
			return l.StorageVolUpload(target, &untilDone{ctx, bytes.NewReader(part)}, uint64(at), uint64(len(part)), 0)
		})
		if err != nil {
			return err
		}
		share(0.7 * float64(at) / float64(size))
	}
	made, err := h.volumeIn(ctx, pool, apart)
	if err != nil {
		return err
	}
	return h.copyByDaemon(ctx, pool, volumeXML(name, "qcow2", machine.Size(size), 0, nil), 0, false, name, made, func(s float64) { share(0.7 + 0.3*s) })
}

// The blocks in which a disk is read that is copied from its beginning to its end.
const (
	stateBlock  = 1 << 20
	stateBlocks = 16
)

// layers are a disk and those that it depends on.
func (h *host) layers(ctx context.Context, v *volume, block int64, keep int) (image.Chain, error) {
	top, err := h.layer(ctx, v, block, keep)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", v.path, err)
	}
	below, err := h.below(ctx, v, block, keep)
	return append(image.Chain{top}, below...), err
}

// kept are a disk as it was at the checkpoint that is to be cloned, and those that it depends on.
func (t *template) kept(ctx context.Context, v *volume, block int64, keep int) (image.Chain, error) {
	opened, err := qcow2.Open(t.reader(ctx, v, block, keep))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", v.path, err)
	}
	state, has := opened.At(t.source.Checkpoint)
	if !has {
		return nil, fmt.Errorf("%w: %s holds no checkpoint %s", site.ErrRefused, v.path, t.source.Checkpoint)
	}
	below, err := t.below(ctx, v, block, keep)
	return append(image.Chain{state}, below...), err
}

// below are the disks that a disk depends on.
func (h *host) below(ctx context.Context, v *volume, block int64, keep int) (image.Chain, error) {
	var chain image.Chain
	for backing, depth := v.backing, 0; backing != ""; depth++ {
		if depth == longestChain {
			return nil, fmt.Errorf("%w: the backing chain of %s is circular, or longer than %d files", site.ErrRefused, v.path, longestChain)
		}
		below, err := h.volumeAt(ctx, backing)
		if err != nil {
			return nil, err
		}
		layer, err := h.layer(ctx, below, block, keep)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", below.path, err)
		}
		chain, backing = append(chain, layer), below.backing
	}
	return chain, nil
}

// layer is a disk as its file says.
func (h *host) layer(ctx context.Context, v *volume, block int64, keep int) (image.Layer, error) {
	file := h.reader(ctx, v, block, keep)
	if v.format == "raw" {
		return image.Raw{ReaderAt: file, Size: int64(v.capacity)}, nil
	}
	opened, err := qcow2.Open(file)
	if err != nil {
		return nil, err
	}
	return opened.Now(), nil
}

// How often a part of a volume is asked for, and how long it is waited for.
const (
	mostShort = 8
	mostLost  = 30
	partLimit = 5 * time.Second
	perSecond = 128 << 10 // bytes on a slow line
)

// partPause is how much longer each time it is waited before a part is asked for once more.
const partPause = 100 * time.Millisecond

// reader reads the file of a volume, in blocks of some size.
func (h *host) reader(ctx context.Context, v *volume, block int64, keep int) io.ReaderAt {
	return &site.Blocks{Size: v.length, Block: block, Keep: keep, Fetch: func(at, n int64) ([]byte, error) {
		var failed error
		for tries, lost := 0, 0; tries < mostShort && lost < mostLost; { // streams end early at times, or never, without a word
			if tries+lost > 1 { // a connection that was lost needs a moment
				select {
				case <-ctx.Done():
					return nil, ctx.Err()
				case <-time.After(time.Duration(min(tries+lost, mostShort)) * partPause):
				}
			}
			content, err := h.readPart(ctx, v, at, n)
			switch {
			case err == nil && int64(len(content)) == n:
				return content, nil
			case ctx.Err() != nil:
				return nil, ctx.Err()
			case err == nil:
				err = fmt.Errorf("%w: its stream ends after %d of %d bytes", site.ErrUnreachable, len(content), n)
			case !errors.Is(err, site.ErrUnreachable):
				return nil, err
			}
			if failed = err; errors.Is(err, errLost) || isConnectionError(err) { // whoever reads beside this has given it up, as a rule
				lost++
			} else {
				tries++
			}
		}
		return nil, failed
	}}
}

// readPart reads a part of a volume. A connection on which it does not come is given up: nothing
// else comes on it.
func (h *host) readPart(ctx context.Context, v *volume, at, n int64) ([]byte, error) {
	limited, cancel := context.WithTimeout(ctx, partLimit+time.Duration(n/perSecond)*time.Second)
	defer cancel()
	free, err := h.copySlot(limited)
	if err != nil {
		return nil, err
	}
	defer free()
	on := make(chan daemon, 1)
	var content bytes.Buffer
	err = h.callOn(limited, &h.reads, func(l daemon) error {
		on <- l
		return h.reads.download(l, v.vol, &content, uint64(at), uint64(n), n)
	})
	if err == nil && int64(content.Len()) == n {
		return content.Bytes(), nil
	}
	select {
	case l := <-on:
		h.reads.drop(l)
	default: // it never came to that
	}
	if err != nil { // whoever was left behind may still write
		return nil, err
	}
	return content.Bytes(), nil
}

// Disk implements site.DiskReader.
func (s *Site) Disk(ctx context.Context, name string) (d disk.Disk, changed string, err error) {
	var failed error
	for _, h := range s.hosts {
		t, problem, err := h.templateAt(ctx, name)
		if errors.Is(err, site.ErrNotFound) {
			continue
		}
		if err == nil && (len(t.disks) == 0 || errors.Is(problem, errRunning)) {
			err = fmt.Errorf("%w: %w", site.ErrRefused, problem)
		}
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		open := h.layers
		if t.source.Checkpoint != "" {
			open = t.kept
		}
		chain, err := open(ctx, t.disks[0], 256<<10, 128)
		if err != nil {
			return disk.Disk{}, "", err
		}
		return disk.Disk{ReaderAt: chain, Size: chain[0].Length()}, t.disks[0].changed, nil
	}
	if failed == nil {
		failed = fmt.Errorf("%w: no template or volume %s", site.ErrNotFound, name)
	}
	return disk.Disk{}, "", failed
}
