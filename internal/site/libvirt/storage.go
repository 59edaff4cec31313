package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// volume is a disk as a store has it.
type volume struct {
	vol      rpc.StorageVol
	path     string
	format   string
	capacity machine.Size // as a guest sees it
	length   int64        // of its file
	used     machine.Size // by it, and once its chain was walked, by all that it depends on
	backing  string       // the file that it is a child of
	changed  string       // when its content was last changed
	writable bool
	// holdsStates reports that it may hold checkpoints, which a copy of the file would, too.
	holdsStates bool
}

// fileStores are the kinds of pool whose volumes are files.
var fileStores = []string{"dir", "fs", "netfs", "vstorage"}

const seedSuffix = ".seed"

// volumeName names a volume of a machine. The identity in it makes it ours: no
// other machine, of whatever ledger, has the same.
func volumeName(name string, id uuid.UUID, part string) string {
	return name + "." + id.String() + part
}

// volumeOwner is the part of a volume's name that tells whose it is.
func volumeOwner(name string) string {
	for i := range name {
		if rest := name[i+1:]; name[i] == '.' && len(rest) > 36 && rest[36] == '.' {
			if _, err := uuid.Parse(rest[:36]); err == nil {
				return name[:i+37]
			}
		}
	}
	return name
}

// isOurVolume reports whether a file is the machine's own.
func isOurVolume(file string, id uuid.UUID) bool {
	return strings.Contains(path.Base(file), "."+id.String()+".")
}

func (h *host) findStore(ctx context.Context, name string) (rpc.StoragePool, error) {
	var p rpc.StoragePool
	err := h.call(ctx, func(l daemon) (err error) {
		p, err = l.StoragePoolLookupByName(name)
		return err
	})
	if errors.Is(err, site.ErrNotFound) {
		return p, fmt.Errorf("%w: host %s has no store %q", site.ErrRefused, h.name, name)
	}
	if err != nil {
		return p, err
	}
	var active int32
	err = h.call(ctx, func(l daemon) (err error) {
		active, err = l.StoragePoolIsActive(p)
		return err
	})
	if err == nil && active == 0 {
		return p, fmt.Errorf("%w: store %q of host %s is not active: start it with `virsh pool-start %s`", site.ErrRefused, name, h.name, name)
	}
	return p, err
}

// findVolume reads a volume's own description.
func (h *host) findVolume(ctx context.Context, find func(l daemon) (rpc.StorageVol, error)) (*volume, error) {
	var v volume
	var text string
	err := h.call(ctx, func(l daemon) (err error) {
		if v.vol, err = find(l); err != nil {
			return err
		}
		if _, _, _, err = l.StorageVolGetInfo(v.vol); err != nil { // also looks at the file anew
			return err
		}
		text, err = l.StorageVolGetXMLDesc(v.vol, 0)
		return err
	})
	if err != nil {
		return nil, err
	}
	doc, err := parse(text, "volume", "the volume "+v.vol.Name)
	if err != nil {
		return nil, err
	}
	root := doc.Root()
	v.path = strings.TrimSpace(textAt(root, "./target/path"))
	v.format = attr(root, "./target/format", "type")
	v.capacity, v.used = sizeOf(root.FindElement("./capacity")), sizeOf(root.FindElement("./allocation"))
	v.length = int64(sizeOf(root.FindElement("./physical")))
	v.backing = textAt(root, "./backingStore/path")
	v.changed = strings.TrimSpace(textAt(root, "./target/timestamps/mtime"))
	mode, _ := strconv.ParseUint(strings.TrimSpace(textAt(root, "./target/permissions/mode")), 8, 32)
	v.writable = mode&0o222 != 0
	return &v, nil
}

func (h *host) volumeAt(ctx context.Context, file string) (*volume, error) {
	return h.findVolume(ctx, func(l daemon) (rpc.StorageVol, error) { return l.StorageVolLookupByPath(file) })
}

func (h *host) volumeIn(ctx context.Context, pool rpc.StoragePool, name string) (*volume, error) {
	return h.findVolume(ctx, func(l daemon) (rpc.StorageVol, error) { return l.StorageVolLookupByName(pool, name) })
}

// volumeXML describes a volume to be made. Nobody but the hypervisor may read it.
func volumeXML(name, format string, capacity, allocation machine.Size, backing *volume) string {
	return volumeXMLFor("0600", name, format, capacity, allocation, backing)
}

