package libvirt

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/machine"
)

// copyLocally copies a disk of this very machine without the detour through
// the emulator's tools, where this program may read and write the files: the
// kernel copies, or shares the blocks where the file system can. It reports
// whether the store now has the copy; if not, nothing is left of the attempt.
//
// A daemon may live in another view of the file system. What it says of the
// source must be true of our file, and it must see the copy. It may also see
// half of it, when it looks around meanwhile; what is given up is therefore
// given up through it.
func (h *host) copyLocally(ctx context.Context, pool rpc.StoragePool, name string, v *volume, share func(float64)) (done bool, err error) {
	if !h.isHere() || v.backing != "" || v.format != "qcow2" || !sameFile(v) {
		return false, nil
	}
	var store *etree.Element
	err = h.call(ctx, func(l daemon) (err error) {
		store, err = describeStore(l, pool)
		return err
	})
	if err != nil {
		return false, err
	}
	file := filepath.Join(storeFolder(store), name)
	_ = os.Remove(file) // what an earlier attempt has left; the name is ours alone
	free, err := h.copySlot(ctx)
	if err != nil {
		return false, err
	}
	err = copyFile(ctx, v, file, share)
	free()
	if err == nil {
		err = h.refresh(ctx, pool)
	}
	if err == nil {
		var made *volume
		if made, err = h.volumeIn(ctx, pool, name); err == nil && made.path == file && made.capacity == v.capacity {
			return true, nil
		}
	}
	if err := h.discardIn(ctx, pool, name); err != nil {
		return false, err
	}
	_ = os.Remove(file)
	return false, nil
}

// isHere reports whether the host's daemon is reached through a socket of this
// machine.
func (h *host) isHere() bool {
	return h.calls.url.Scheme == "qemu+unix" || h.calls.url.Scheme == "qemu" && h.calls.url.Host == ""
}

func sameFile(v *volume) bool {
	info, err := os.Stat(v.path)
	if err != nil || !info.Mode().IsRegular() {
		return false
	}
	at := info.ModTime()
	return v.changed == fmt.Sprintf("%d.%09d", at.Unix(), at.Nanosecond())
}

// pieces is how much is copied between two looks at the time.
const pieces = 64 * machine.MiB

func copyFile(ctx context.Context, v *volume, file string, share func(float64)) error {
	from, err := os.Open(v.path)
	if err != nil {
		return err
	}
	defer from.Close()
	info, err := from.Stat()
	if err != nil {
		return err
	}
	to, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	for done := int64(0); err == nil && done < info.Size() && ctx.Err() == nil; {
		var n int64
		n, err = io.CopyN(to, from, min(int64(pieces), info.Size()-done))
		done += n
		share(min(float64(done)/float64(info.Size()), 0.99))
	}
	if closed := to.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = ctx.Err()
	}
	return err
}
