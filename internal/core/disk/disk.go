// Package disk finds the volumes of a disk, and the file systems on them.
package disk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"mintbatch/internal/core/disk/ext4"
	"mintbatch/internal/core/disk/fat"
	"mintbatch/internal/core/disk/ntfs"
	"mintbatch/internal/core/disk/volume"
	"mintbatch/internal/core/disk/xfs"
)

// Disk is what a guest sees of a disk.
type Disk struct {
	io.ReaderAt
	Size int64
}

// Part is a part of a disk that may hold a file system: a partition, a logical volume, or a
// whole disk that is not divided.
type Part struct {
	// Name says which: the number of the partition, or the group and the name of a logical volume.
	Name string
	// Kind is what its table says of it.
	Kind Kind
	Size int64

	io.ReaderAt
}

// Kind is what a partition table says that a partition is for.
type Kind string

// The kinds that matter here.
const (
	Data Kind = ""
	ESP  Kind = "efi"  // what UEFI boots from
	BIOS Kind = "bios" // where a boot loader for BIOS has its core
	LVM  Kind = "lvm"
)

// Table is how a disk is divided.
type Table string

// The partition tables.
const (
	GPT   Table = "gpt"
	MBR   Table = "mbr"
	Whole Table = "none"
)

// Parts lists the parts of a disk. An error says what cannot be understood; what can be is
// listed all the same.
func Parts(d Disk) (Table, []Part, error) {
	first := make([]byte, 512)
	if n, err := d.ReadAt(first, 0); n < len(first) {
		return Whole, nil, volume.Damaged("its first sector cannot be read: %v", err)
	}
	table, parts, err := MBR, []Part(nil), error(nil)
	switch {
	case fat.Is(d) || ntfs.Is(d) || first[510] != 0x55 || first[511] != 0xaa:
		table, parts = Whole, []Part{{Name: "disk", Size: d.Size, ReaderAt: d}}
	case first[0x1be+4] == 0xee:
		table = GPT
		parts, err = gpt(d)
	default:
		parts, err = mbr(d, first)
	}
	logical, failed := logicalVolumes(parts)
	return table, append(parts, logical...), errors.Join(err, failed)
}

func section(d Disk, at, size int64) (io.ReaderAt, error) {
	if at < 0 || size <= 0 || at > d.Size-size {
		return nil, volume.Damaged("a partition of %d bytes at %d is not on the disk of %d bytes", size, at, d.Size)
	}
	return io.NewSectionReader(d, at, size), nil
}

// Boots reports whether the first sector of a disk holds a boot loader for BIOS.
func Boots(d Disk) bool {
	code := make([]byte, 440)
	if n, _ := d.ReadAt(code, 0); n < len(code) {
		return false
	}
	for _, c := range code {
		if c != 0 {
			return true
		}
	}
	return false
}

// mbr reads a table of four partitions, and those that an extended one is divided into.
func mbr(d Disk, first []byte) ([]Part, error) {
	var parts []Part
	var failed error
	add := func(number int, kind byte, at, count int64) {
		from, err := section(d, at*512, count*512)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("partition %d: %w", number, err))
			return
		}
		parts = append(parts, Part{Name: fmt.Sprint(number), Kind: map[byte]Kind{0xef: ESP, 0x8e: LVM}[kind], Size: count * 512, ReaderAt: from})
	}
	u32 := binary.LittleEndian.Uint32
	for i := range 4 {
		e := first[0x1be+16*i:]
		kind, at, count := e[4], int64(u32(e[8:])), int64(u32(e[12:]))
		switch {
		case kind == 0 || count == 0:
		case kind == 0x05 || kind == 0x0f || kind == 0x85:
			next, sector := at, make([]byte, 512)
			for number := 5; number < 128; number++ {
				if n, err := d.ReadAt(sector, next*512); n < len(sector) || sector[510] != 0x55 || sector[511] != 0xaa {
					failed = errors.Join(failed, volume.Damaged("an extended partition has no table at sector %d (%v)", next, err))
					break
				}
				one, more := sector[0x1be:], sector[0x1ce:]
				if one[4] != 0 {
					add(number, one[4], next+int64(u32(one[8:])), int64(u32(one[12:])))
				}
				if more[4] == 0 || u32(more[8:]) == 0 {
					break
				}
				next = at + int64(u32(more[8:]))
			}
		default:
			add(i+1, kind, at, count)
		}
	}
	return parts, failed
}

// gpt reads a GUID partition table (UEFI 2.10, 5.3): the one at the beginning, or else that at
// the end.
func gpt(d Disk) ([]Part, error) {
	var failed error
	for _, sector := range []int64{512, 4096} {
		for _, at := range []int64{sector, (d.Size/sector - 1) * sector} {
			parts, err := gptAt(d, sector, at)
			if parts != nil {
				return parts, err
			}
			failed = err
		}
	}
	return nil, failed
}