// volumeXMLFor describes a volume to be made (libvirt: "Storage volume XML format"), and who may
// read and write it.
func volumeXMLFor(mode, name, format string, capacity, allocation machine.Size, backing *volume) string {
	root := etree.NewElement("volume")
	text(root, name, "name")
	for tag, size := range map[string]machine.Size{"capacity": capacity, "allocation": allocation} {
		e := root.CreateElement(tag)
		e.CreateAttr("unit", "bytes")
		e.SetText(strconv.FormatInt(int64(size), 10))
	}
	child(root, "target", "format").CreateAttr("type", format)
	if format == "qcow2" {
		// Version 3 of the format: one of version 2 cannot grow once it holds a
		// checkpoint.
		text(root, "1.1", "target", "compat")
	}
	text(root, mode, "target", "permissions", "mode")
	if backing != nil {
		text(root, backing.path, "backingStore", "path")
		child(root, "backingStore", "format").CreateAttr("type", backing.format)
	}
	return elementText(root)
}

// create makes an empty volume, or one that is a child of another.
func (h *host) create(ctx context.Context, pool rpc.StoragePool, xml string, flags rpc.StorageVolCreateFlags) (string, error) {
	var made rpc.StorageVol
	err := h.call(ctx, func(l daemon) (err error) {
		made, err = l.StorageVolCreateXML(pool, xml, flags)
		return err
	})
	return made.Key, h.roomIn(ctx, pool, 0, 0, err)
}

// put makes a volume of some content, in place of one of its name.
func (h *host) put(ctx context.Context, pool rpc.StoragePool, name string, content []byte) (file string, err error) {
	if err := h.discardIn(ctx, pool, name); err != nil {
		return "", err
	}
	size := machine.Size(len(content))
	if file, err = h.create(ctx, pool, volumeXML(name, "raw", size, size, nil), 0); err != nil {
		return "", err
	}
	err = h.call(ctx, func(l daemon) error {
		return l.StorageVolUpload(rpc.StorageVol{Pool: pool.Name, Name: name, Key: file}, &untilDone{ctx, bytes.NewReader(content)}, 0, uint64(len(content)), 0)
	})
	return file, h.roomIn(ctx, pool, size, size, err)
}

// untilDone reads until a context ends: a stream that is read from it is aborted then.
type untilDone struct {
	ctx  context.Context
	from io.Reader
}

// Read implements io.Reader.
func (u *untilDone) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.from.Read(p)
}

// roomIn says that a store is full, where that is why an act failed that needed some
// room, at most so much: the store itself tells.
func (h *host) roomIn(ctx context.Context, pool rpc.StoragePool, needs, most machine.Size, err error) error {
	if !hasCode(err, rpc.ErrSystemError) && !hasCode(err, rpc.ErrInternalError) {
		return err
	}
	_ = h.refresh(ctx, pool)
	var free machine.Size
	failed := h.call(ctx, func(l daemon) error {
		root, err := describeStore(l, pool)
		if err == nil {
			free = sizeOf(root.FindElement("./available"))
		}
		return err
	})
	switch {
	case failed != nil:
	case free < max(needs, machine.MiB):
		return fmt.Errorf("%w: store %q is full (%s needed, %s free): %w", site.ErrFull, pool.Name, max(needs, machine.MiB), free, err)
	case free < most: // what was written until it was full is gone again
		return fmt.Errorf("%w: store %q may be too small (up to %s needed, %s free): %w", site.ErrRefused, pool.Name, most, free, err)
	}
	return err
}

// discard deletes a volume; one that is not there is deleted already. A volume
// that is still being copied to, by a run that was killed, is waited for.
func (h *host) discard(ctx context.Context, find func(l daemon) (rpc.StorageVol, error)) error {
	for looked := false; ; {
		var store rpc.StoragePool
		err := h.call(ctx, func(l daemon) error {
			v, err := find(l)
			if err != nil {
				return err
			}
			if store, err = l.StoragePoolLookupByName(v.Pool); err != nil {
				return err
			}
			return l.StorageVolDelete(v, 0)
		})
		switch {
		case errors.Is(err, site.ErrNotFound):
			return nil
		case hasCode(err, rpc.ErrSystemError) && !looked:
			// The store may still list a volume whose file is gone.
			if looked = true; h.refresh(ctx, store) == nil {
				continue
			}
			return err
		case hasCode(err, rpc.ErrOperationInvalid): // it is being copied to
		default:
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("a copy started by an earlier run is still in progress: %w", err)
		case <-time.After(time.Second):
		}
	}
}

func (h *host) discardVolume(ctx context.Context, v rpc.StorageVol) error {
	return h.discard(ctx, func(daemon) (rpc.StorageVol, error) { return v, nil })
}

func (h *host) discardIn(ctx context.Context, pool rpc.StoragePool, name string) error {
	return h.discard(ctx, func(l daemon) (rpc.StorageVol, error) { return l.StorageVolLookupByName(pool, name) })
}

