package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/qcow2"
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
	image, err := qcow2.Open(from.reader(ctx, v))
	if err != nil {
		return fmt.Errorf("%s: %w", v.path, err)
	}
	state, has := image.At(from.source.Checkpoint)
	if !has {
		return fmt.Errorf("%w: %s holds no checkpoint %s", site.ErrRefused, v.path, from.source.Checkpoint)
	}
	chain := qcow2.Chain{state}
	for backing, depth := v.backing, 0; backing != ""; depth++ {
		if depth == longestChain {
			return fmt.Errorf("%w: the backing chain of %s is circular, or longer than %d files", site.ErrRefused, v.path, longestChain)
		}
		below, err := from.volumeAt(ctx, backing)
		if err != nil {
			return err
		}
		layer, err := from.layer(ctx, below)
		if err != nil {
			return fmt.Errorf("%s: %w", below.path, err)
		}
		chain, backing = append(chain, layer), below.backing
	}
	// What libvirt makes a qcow2 image of has to be a volume first.
	apart := strings.TrimSuffix(name, ".qcow2") + ".state.img"
	if err := h.discardIn(ctx, pool, apart); err != nil {
		return err
	}
	file, err := h.create(ctx, pool, volumeXML(apart, "raw", machine.Size(state.Size), 0, nil), 0)
	if err != nil {
		return err
	}
	defer h.discardIn(context.WithoutCancel(ctx), pool, apart) //nolint:errcheck // it goes with the machine at the latest
	target := rpc.StorageVol{Pool: pool.Name, Name: apart, Key: file}
	piece := make([]byte, pieceSize)
	for at := int64(0); at < state.Size; at += pieceSize {
		part := piece[:min(pieceSize, state.Size-at)]
		if err := chain.ReadAt(part, at); err != nil {
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
		share(0.7 * float64(at) / float64(state.Size))
	}
	made, err := h.volumeIn(ctx, pool, apart)
	if err != nil {
		return err
	}
	return h.copyByDaemon(ctx, pool, volumeXML(name, "qcow2", machine.Size(state.Size), 0, nil), 0, false, name, made, func(s float64) { share(0.7 + 0.3*s) })
}

// layer is a disk as its file says.
func (h *host) layer(ctx context.Context, v *volume) (qcow2.Layer, error) {
	if v.format == "raw" {
		return qcow2.Raw{File: h.reader(ctx, v), Size: int64(v.capacity)}, nil
	}
	image, err := qcow2.Open(h.reader(ctx, v))
	if err != nil {
		return nil, err
	}
	return image.Now(), nil
}

// volumeReader reads the file of a volume, in blocks of which it keeps the last few.
type volumeReader struct {
	ctx    context.Context
	host   *host
	volume *volume
	blocks []block
}

type block struct {
	at      int64
	content []byte
}

// The size of blocks, how many are kept, and how often one is asked for.
const (
	blockSize  = 1 << 20
	mostBlocks = 16
	mostShort  = 8
)

func (h *host) reader(ctx context.Context, v *volume) io.ReaderAt {
	return &volumeReader{ctx: ctx, host: h, volume: v}
}

// ReadAt implements io.ReaderAt, for one at a time.
func (r *volumeReader) ReadAt(p []byte, at int64) (n int, err error) {
	for n < len(p) {
		b, err := r.block((at + int64(n)) / blockSize * blockSize)
		if err != nil {
			return n, err
		}
		skip := at + int64(n) - b.at
		if skip >= int64(len(b.content)) {
			return n, io.EOF
		}
		n += copy(p[n:], b.content[skip:])
	}
	return n, nil
}

func (r *volumeReader) block(at int64) (block, error) {
	if i := slices.IndexFunc(r.blocks, func(b block) bool { return b.at == at }); i >= 0 {
		return r.blocks[i], nil
	}
	length := min(blockSize, r.volume.length-at)
	if length <= 0 {
		return block{at: at}, nil
	}
	var content bytes.Buffer
	for tries := 1; int64(content.Len()) != length; tries++ { // streams end early at times, without a word
		if tries == mostShort {
			return block{}, fmt.Errorf("%w: its stream ends after %d of %d bytes", site.ErrUnreachable, content.Len(), length)
		}
		err := r.host.copy(r.ctx, func(l daemon) error {
			content.Reset()
			return l.StorageVolDownload(r.volume.vol, &content, uint64(at), uint64(length), 0)
		})
		if err != nil {
			return block{}, err
		}
	}
	if len(r.blocks) == mostBlocks {
		r.blocks = slices.Delete(r.blocks, 0, 1)
	}
	r.blocks = append(r.blocks, block{at, content.Bytes()})
	return r.blocks[len(r.blocks)-1], nil
}
