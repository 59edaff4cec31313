// Package xfs reads the file system XFS (XFS Algorithms & Data Structures, 3rd edition).
package xfs

import (
	"encoding/binary"
	"io"
	"io/fs"
	"time"

	"mintbatch/internal/core/disk/volume"
)

// The incompatible features of version 5, and those that change how it is read.
const (
	typesInFolders = 0x1
	bigTime        = 0x8
	manyExtents    = 0x20
	understood     = typesInFolders | 0x2 | 0x4 | bigTime | 0x10 | manyExtents | 0x40
)

// Volume is a file system.
type Volume struct {
	*volume.FS
	Label string
	UUID  [16]byte

	from        io.ReaderAt
	block       int64
	node        int64 // size of an inode
	perBlock    uint  // bits: inodes in a block
	perGroup    uint  // bits: blocks in a group
	groupBlocks int64
	groups      int64
	folder      int64 // size of a block of a folder
	newer       bool  // version 5
	types       bool
}

// Is reports whether the volume begins as such a file system does.
func Is(from io.ReaderAt) bool {
	b := make([]byte, 4)
	n, _ := from.ReadAt(b, 0)
	return n == 4 && string(b) == "XFSB"
}

var u16, u32, u64 = binary.BigEndian.Uint16, binary.BigEndian.Uint32, binary.BigEndian.Uint64

// Open reads what a file system says of itself.
func Open(from io.ReaderAt) (*Volume, error) {
	s := make([]byte, 512)
	if n, err := from.ReadAt(s, 0); n < len(s) {
		return nil, volume.Damaged("its superblock cannot be read: %v", err)
	}
	version := u16(s[100:]) & 0xf
	v := &Volume{from: from, block: int64(u32(s[4:])), groupBlocks: int64(u32(s[84:])), groups: int64(u32(s[88:])), node: int64(u16(s[104:])),
		perBlock: uint(s[123]), perGroup: uint(s[124]), newer: version == 5, types: u32(s[200:])&0x200 != 0}
	copy(v.UUID[:], s[32:])
	for _, c := range s[108:120] {
		if c == 0 {
			break
		}
		v.Label += string(rune(c))
	}
	switch features := u32(s[216:]); {
	case string(s[:4]) != "XFSB" || version != 4 && version != 5:
		return nil, volume.Damaged("it has no superblock of XFS of version 4 or 5")
	case v.newer && features&^understood != 0:
		return nil, volume.Damaged("it has the features %#x, which are not understood", features&^understood)
	case v.newer:
		v.types = features&typesInFolders != 0
	}
	if v.block < 512 || v.block > 1<<16 || v.block&(v.block-1) != 0 || v.node < 256 || v.node > 2048 || v.node&(v.node-1) != 0 || v.perBlock > 12 || v.block>>v.perBlock != v.node ||
		v.perGroup > 31 || v.groupBlocks == 0 || v.groupBlocks > 1<<v.perGroup || v.groups == 0 || s[192] > 7 {
		return nil, volume.Damaged("its superblock has impossible sizes")
	}
	v.folder = v.block << s[192]
	root, err := v.open(u64(s[56:]))
	if err != nil {
		return nil, err
	}
	if !root.Info().Mode.IsDir() {
		return nil, volume.Damaged("its root is not a folder")
	}
	v.FS = volume.New(root)
	return v, nil
}

func (v *Volume) read(at, n int64) ([]byte, error) {
	b := make([]byte, n)
	if got, err := v.from.ReadAt(b, at); int64(got) < n {
		return nil, volume.Damaged("%d bytes at %d cannot be read: %v", n, at, err)
	}
	return b, nil
}

// place is where a block is: its number has that of its group in the upper bits.
func (v *Volume) place(number uint64) (int64, error) {
	group, block := number>>v.perGroup, int64(number&(1<<v.perGroup-1))
	if group >= uint64(v.groups) || block >= v.groupBlocks {
		return 0, volume.Damaged("there is no block %d", number)
	}
	return (int64(group)*v.groupBlocks + block) * v.block, nil
}