// replaceable makes room for a disk of a machine: what an earlier try has left of it
// goes, unless another machine has it for a disk.
func (h *host) replaceable(ctx context.Context, pool rpc.StoragePool, name string, id uuid.UUID) error {
	v, err := h.volumeIn(ctx, pool, name)
	if errors.Is(err, site.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := h.unused(ctx, []rpc.StorageVol{v.vol}, id, atOnce); err != nil {
		return err
	}
	return h.discardIn(ctx, pool, name)
}

// users are the machines of a host that have files for disks, as of some moment.
type users struct {
	mu sync.Mutex
	at time.Time
	of map[string][]rpc.Domain
}

// How old what is known of them may be: nothing, or as little as whoever removes many machines needs not to ask for each.
const (
	atOnce = 0
	lately = 2 * time.Second
)

// unused refuses volumes that another machine has for disks.
func (h *host) unused(ctx context.Context, volumes []rpc.StorageVol, but uuid.UUID, age time.Duration) error {
	if len(volumes) == 0 {
		return nil
	}
	h.using.mu.Lock()
	defer h.using.mu.Unlock()
	if age == atOnce || time.Since(h.using.at) > age {
		began := time.Now()
		all, err := h.domains(ctx)
		if err != nil {
			return err
		}
		h.using.at, h.using.of = began, map[string][]rpc.Domain{}
		for _, d := range all {
			for _, file := range d.definition.files() {
				h.using.of[file] = append(h.using.of[file], d.dom)
			}
		}
	}
	for _, v := range volumes {
		for _, dom := range h.using.of[v.Key] {
			if uuid.UUID(dom.UUID) != but {
				return fmt.Errorf("%w: %s is a disk of machine %s, too; take it off that one first", site.ErrRefused, v.Key, dom.Name)
			}
		}
	}
	return nil
}

// activeStores lists the stores of a host that can be used.
func activeStores(l daemon) ([]rpc.StoragePool, error) {
	pools, _, err := l.ConnectListAllStoragePools(1, rpc.ConnectListStoragePoolsActive)
	return pools, err
}

// describeStore reads what a store is.
func describeStore(l daemon, p rpc.StoragePool) (*etree.Element, error) {
	text, err := l.StoragePoolGetXMLDesc(p, 0)
	if err != nil {
		return nil, err
	}
	doc, err := parse(text, "pool", "the store "+p.Name)
	if err != nil {
		return nil, err
	}
	return doc.Root(), nil
}

// storeFolder is where the files of a store are.
func storeFolder(description *etree.Element) string {
	return strings.TrimSpace(textAt(description, "./target/path"))
}

// refresh lets a store look anew at what it holds. It does not while it is
// making a volume; that is waited for a while.
func (h *host) refresh(ctx context.Context, pool rpc.StoragePool) error {
	for tries := 0; ; tries++ {
		err := h.call(ctx, func(l daemon) error { return l.StoragePoolRefresh(pool, 0) })
		if err == nil || tries == 50 || !hasCode(err, rpc.ErrInternalError) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// refreshAll is refresh for every store of the host.
func (h *host) refreshAll(ctx context.Context) error {
	var pools []rpc.StoragePool
	err := h.call(ctx, func(l daemon) (err error) {
		pools, err = activeStores(l)
		return err
	})
	for _, p := range pools {
		err = errors.Join(err, h.refresh(ctx, p))
	}
	return err
}

// volumes lists what is in the stores of the host.
func (h *host) volumes(ctx context.Context) ([]rpc.StorageVol, error) {
	var all []rpc.StorageVol
	err := h.call(ctx, func(l daemon) error {
		pools, err := activeStores(l)
		if err != nil {
			return err
		}
		for _, p := range pools {
			volumes, _, err := l.StoragePoolListAllVolumes(p, 1, 0)
			if err != nil {
				return err
			}
			all = append(all, volumes...)
		}
		return nil
	})
	return all, err
}

// remains lists the volumes, in whatever store of the host, that were made for a
// machine.
func (h *host) remains(ctx context.Context, id uuid.UUID) ([]rpc.StorageVol, error) {
	return h.remainsOf(ctx, []uuid.UUID{id})
}

// remainsOf is remains for several.
func (h *host) remainsOf(ctx context.Context, ids []uuid.UUID) ([]rpc.StorageVol, error) {
	all, err := h.volumes(ctx)
	return slices.DeleteFunc(all, func(v rpc.StorageVol) bool {
		return !slices.ContainsFunc(ids, func(id uuid.UUID) bool { return isOurVolume(v.Name, id) })
	}), err
}
