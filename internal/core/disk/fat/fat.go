// Package fat reads the file systems FAT12, FAT16 and FAT32 (Microsoft: FAT32 File System
// Specification).
package fat

import (
	"encoding/binary"
	"io"
	"io/fs"
	"strings"
	"time"
	"unicode/utf16"

	"mintbatch/internal/core/disk/volume"
)

// Volume is a file system.
type Volume struct {
	*volume.FS
	Label string
	// Serial is the number by which its system tells it from others.
	Serial uint32

	from     io.ReaderAt
	cluster  int64
	clusters uint32
	table    int64 // where the table is
	data     int64 // where cluster 2 is
	bits     int   // of an entry of the table
}

// Is reports whether the volume begins as such a file system does.
func Is(from io.ReaderAt) bool {
	b := make([]byte, 512)
	n, _ := from.ReadAt(b, 0)
	return n == 512 && b[510] == 0x55 && b[511] == 0xaa && (string(b[54:57]) == "FAT" || string(b[82:87]) == "FAT32")
}

// Open reads what a file system says of itself.
func Open(from io.ReaderAt) (*Volume, error) {
	b := make([]byte, 512)
	if n, err := from.ReadAt(b, 0); n < len(b) {
		return nil, volume.Damaged("its first sector cannot be read: %v", err)
	}
	u16, u32 := binary.LittleEndian.Uint16, binary.LittleEndian.Uint32
	sector, perCluster, reserved, tables := int64(u16(b[11:])), int64(b[13]), int64(u16(b[14:])), int64(b[16])
	inRoot, sectors, perTable := int64(u16(b[17:])), int64(u16(b[19:])), int64(u16(b[22:]))
	if sectors == 0 {
		sectors = int64(u32(b[32:]))
	}
	wide := perTable == 0
	if wide {
		perTable = int64(u32(b[36:]))
	}
	if sector < 512 || sector > 4096 || sector&(sector-1) != 0 || perCluster == 0 || perCluster&(perCluster-1) != 0 || reserved == 0 || tables == 0 || perTable == 0 {
		return nil, volume.Damaged("its first sector has impossible sizes")
	}
	rootAt := (reserved + tables*perTable) * sector
	v := &Volume{from: from, cluster: perCluster * sector, table: reserved * sector, data: rootAt + (inRoot*32+sector-1)/sector*sector}
	count := (sectors*sector - v.data) / v.cluster
	if count <= 0 || count > 0x0ffffff5 {
		return nil, volume.Damaged("it has %d clusters", count)
	}
	v.clusters = uint32(count)
	root := &node{volume: v, folder: true, first: 0, fixed: rootAt, size: inRoot * 32}
	label := b[43:54]
	switch {
	case wide:
		v.bits, label, v.Serial = 32, b[71:82], u32(b[67:])
		root.first, root.fixed = u32(b[44:])&0x0fffffff, 0
	case count < 4085:
		v.bits, v.Serial = 12, u32(b[39:])
	default:
		v.bits, v.Serial = 16, u32(b[39:])
	}
	if v.Label = strings.TrimRight(string(label), " "); v.Label == "NO NAME" {
		v.Label = ""
	}
	v.FS = volume.New(root)
	v.Fold = strings.ToUpper
	return v, nil
}

// after is the cluster that follows another; false at the end.
func (v *Volume) after(cluster uint32) (uint32, bool, error) {
	at := map[int]int64{12: int64(cluster) + int64(cluster)/2, 16: 2 * int64(cluster), 32: 4 * int64(cluster)}[v.bits]
	b := make([]byte, 4)
	if n, err := v.from.ReadAt(b[:max(2, v.bits/8)], v.table+at); n < max(2, v.bits/8) {
		return 0, false, volume.Damaged("its table cannot be read: %v", err)
	}
	next := binary.LittleEndian.Uint32(b)
	switch v.bits {
	case 12:
		if next >>= 4 * (cluster & 1); true {
			next &= 0xfff
		}
	case 16:
		next &= 0xffff
	case 32:
		next &= 0x0fffffff
	}
	if next >= 1<<min(v.bits, 28)-8 {
		return 0, false, nil
	}
	return next, true, v.check(next)
}

func (v *Volume) check(cluster uint32) error {
	if cluster < 2 || cluster-2 >= v.clusters {
		return volume.Damaged("there is no cluster %d", cluster)
	}
	return nil
}

