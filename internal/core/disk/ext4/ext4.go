// Package ext4 reads the file systems ext2, ext3 and ext4 (Linux: Documentation/filesystems/ext4).
package ext4

import (
	"encoding/binary"
	"io"
	"time"

	"mintbatch/internal/core/disk/volume"
)

// The incompatible features of a file system, and those that change how it is read.
const (
	typesInFolders = 0x2
	needsRecovery  = 0x4
	metaGroups     = 0x10
	wide           = 0x80
	understood     = typesInFolders | needsRecovery | metaGroups | 0x40 | wide | 0x100 | 0x200 | 0x400 | 0x2000 | 0x4000 | 0x8000 | 0x10000 | 0x20000
)

// The flags of a node.
const (
	encrypted = 0x800
	extents   = 0x80000
	inline    = 0x10000000
)

const (
	rootNumber    = 2
	deepestExtent = 5
)

// Volume is a file system.
type Volume struct {
	*volume.FS
	Label string
	UUID  [16]byte
	// Unclean reports that its journal holds what was not yet written to its place.
	Unclean bool

	from           io.ReaderAt
	block          int64
	perGroup       uint32
	perGroupBlocks int64
	nodes          uint32
	nodeSize       int64
	firstBlock     int64
	descriptor     int64 // its size
	features       uint32
	firstMeta      int64
	groups         int64
	hasTypes       bool
	blocksCount    int64
}

// Is reports whether the volume begins as such a file system does.
func Is(from io.ReaderAt) bool {
	magic := make([]byte, 2)
	n, _ := from.ReadAt(magic, 1024+0x38)
	return n == 2 && binary.LittleEndian.Uint16(magic) == 0xef53
}

// Open reads what a file system says of itself.
func Open(from io.ReaderAt) (*Volume, error) {
	s := make([]byte, 1024)
	if n, err := from.ReadAt(s, 1024); n < len(s) {
		return nil, volume.Damaged("its superblock cannot be read: %v", err)
	}
	u16, u32 := binary.LittleEndian.Uint16, binary.LittleEndian.Uint32
	if u16(s[0x38:]) != 0xef53 {
		return nil, volume.Damaged("it has no superblock of ext4")
	}
	v := &Volume{from: from, Label: text(s[0x78:0x88]), nodes: u32(s), perGroup: u32(s[0x28:]), firstBlock: int64(u32(s[0x14:])),
		features: u32(s[0x60:]), nodeSize: int64(u16(s[0x58:])), descriptor: 32, firstMeta: int64(u32(s[0x104:])), blocksCount: int64(u32(s[4:]))}
	copy(v.UUID[:], s[0x68:])
	if u32(s[0x4c:]) == 0 { // the first revision
		v.nodeSize = 128
	}
	shift, blocksPerGroup := u32(s[0x18:]), u32(s[0x20:])
	if v.features&wide != 0 {
		v.descriptor = int64(u16(s[0xfe:]))
		v.blocksCount |= int64(u32(s[0x150:])) << 32
	}
	switch {
	case v.features&^understood != 0:
		return nil, volume.Damaged("it has the features %#x, which are not understood", v.features&^understood)
	case shift > 6:
		return nil, volume.Damaged("blocks of 2^%d KiB", shift)
	case v.perGroup == 0 || blocksPerGroup == 0 || v.nodeSize < 128 || v.nodeSize > 1024<<shift || v.descriptor < 32 || v.descriptor > 1024:
		return nil, volume.Damaged("its superblock has impossible sizes")
	}
	v.block, v.perGroupBlocks, v.Unclean, v.hasTypes = 1024<<shift, int64(blocksPerGroup), v.features&needsRecovery != 0, v.features&typesInFolders != 0
	v.groups = (v.blocksCount - v.firstBlock + int64(blocksPerGroup) - 1) / int64(blocksPerGroup)
	root, err := v.node(rootNumber)
	if err != nil {
		return nil, err
	}
	if !root.Info().Mode.IsDir() {
		return nil, volume.Damaged("its root is not a folder")
	}
	v.FS = volume.New(root)
	return v, nil
}

func text(b []byte) string {
	for i, c := range b {
		if c == 0 {
			return string(b[:i])
		}
	}
	return string(b)
}

// read reads a part of the volume.
func (v *Volume) read(at int64, n int64) ([]byte, error) {
	b := make([]byte, n)
	if at < 0 {
		return nil, volume.Damaged("something is to be at %d", at)
	}
	if got, err := v.from.ReadAt(b, at); int64(got) < n {
		return nil, volume.Damaged("%d bytes at %d cannot be read: %v", n, at, err)
	}
	return b, nil
}

