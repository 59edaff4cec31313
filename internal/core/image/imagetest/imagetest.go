// Package imagetest has files for tests of disk images.
package imagetest

import (
	"bytes"
	"encoding/binary"
	"io"
)

// Memory is a file in memory.
type Memory []byte

// Size implements image.File.
func (m Memory) Size() int64 { return int64(len(m)) }

// ReadAt implements io.ReaderAt.
func (m Memory) ReadAt(p []byte, at int64) (int, error) {
	n := copy(p, m[min(at, int64(len(m))):])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// WriteAt implements io.WriterAt; the file grows.
func (m *Memory) WriteAt(p []byte, at int64) (int, error) {
	if need := int(at) + len(p); need > len(*m) {
		*m = append(*m, make([]byte, need-len(*m))...)
	}
	return copy((*m)[at:], p), nil
}

// A delta of VMDK has 1024 grains of 4 KiB. Of these, Written is full of Content, and Zeroed is zeros where the kind of the delta knows
// such.
const (
	Zeroed  = 5
	Written = 100
	Content = 0x5a
)

// Deltas are files of deltas of VMDK, which nothing here writes, by what their descriptors call them.
func Deltas() map[string]Memory {
	old := make(Memory, 64*512) // header, directory, one table of 4096 entries, one grain
	copy(old, "COWD")
	for i, n := range []uint32{1, 3, 8192, 8, 4, 1, 49} {
		binary.LittleEndian.PutUint32(old[4+4*i:], n)
	}
	binary.LittleEndian.PutUint32(old[4*512:], 8)
	binary.LittleEndian.PutUint32(old[8*512+4*Written:], 40)
	copy(old[40*512:48*512], bytes.Repeat([]byte{Content}, 4096))
	wide := make(Memory, 88*512) // two headers, directory, one table of 4096 entries, two grains of which the second is in use
	for i, n := range []uint64{0: 0xcafebabe, 1: 2<<32 | 1, 2: 8192, 3: 8, 4: 64, 10: 1, 11: 1, 16: 2, 17: 1, 18: 8, 19: 64, 24: 72, 25: 16} {
		binary.LittleEndian.PutUint64(wide[8*i:], n)
	}
	binary.LittleEndian.PutUint64(wide[512:], 0xcafecafe)
	binary.LittleEndian.PutUint64(wide[2*512:], 1<<60)
	binary.LittleEndian.PutUint64(wide[8*512+8*Zeroed:], 2<<60)
	binary.LittleEndian.PutUint64(wide[8*512+8*Written:], 3<<60|1<<48)
	copy(wide[80*512:], bytes.Repeat([]byte{Content}, 4096))
	return map[string]Memory{"vmfsSparse": old, "seSparse": wide}
}