// node is a file or a folder. The root of a smaller system is in a place of its own.
type node struct {
	volume   *Volume
	folder   bool
	first    uint32
	fixed    int64
	size     int64
	modified time.Time

	chain []uint32
}

// Info implements volume.Node.
func (n *node) Info() volume.Info {
	mode := fs.FileMode(0o644)
	if n.folder {
		mode = fs.ModeDir | 0o755
	}
	return volume.Info{Mode: mode, Size: n.size, Modified: n.modified}
}

// clusters lists where the content is.
func (n *node) clusters() ([]uint32, error) {
	if n.chain != nil || n.first == 0 {
		return n.chain, nil
	}
	most := int(min(int64(n.volume.clusters), (max(n.size, 0)+n.volume.cluster-1)/n.volume.cluster))
	if n.folder {
		most = int(min(int64(n.volume.clusters), volume.MostChildren*32*21/n.volume.cluster+1))
	}
	err := n.volume.check(n.first)
	var chain []uint32
	for c, more := n.first, true; more && err == nil && len(chain) < most; c, more, err = n.volume.after(c) {
		chain = append(chain, c)
	}
	if err == nil {
		n.chain = chain
	}
	return chain, err
}

// Content implements volume.Node.
func (n *node) Content() (io.ReaderAt, error) {
	if n.fixed > 0 {
		return io.NewSectionReader(n.volume.from, n.fixed, n.size), nil
	}
	chain, err := n.clusters()
	if err != nil {
		return nil, err
	}
	return volume.Blocks{From: n.volume.from, Size: n.volume.cluster, At: func(b int64) (int64, int64, bool, error) {
		if b >= int64(len(chain)) {
			return 0, 0, false, volume.Damaged("a file is shorter than it says")
		}
		return n.volume.data + int64(chain[b]-2)*n.volume.cluster, 1, true, nil
	}}, nil
}

// The attributes of an entry.
const (
	isLabel  = 0x08
	isFolder = 0x10
	isLong   = 0x0f
)

// Children implements volume.Node.
func (n *node) Children() ([]volume.Child, error) {
	content, err := n.Content()
	if err != nil {
		return nil, err
	}
	size := n.size
	if n.fixed == 0 {
		size = int64(len(n.chain)) * n.volume.cluster
	}
	whole := make([]byte, size)
	if _, err := content.ReadAt(whole, 0); err != nil {
		return nil, err
	}
	var all []volume.Child
	var long []uint16 // of the entry that comes next
	for ; len(whole) >= 32 && whole[0] != 0; whole = whole[32:] {
		e := whole[:32]
		attributes := e[11]
		if e[0] == 0xe5 {
			long = nil
			continue
		}
		if attributes&0x3f == isLong {
			var part []uint16
			for _, at := range [...]int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
				part = append(part, binary.LittleEndian.Uint16(e[at:]))
			}
			long = append(part, long...)
			continue
		}
		name := short(e)
		if long != nil {
			for i, c := range long {
				if c == 0 {
					long = long[:i]
					break
				}
			}
			name = string(utf16.Decode(long))
		}
		long = nil
		if attributes&isLabel != 0 || name == "." || name == ".." || name == "" || strings.ContainsAny(name, "/\x00") {
			continue
		}
		below := &node{volume: n.volume, folder: attributes&isFolder != 0, first: uint32(binary.LittleEndian.Uint16(e[20:]))<<16 | uint32(binary.LittleEndian.Uint16(e[26:])),
			size: int64(binary.LittleEndian.Uint32(e[28:])), modified: when(binary.LittleEndian.Uint16(e[24:]), binary.LittleEndian.Uint16(e[22:]))}
		if n.volume.bits < 32 {
			below.first &= 0xffff
		}
		all = append(all, volume.Child{Name: name, Open: func() (volume.Node, error) { return below, nil }})
	}
	return all, nil
}

// short is the name of an entry that has no longer one.
func short(e []byte) string {
	name, ending := strings.TrimRight(string(e[:8]), " "), strings.TrimRight(string(e[8:11]), " ")
	if e[12]&0x08 != 0 {
		name = strings.ToLower(name)
	}
	if e[12]&0x10 != 0 {
		ending = strings.ToLower(ending)
	}
	if ending != "" {
		name += "." + ending
	}
	return name
}

func when(date, clock uint16) time.Time {
	return time.Date(1980+int(date>>9), time.Month(date>>5&0xf), int(date&0x1f), int(clock>>11), int(clock>>5&0x3f), int(clock&0x1f)*2, 0, time.UTC)
}