// table is where the nodes of a group are.
func (v *Volume) table(group int64) (int64, error) {
	if group >= v.groups {
		return 0, volume.Damaged("there is no group %d", group)
	}
	perBlock := v.block / v.descriptor
	at := (v.firstBlock + 1 + group/perBlock) * v.block
	if inBlock := group / perBlock; v.features&metaGroups != 0 && inBlock >= v.firstMeta {
		first := inBlock * perBlock // group
		at = (v.firstBlock + first*v.perGroupBlocks) * v.block
		if hasSuper(first) {
			at += v.block
		}
	}
	d, err := v.read(at+group%perBlock*v.descriptor, v.descriptor)
	if err != nil {
		return 0, err
	}
	block := int64(binary.LittleEndian.Uint32(d[8:]))
	if v.descriptor >= 64 {
		block |= int64(binary.LittleEndian.Uint32(d[0x28:])) << 32
	}
	return v.place(block)
}

// hasSuper reports whether a group begins with a copy of the superblock: those with the
// numbers 0, 1 and the powers of 3, 5 and 7.
func hasSuper(group int64) bool {
	for _, base := range []int64{3, 5, 7} {
		power := int64(1)
		for power < group {
			power *= base
		}
		if power == group {
			return true
		}
	}
	return group <= 1
}

// place is where a block is.
func (v *Volume) place(block int64) (int64, error) {
	if block <= 0 || block >= v.blocksCount {
		return 0, volume.Damaged("there is no block %d", block)
	}
	return block * v.block, nil
}

// node is an inode.
type node struct {
	volume *Volume
	raw    []byte
}

func (v *Volume) node(number uint32) (*node, error) {
	if number == 0 || number > v.nodes {
		return nil, volume.Damaged("there is no inode %d", number)
	}
	table, err := v.table(int64((number - 1) / v.perGroup))
	if err != nil {
		return nil, err
	}
	raw, err := v.read(table+int64((number-1)%v.perGroup)*v.nodeSize, v.nodeSize)
	return &node{v, raw}, err
}

func (n *node) flags() uint32 { return binary.LittleEndian.Uint32(n.raw[0x20:]) }

func (n *node) size() int64 {
	size := int64(binary.LittleEndian.Uint32(n.raw[4:])) | int64(binary.LittleEndian.Uint32(n.raw[0x6c:]))<<32
	return max(size, 0)
}

// Info implements volume.Node.
func (n *node) Info() volume.Info {
	return volume.Info{Mode: volume.Mode(binary.LittleEndian.Uint16(n.raw)), Size: n.size(), Modified: time.Unix(int64(binary.LittleEndian.Uint32(n.raw[0x10:])), 0).UTC()}
}

// Content implements volume.Node.
func (n *node) Content() (io.ReaderAt, error) {
	own := n.raw[0x28 : 0x28+60]
	link := n.Info().Mode.Type() == volume.Mode(0xa000).Type()
	switch {
	case n.flags()&encrypted != 0:
		return nil, volume.Damaged("it is encrypted")
	case link && n.size() < 60 && n.flags()&(extents|inline) == 0:
		return volume.InMemory(own), nil
	case n.flags()&inline != 0:
		whole, err := n.inlined()
		return volume.InMemory(whole), err
	case n.flags()&extents != 0:
		return volume.Blocks{From: n.volume.from, Size: n.volume.block, At: func(b int64) (int64, int64, bool, error) { return n.volume.extent(own, b, deepestExtent) }}, nil
	}
	return volume.Blocks{From: n.volume.from, Size: n.volume.block, At: func(b int64) (int64, int64, bool, error) { return n.volume.mapped(own, b) }}, nil
}

// inlined is what is in the inode itself, and in its attribute system.data.
func (n *node) inlined() ([]byte, error) {
	whole := append([]byte{}, n.raw[0x28:0x28+60]...)
	if n.size() <= 60 || len(n.raw) < 0x84 {
		return whole, nil
	}
	u16, u32 := binary.LittleEndian.Uint16, binary.LittleEndian.Uint32
	at := 128 + int(u16(n.raw[0x80:]))
	if at+4 > len(n.raw) || u32(n.raw[at:]) != 0xea020000 {
		return nil, volume.Damaged("a small file has no attributes")
	}
	body := n.raw[at+4:]
	for e := 0; e+16 <= len(body) && body[e] != 0; {
		length, index, from, size := int(body[e]), body[e+1], int(u16(body[e+2:])), int(u32(body[e+8:]))
		if e+16+length > len(body) || from > len(body) || size < 0 || size > len(body)-from {
			break
		}
		if index == 7 && string(body[e+16:e+16+length]) == "data" {
			return append(whole, body[from:from+size]...), nil
		}
		e += (16 + length + 3) &^ 3
	}
	return nil, volume.Damaged("the rest of a small file is missing")
}