// inode is a node.
type inode struct {
	volume *Volume
	raw    []byte
	spans  []span // where the content is, once that was read
	known  bool
}

// span is an extent.
type span struct {
	first, count int64
	at           uint64
	written      bool
}

func (v *Volume) open(number uint64) (*inode, error) {
	at, err := v.place(number >> v.perBlock)
	if err != nil {
		return nil, err
	}
	raw, err := v.read(at+int64(number&(1<<v.perBlock-1))*v.node, v.node)
	if err != nil {
		return nil, err
	}
	n := &inode{volume: v, raw: raw}
	if string(raw[:2]) != "IN" {
		return nil, volume.Damaged("there is no inode %d", number)
	}
	return n, nil
}

// The formats of what an inode holds.
const (
	local  = 1
	listed = 2
	rooted = 3
)

func (n *inode) format() byte { return n.raw[5] }

// fork is what the inode itself holds of its content.
func (n *inode) fork() []byte {
	at := 100
	if n.raw[4] == 3 {
		at = 176
	}
	end := len(n.raw)
	if n.raw[82] > 0 {
		end = min(end, at+8*int(n.raw[82]))
	}
	return n.raw[at:end]
}

// Info implements volume.Node.
func (n *inode) Info() volume.Info {
	modified := time.Unix(int64(int32(u32(n.raw[40:]))), int64(u32(n.raw[44:])))
	if n.raw[4] == 3 && u64(n.raw[120:])&bigTime != 0 {
		stamp := u64(n.raw[40:])
		modified = time.Unix(int64(stamp/1e9)-1<<31, int64(stamp%1e9))
	}
	return volume.Info{Mode: volume.Mode(u16(n.raw[2:])), Size: max(int64(u64(n.raw[56:])), 0), Modified: modified.UTC()}
}

// mostSpans bounds what is read of a file in pieces.
const mostSpans = 1 << 20

// extents lists where the content is.
func (n *inode) extents() ([]span, error) {
	if n.known {
		return n.spans, nil
	}
	fork := n.fork()
	var all []span
	var err error
	switch n.format() {
	case listed:
		count := uint64(u32(n.raw[76:]))
		if n.raw[4] == 3 && u64(n.raw[120:])&0x10 != 0 {
			count = u64(n.raw[24:])
		}
		all = spans(nil, fork, int(min(count, uint64(len(fork)/16))))
	case rooted:
		if len(fork) < 4 {
			return nil, volume.Damaged("a file has no list of extents")
		}
		most := (len(fork) - 4) / 16
		for i := range min(int(u16(fork[2:])), most) {
			if all, err = n.volume.leaf(all, u64(fork[4+8*most+8*i:]), 8); err != nil {
				return nil, err
			}
		}
	default:
		return nil, volume.Damaged("a file has the format %d", n.format())
	}
	n.spans, n.known = all, true
	return all, nil
}

