package qcow2

import "io"

// Layer is one of the disks that lie on each other: a child, its parent, and so on.
type Layer interface {
	// Read is as that of Disk.
	Read(at int64) (content []byte, says bool, err error)
	// Says reports whether Read would say something, which may be zeros.
	Says(at int64) (bool, error)
	Cluster() int64
	Length() int64
}

// Length implements Layer.
func (d *Disk) Length() int64 { return d.Size }

// Raw is a disk whose file is what the guest sees.
type Raw struct {
	File io.ReaderAt
	Size int64
}

// rawCluster is how much of such a disk is read at once.
const rawCluster = 1 << 16

// Cluster implements Layer.
func (Raw) Cluster() int64 { return rawCluster }

// Length implements Layer.
func (r Raw) Length() int64 { return r.Size }

// Says implements Layer.
func (Raw) Says(int64) (bool, error) { return true, nil }

// Read implements Layer.
func (r Raw) Read(at int64) ([]byte, bool, error) {
	content := make([]byte, min(rawCluster, r.Size-at))
	return content, true, readFull(r.File, at, content)
}

// Chain is a disk with those below it, the child first.
type Chain []Layer

// ReadAt implements io.ReaderAt, with what the first layer says that says anything; zeros where
// none does, or behind the end.
func (c Chain) ReadAt(into []byte, at int64) (int, error) {
	clear(into)
	if len(c) == 0 {
		return len(into), nil
	}
	top := c[0]
	for done := int64(0); done < int64(len(into)) && at+done < top.Length(); {
		begin := (at + done) / top.Cluster() * top.Cluster()
		end := min(begin+top.Cluster(), top.Length(), at+int64(len(into)))
		part := into[done : end-at]
		content, says, err := top.Read(begin)
		if err == nil && !says {
			_, err = c[1:].ReadAt(part, at+done)
		}
		if err != nil {
			return int(done), err
		}
		if skip := at + done - begin; skip < int64(len(content)) {
			copy(part, content[skip:])
		}
		done = end - at
	}
	return len(into), nil
}

// Written reports whether any of the layers says something of a part of the disk.
func (c Chain) Written(at, n int64) (bool, error) {
	for _, layer := range c {
		for here := at / layer.Cluster() * layer.Cluster(); here < min(at+n, layer.Length()); here += layer.Cluster() {
			says, err := layer.Says(here)
			if err != nil || says {
				return says, err
			}
		}
	}
	return false, nil
}
