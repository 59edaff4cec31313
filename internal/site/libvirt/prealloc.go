package libvirt

import (
	"context"
	"fmt"

	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// preallocated makes a system disk that takes its room at once. libvirt allocates what it
// copies, and not what it grows by: a disk that is to be larger than its template's is grown
// first, in a copy that goes afterwards.
func (h *host) preallocated(o contract.CloneOrder) func(context.Context, machine.CloneKind, rpc.StoragePool, string, *template, *volume, func(float64)) (string, error) {
	return func(ctx context.Context, _ machine.CloneKind, pool rpc.StoragePool, name string, from *template, v *volume, share func(float64)) (string, error) {
		if from.source.Checkpoint != "" {
			return "", fmt.Errorf("%w: a clone of a checkpoint takes its room as it is written to", site.ErrRefused)
		}
		if from.host != h {
			return "", fmt.Errorf("%w: a disk that takes its room at once is cloned at the host of its template only, which is %s", site.ErrRefused, from.host.name)
		}
		whole := max(v.capacity, o.Shape.Disk)
		if v.capacity < whole && v.format != "raw" {
			grown := volumeName(o.Name, o.Identity, ".grown.qcow2")
			if err := h.replaceable(ctx, pool, grown, o.Identity); err != nil {
				return "", err
			}
			err := h.copyByDaemon(ctx, pool, volumeXML(grown, v.format, v.capacity, 0, nil), 0, false, grown, v, func(float64) {})
			if err != nil {
				return "", h.roomIn(ctx, pool, v.used, whole, err)
			}
			defer h.discardIn(context.WithoutCancel(ctx), pool, grown) //nolint:errcheck // it goes with the machine at the latest
			if v, err = h.volumeIn(ctx, pool, grown); err != nil {
				return "", err
			}
			if err := h.call(ctx, func(l daemon) error { return l.StorageVolResize(v.vol, uint64(whole), 0) }); err != nil {
				return "", err
			}
		}
		flags := rpc.StorageVolCreatePreallocMetadata
		if v.format == "raw" {
			flags = 0
		}
		if err := h.copyByDaemon(ctx, pool, volumeXML(name, v.format, whole, whole, nil), flags, false, name, v, share); err != nil {
			return "", h.roomIn(ctx, pool, whole, whole, err)
		}
		made, err := h.volumeIn(ctx, pool, name)
		if err != nil {
			return "", err
		}
		return made.path, nil
	}
}