// leaf reads a block of a tree of extents.
func (v *Volume) leaf(all []span, number uint64, depth int) ([]span, error) {
	at, err := v.place(number)
	if err != nil {
		return nil, err
	}
	b, err := v.read(at, v.block)
	if err != nil {
		return nil, err
	}
	header := map[string]int{"BMAP": 24, "BMA3": 72}[string(b[:4])]
	if header == 0 || depth < 0 || len(all) > mostSpans {
		return nil, volume.Damaged("a tree of extents has no block %d", number)
	}
	count, most := int(u16(b[6:])), (len(b)-header)/16
	if u16(b[4:]) == 0 {
		return spans(all, b[header:], min(count, most)), nil
	}
	for i := range min(count, most) {
		if all, err = v.leaf(all, u64(b[header+8*most+8*i:]), depth-1); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// spans unpacks extents: one bit, 54 of the first block, 52 of where it is, 21 of their number.
func spans(all []span, b []byte, n int) []span {
	for i := range n {
		high, low := u64(b[16*i:]), u64(b[16*i+8:])
		all = append(all, span{first: int64(high << 1 >> 10), at: high&0x1ff<<43 | low>>21, count: int64(low & 0x1fffff), written: high>>63 == 0})
	}
	return all
}

// Content implements volume.Node.
func (n *inode) Content() (io.ReaderAt, error) {
	if n.format() == local {
		return volume.InMemory(n.fork()), nil
	}
	all, err := n.extents()
	if err != nil {
		return nil, err
	}
	blocks := volume.Blocks{From: n.volume.from, Size: n.volume.block, At: func(b int64) (int64, int64, bool, error) { return n.volume.find(all, b) }}
	if n.Info().Mode.Type() == fs.ModeSymlink && n.volume.newer { // each block of it has a header
		return io.NewSectionReader(blocks, 56, 1<<12), nil
	}
	return blocks, nil
}

func (v *Volume) find(all []span, b int64) (at, follow int64, is bool, err error) {
	follow = 1 << 40
	for _, s := range all {
		if s.first > b {
			follow = min(follow, s.first-b)
		} else if b < s.first+s.count {
			at, err = v.place(s.at + uint64(b-s.first))
			return at, s.first + s.count - b, s.written, err
		}
	}
	return 0, follow, false, nil
}

// Children implements volume.Node.
func (n *inode) Children() ([]volume.Child, error) {
	if n.format() == local {
		return n.few(), nil
	}
	all, err := n.extents()
	if err != nil {
		return nil, err
	}
	v := n.volume
	size := n.Info().Size
	if size > volume.MostChildren*300 {
		return nil, volume.Damaged("a folder of %d bytes", size)
	}
	var names []volume.Child
	for at := int64(0); at < size; at += v.folder {
		b := make([]byte, v.folder)
		blocks := volume.Blocks{From: v.from, Size: v.block, At: func(b int64) (int64, int64, bool, error) { return v.find(all, b) }}
		if _, err := blocks.ReadAt(b, at); err != nil {
			return nil, err
		}
		header := map[string]int{"XD2B": 16, "XD2D": 16, "XDB3": 64, "XDD3": 64}[string(b[:4])]
		if header == 0 {
			continue
		}
		if b[2] == 'B' || string(b[:4]) == "XDB3" { // the only one: it ends with its index
			count := int(u32(b[len(b)-8:]))
			if count < 0 || count > (len(b)-8-header)/8 {
				return nil, volume.Damaged("a folder has an index of %d entries", count)
			}
			b = b[:len(b)-8-8*count]
		}
		names = v.entries(names, b[header:])
	}
	return names, nil
}

// few are the names of a folder that is in its inode.
func (n *inode) few() []volume.Child {
	b := n.fork()
	if len(b) < 6 {
		return nil
	}
	count, width := int(b[0]), 4
	if b[1] > 0 {
		count, width = int(b[1]), 8
	}
	b = b[2+width:]
	kind := 0
	if n.volume.types {
		kind = 1
	}
	var all []volume.Child
	for range count {
		if len(b) < 3 || len(b) < 3+int(b[0])+kind+width {
			break
		}
		name := string(b[3 : 3+int(b[0])])
		b = b[3+len(name)+kind:]
		number := uint64(u32(b))
		if width == 8 {
			number = u64(b)
		}
		all = append(all, n.volume.child(name, number))
		b = b[width:]
	}
	return all
}

func (v *Volume) child(name string, number uint64) volume.Child {
	return volume.Child{Name: name, Open: func() (volume.Node, error) {
		n, err := v.open(number)
		if err != nil {
			return nil, err
		}
		return n, nil
	}}
}

// entries are the names in a block of a folder.
func (v *Volume) entries(all []volume.Child, b []byte) []volume.Child {
	kind := 0
	if v.types {
		kind = 1
	}
	for len(b) >= 12 {
		if u16(b) == 0xffff { // free
			length := int(u16(b[2:]))
			if length < 8 || length > len(b) {
				break
			}
			b = b[length:]
			continue
		}
		length := int(b[8])
		whole := (9 + length + kind + 2 + 7) &^ 7
		if length == 0 || whole > len(b) {
			break
		}
		if name := string(b[9 : 9+length]); name != "." && name != ".." {
			all = append(all, v.child(name, u64(b)))
		}
		b = b[whole:]
	}
	return all
}
