// Package blocks takes a disk apart into blocks, of which each is known by its digest and those that
// are all zeros are left out.
package blocks

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"sync"

	"mintbatch/internal/core/image/qcow2"
)

// Size is that of a block in bytes; the last one of a disk is filled up with zeros.
const Size = qcow2.WriteCluster

// Sum is the SHA-256 of a block.
type Sum [sha256.Size]byte

// Map tells which blocks of a disk are more than zeros, and their digests, in order.
type Map struct {
	Disk int64 // the size of the disk in bytes
	Has  qcow2.Clusters
	Sums []Sum
}

// Blocks is how many blocks a disk of a size has.
func Blocks(disk int64) int64 { return (disk + Size - 1) / Size }

var zeros [Size]byte

var sumOfZeros = sync.OnceValue(func() Sum { return sha256.Sum256(zeros[:]) })

// Digest identifies the content of a disk: the SHA-256, in hexadecimal digits, of the SHA-256 of all of its
// blocks one after the other.
func (m *Map) Digest() string {
	all, next := sha256.New(), 0
	empty := sumOfZeros()
	for block := range Blocks(m.Disk) {
		sum := &empty
		if m.Has.Has(block) {
			sum = &m.Sums[next]
			next++
		}
		all.Write(sum[:])
	}
	return hex.EncodeToString(all.Sum(nil))
}

// Source is a disk that may say which of its parts were never written to.
type Source interface {
	io.ReaderAt
	// Written reports whether anything may be in a part of the disk.
	Written(at, n int64) (bool, error)
}

// Whole is a source of which all may have been written to.
type Whole struct{ io.ReaderAt }

// Written implements Source.
func (Whole) Written(int64, int64) (bool, error) { return true, nil }

// stride is how many blocks are left out at once where nothing was ever written.
const stride = 4096

// together is how many blocks are read before they are summed side by side.
const together = 64

// Read reads a disk and tells of what it consists. read, if given, is told how much of the disk was gone
// through; what it returns ends the reading.
func Read(from Source, disk int64, read func(at int64) error) (*Map, error) {
	m := &Map{Disk: disk, Has: qcow2.NewClusters(disk)}
	buffer := make([]byte, together*Size)
	var some []int64
	flush := func() {
		sums, zero := sumAll(buffer[:len(some)*Size])
		for i, block := range some {
			if !zero[i] {
				m.Has.Add(block)
				m.Sums = append(m.Sums, sums[i])
			}
		}
		some = some[:0]
	}
	for block := int64(0); block < Blocks(disk); block++ {
		at := block * Size
		n := min(Size, disk-at)
		if block%stride == 0 {
			any, err := from.Written(at, min(stride*Size, disk-at))
			if err != nil {
				return nil, err
			}
			if !any {
				block += stride - 1
				continue
			}
		}
		written, err := from.Written(at, n)
		if err != nil {
			return nil, err
		}
		if written {
			into := buffer[len(some)*Size : (len(some)+1)*Size]
			clear(into[n:])
			if got, err := from.ReadAt(into[:n], at); int64(got) < n {
				return nil, err
			}
			some = append(some, block)
		}
		if len(some) == together || block%stride == stride-1 {
			flush()
			if read != nil {
				if err := read(at + n); err != nil {
					return nil, err
				}
			}
		}
	}
	flush()
	return m, nil
}

// sumAll sums blocks, and tells which are all zeros.
func sumAll(content []byte) (sums [together]Sum, zero [together]bool) {
	n := len(content) / Size
	var all sync.WaitGroup
	const workers = 4
	for worker := range min(workers, n) {
		all.Go(func() {
			for i := worker; i < n; i += workers {
				block := content[i*Size : (i+1)*Size]
				if zero[i] = bytes.Equal(block, zeros[:]); !zero[i] {
					sums[i] = sha256.Sum256(block)
				}
			}
		})
	}
	all.Wait()
	return sums, zero
}

// ErrChanged means that a disk is not what it was when it was gone through.
var ErrChanged = errors.New("the disk was changed since it was gone through")

// Checked reads the blocks of a disk, one at a time and in order, and holds each against its digest.
func (m *Map) Checked(from io.ReaderAt) io.ReaderAt { return &checked{of: m, from: from} }

type checked struct {
	of    *Map
	from  io.ReaderAt
	block int64 // that is looked at next
	sum   int   // of the next one that is more than zeros
}

// ReadAt implements io.ReaderAt.
func (c *checked) ReadAt(p []byte, at int64) (int, error) {
	n, err := c.from.ReadAt(p, at)
	if n < len(p) {
		return n, err
	}
	for ; c.block < at/Size; c.block++ {
		if c.of.Has.Has(c.block) {
			c.sum++
		}
	}
	block := make([]byte, Size)
	copy(block, p)
	if c.block*Size != at || !c.of.Has.Has(c.block) || sha256.Sum256(block) != c.of.Sums[c.sum] {
		return 0, fmt.Errorf("%w: block %d", ErrChanged, at/Size)
	}
	return n, nil
}