func gptAt(d Disk, sector, at int64) ([]Part, error) {
	h := make([]byte, 92)
	if n, _ := d.ReadAt(h, at); n < len(h) || string(h[:8]) != "EFI PART" {
		return nil, volume.Damaged("it has no GUID partition table where one is to be")
	}
	u32, u64 := binary.LittleEndian.Uint32, binary.LittleEndian.Uint64
	entries, count, each := int64(u64(h[72:])), int64(u32(h[80:])), int64(u32(h[84:]))
	if count > 1024 || each < 128 || each > 4096 || entries < 0 || entries > d.Size/sector {
		return nil, volume.Damaged("its partition table has %d entries of %d bytes", count, each)
	}
	parts := []Part{}
	var failed error
	for i := range count {
		e := make([]byte, 128)
		if n, err := d.ReadAt(e, entries*sector+i*each); n < len(e) {
			return parts, volume.Damaged("its partition table cannot be read: %v", err)
		}
		kind := guid(e)
		if kind == "00000000-0000-0000-0000-000000000000" {
			continue
		}
		first, last := int64(u64(e[32:])), int64(u64(e[40:]))
		if first < 0 || last < first || last > d.Size/sector {
			failed = errors.Join(failed, volume.Damaged("partition %d is not on the disk", i+1))
			continue
		}
		from, err := section(d, first*sector, (last-first+1)*sector)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("partition %d: %w", i+1, err))
			continue
		}
		parts = append(parts, Part{Name: fmt.Sprint(i + 1), Size: (last - first + 1) * sector, ReaderAt: from, Kind: map[string]Kind{
			"c12a7328-f81f-11d2-ba4b-00a0c93ec93b": ESP, "21686148-6449-6e6f-744e-656564454649": BIOS, "e6d6d379-f507-44c2-a23c-238f2a3df928": LVM}[kind]})
	}
	return parts, failed
}

// guid is how a GUID is written: its first three parts have the lowest byte first.
func guid(b []byte) string {
	return fmt.Sprintf("%08x-%04x-%04x-%x-%x", binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint16(b[4:]), binary.LittleEndian.Uint16(b[6:]), b[8:10], b[10:16])
}

// FileSystem is what a part holds.
type FileSystem struct {
	fs.FS
	// Kind is its name, also of those that cannot be read, whose FS is nil; empty where nothing
	// is known.
	Kind        string
	Label, UUID string
	// Unclean reports that it was not unmounted.
	Unclean bool
}

// Open finds out what a part holds.
func (p Part) Open() (FileSystem, error) {
	switch {
	case xfs.Is(p):
		v, err := xfs.Open(p)
		if err != nil {
			return FileSystem{Kind: "xfs"}, err
		}
		return FileSystem{FS: v, Kind: "xfs", Label: v.Label, UUID: uuid(v.UUID)}, nil
	case ext4.Is(p):
		v, err := ext4.Open(p)
		if err != nil {
			return FileSystem{Kind: "ext4"}, err
		}
		return FileSystem{FS: v, Kind: "ext4", Label: v.Label, UUID: uuid(v.UUID), Unclean: v.Unclean}, nil
	case ntfs.Is(p):
		v, err := ntfs.Open(p)
		if err != nil {
			return FileSystem{Kind: "ntfs"}, err
		}
		return FileSystem{FS: v, Kind: "ntfs"}, nil
	case fat.Is(p):
		v, err := fat.Open(p)
		if err != nil {
			return FileSystem{Kind: "fat"}, err
		}
		return FileSystem{FS: v, Kind: "fat", Label: v.Label, UUID: strings.ToUpper(fmt.Sprintf("%04x-%04x", v.Serial>>16, v.Serial&0xffff))}, nil
	}
	for _, k := range []struct {
		at    int64
		magic string
		kind  string
	}{{0, "LUKS\xba\xbe", "luks (encrypted)"}, {3, "-FVE-FS-", "bitlocker (encrypted)"}, {0x10040, "_BHRfS_M", "btrfs"}, {4086, "SWAPSPACE2", "swap"}, {4086, "S1SUSPEND", "hibernation"},
		{536, "LVM2 001", "lvm"}, {24, "LVM2 001", "lvm"}, {0x8001, "CD001", "iso9660"}, {0, "hsqs", "squashfs"}, {3, "EXFAT   ", "exfat"}} {
		b := make([]byte, len(k.magic))
		if n, _ := p.ReadAt(b, k.at); n == len(b) && string(b) == k.magic {
			return FileSystem{Kind: k.kind}, nil
		}
	}
	return FileSystem{}, nil
}

func uuid(b [16]byte) string {
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}