// extent finds a block in a tree of extents.
func (v *Volume) extent(t []byte, block int64, depth int) (at, follow int64, is bool, err error) {
	u16, u32 := binary.LittleEndian.Uint16, binary.LittleEndian.Uint32
	if u16(t) != 0xf30a || depth < 0 {
		return 0, 0, false, volume.Damaged("a file has no tree of extents")
	}
	n := min(int(u16(t[2:])), len(t)/12-1)
	next := int64(1) << 32 // the block at which something else begins
	for i := n - 1; i >= 0; i-- {
		e := t[12+12*i:]
		first := int64(u32(e))
		if first > block {
			next = first
			continue
		}
		if u16(t[6:]) > 0 {
			below, err := v.place(int64(u32(e[4:])) | int64(u16(e[8:]))<<32)
			if err != nil {
				return 0, 0, false, err
			}
			deeper, err := v.read(below, v.block)
			if err != nil {
				return 0, 0, false, err
			}
			at, follow, is, err = v.extent(deeper, block, depth-1)
			return at, min(follow, next-block), is, err
		}
		length := int64(u16(e[4:]))
		written := length <= 0x8000
		if !written {
			length -= 0x8000
		}
		if block >= first+length {
			break
		}
		start := int64(u32(e[8:])) | int64(u16(e[6:]))<<32
		if _, err := v.place(start + length - 1); err != nil {
			return 0, 0, false, err
		}
		at, err = v.place(start + block - first)
		return at, first + length - block, written, err
	}
	return 0, next - block, false, nil
}

// mapped finds a block by the older map: twelve blocks, then blocks of numbers of blocks.
func (v *Volume) mapped(own []byte, block int64) (at, follow int64, is bool, err error) {
	u32 := binary.LittleEndian.Uint32
	each := v.block / 4
	number, levels := int64(0), 0
	switch rest := block - 12; {
	case rest < 0:
		number = int64(u32(own[4*block:]))
	case rest < each:
		number, levels, block = int64(u32(own[48:])), 1, rest
	case rest < each+each*each:
		number, levels, block = int64(u32(own[52:])), 2, rest-each
	case rest < each+each*each+each*each*each:
		number, levels, block = int64(u32(own[56:])), 3, rest-each-each*each
	default:
		return 0, 0, false, volume.Damaged("a file has no block %d", block)
	}
	for ; levels > 0 && number != 0; levels-- {
		span := int64(1)
		for range levels - 1 {
			span *= each
		}
		place, err := v.place(number)
		if err != nil {
			return 0, 0, false, err
		}
		b, err := v.read(place+block/span*4, 4)
		if err != nil {
			return 0, 0, false, err
		}
		number, block = int64(u32(b)), block%span
	}
	if number == 0 {
		return 0, 1, false, nil
	}
	at, err = v.place(number)
	return at, 1, true, err
}

// Children implements volume.Node.
func (n *node) Children() ([]volume.Child, error) {
	size := n.size()
	if size > volume.MostChildren*264 {
		return nil, volume.Damaged("a folder of %d bytes", size)
	}
	content, err := n.Content()
	if err != nil {
		return nil, err
	}
	whole := make([]byte, size)
	if _, err := content.ReadAt(whole, 0); err != nil {
		return nil, err
	}
	part := n.volume.block
	var all []volume.Child
	if n.flags()&inline != 0 { // the number of the folder above it, then entries in two parts
		all = n.volume.entries(all, whole[min(4, len(whole)):min(60, len(whole))])
		return n.volume.entries(all, whole[min(60, len(whole)):]), nil
	}
	for at := int64(0); at < size; at += part {
		all = n.volume.entries(all, whole[at:min(at+part, size)])
	}
	return all, nil
}

// entries are the names in a block of a folder. What indexes them looks like a block without any.
func (v *Volume) entries(all []volume.Child, b []byte) []volume.Child {
	for len(b) >= 8 {
		number, length, name := binary.LittleEndian.Uint32(b), int(binary.LittleEndian.Uint16(b[4:])), int(b[6])
		if !v.hasTypes {
			name = int(binary.LittleEndian.Uint16(b[6:]))
		}
		if length < 8 || length > len(b) {
			break
		}
		if number != 0 && name > 0 && 8+name <= length {
			if s := string(b[8 : 8+name]); s != "." && s != ".." {
				all = append(all, volume.Child{Name: s, Open: func() (volume.Node, error) {
					n, err := v.node(number)
					if err != nil {
						return nil, err
					}
					return n, nil
				}})
			}
		}
		b = b[length:]
	}
	return all
}
