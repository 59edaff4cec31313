package media

import (
	"bytes"
	"encoding/binary"
	"slices"
	"unicode/utf16"
)

// Sector is the unit of images, in bytes.
const Sector = sector

const sector = 2048

// The layout of an image (ECMA-119, section 6.2): the system area, then one
// sector each for what describes the volume, then the folders and the files.
const (
	primaryAt   = 16
	jolietAt    = 17
	endAt       = 18
	pathTableAt = 19 // little- and big-endian for ISO 9660, then for Joliet
	foldersAt   = 23
)

// iso makes an ISO 9660 image (ECMA-119). Its file names are seen as they are by
// readers of Rock Ridge (IEEE P1282) and of Joliet; a plain reader sees them
// shortened to the standard's characters.
func iso(label string, files []File) []byte {
	head, starts, size := isoHead(label, sizesOf(files))
	image := make([]byte, size)
	copy(image, head)
	for i, f := range files {
		copy(image[starts[i]:], f.Content)
	}
	return image
}

func sizesOf(files []File) []Large {
	of := make([]Large, len(files))
	for i, f := range files {
		of[i] = Large{f.Name, int64(len(f.Content))}
	}
	return of
}

// isoHead is all of an image that comes before the files, where these are, and its size.
func isoHead(label string, files []Large) (head []byte, starts []int64, size int64) {
	v := volume{label: label}
	v.plain = folder{names: isoNames(files), files: files, rockRidge: true}
	v.joliet = folder{names: jolietNames(files), files: files}
	v.plain.at = foldersAt
	v.joliet.at = v.plain.at + v.plain.sectors()
	at := v.joliet.at + v.joliet.sectors()
	head = make([]byte, int(at)*sector)
	begins := make([]uint32, len(files))
	for i, f := range files {
		begins[i], starts = at, append(starts, int64(at)*sector)
		at += sectors(f.Size)
	}
	v.size = at
	v.describe(head)
	v.plain.write(head, begins)
	v.joliet.write(head, begins)
	return head, starts, int64(at) * sector
}

// isoNames adds the version to the short names (ECMA-119, section 7.5).
func isoNames(files []Large) [][]byte {
	names := make([][]byte, len(files))
	for i, short := range shortNames(files) {
		names[i] = []byte(short[0] + "." + short[1] + ";1")
	}
	return names
}

func jolietNames(files []Large) [][]byte {
	names := make([][]byte, len(files))
	for i, f := range files {
		names[i] = ucs2(f.Name + ";1")
	}
	return names
}

func ucs2(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.BigEndian.AppendUint16(b, u)
	}
	return b
}

func sectors(bytes int64) uint32 { return uint32((bytes + sector - 1) / sector) }

// volume is an image in the making.
type volume struct {
	label         string
	size          uint32 // in sectors
	plain, joliet folder
}

// describe writes the volume descriptors (ECMA-119, section 8) and path tables.
func (v volume) describe(image []byte) {
	v.descriptor(image[primaryAt*sector:], v.plain, pathTableAt, false)
	v.descriptor(image[jolietAt*sector:], v.joliet, pathTableAt+2, true)
	copy(image[endAt*sector:], "\xffCD001\x01")
	for i, f := range []folder{v.plain, v.joliet} {
		little, big := image[(pathTableAt+2*i)*sector:], image[(pathTableAt+2*i+1)*sector:]
		little[0], big[0] = 1, 1 // length of the root's name
		binary.LittleEndian.PutUint32(little[2:], f.at)
		binary.BigEndian.PutUint32(big[2:], f.at)
		binary.LittleEndian.PutUint16(little[6:], 1)
		binary.BigEndian.PutUint16(big[6:], 1)
	}
}

func (v volume) descriptor(d []byte, root folder, tables uint32, joliet bool) {
	field := func(from, to int, s string) {
		text, blank := []byte(s), []byte(" ")
		if joliet {
			text, blank = ucs2(s), []byte("\x00 ")
		}
		n := copy(d[from:to], text)
		for i := from + n; i < to; i++ {
			d[i] = blank[(i-from)%len(blank)]
		}
	}
	d[0] = 1
	if joliet {
		d[0] = 2
		copy(d[88:], "%/E") // UCS-2 level 3
	}
	copy(d[1:], "CD001\x01")
	field(8, 40, "")
	field(40, 72, v.label)
	both32(d[80:], v.size)
	both16(d[120:], 1)
	both16(d[124:], 1)
	both16(d[128:], sector)
	both32(d[132:], 10) // bytes of a path table
	binary.LittleEndian.PutUint32(d[140:], tables)
	binary.BigEndian.PutUint32(d[148:], tables+1)
	copy(d[156:190], root.record([]byte{0}, root.at, root.sectors()*sector, true, nil))
	for _, f := range [][2]int{{190, 318}, {318, 446}, {446, 574}, {574, 702}, {702, 739}, {739, 776}, {776, 813}} {
		field(f[0], f[1], "")
	}
	copy(d[813:], "1980010100000000\x00"+"1980010100000000\x00"+"0000000000000000\x00"+"0000000000000000\x00")
	d[881] = 1
}

func both16(b []byte, v uint16) {
	binary.LittleEndian.PutUint16(b, v)
	binary.BigEndian.PutUint16(b[2:], v)
}

func both32(b []byte, v uint32) {
	binary.LittleEndian.PutUint32(b, v)
	binary.BigEndian.PutUint32(b[4:], v)
}

// folder is the top folder as one kind of reader sees it.
type folder struct {
	at        uint32
	names     [][]byte
	files     []Large
	rockRidge bool
}

// order lists the files as the standard wants them, by name.
func (f folder) order() []int {
	order := make([]int, len(f.names))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return bytes.Compare(f.names[a], f.names[b]) })
	return order
}

func (f folder) sectors() uint32 {
	return sectors(int64(len(f.bytes(make([]uint32, len(f.files)), 1))))
}

func (f folder) write(image []byte, starts []uint32) {
	copy(image[int(f.at)*sector:], f.bytes(starts, f.sectors()))
}

// bytes lists the folder: itself, its parent (again itself) and the files. No
// record crosses the end of a sector (ECMA-119, section 6.8.1.1).
func (f folder) bytes(starts []uint32, own uint32) []byte {
	var b []byte
	put := func(record []byte) {
		if room := sector - len(b)%sector; len(record) > room {
			b = append(b, make([]byte, room)...)
		}
		b = append(b, record...)
	}
	var self, parent []byte
	if f.rockRidge {
		self = slices.Concat([]byte{'S', 'P', 7, 1, 0xbe, 0xef, 0}, posix(0o40500, 2),
			[]byte{'E', 'R', 18, 1, 10, 0, 0, 1}, []byte("RRIP_1991A"))
		parent = posix(0o40500, 2)
	}
	put(f.record([]byte{0}, f.at, own*sector, true, self))
	put(f.record([]byte{1}, f.at, own*sector, true, parent))
	for _, i := range f.order() {
		file := f.files[i]
		var use []byte
		if f.rockRidge {
			use = slices.Concat([]byte{'N', 'M', byte(5 + len(file.Name)), 1, 0}, []byte(file.Name), posix(0o100400, 1))
		}
		at, left := starts[i], file.Size
		for ; left > mostExtent; left -= mostExtent {
			part := f.record(f.names[i], at, mostExtent, false, use)
			part[25] |= 0x80 // another one follows
			put(part)
			at += mostExtent / sector
		}
		put(f.record(f.names[i], at, uint32(left), false, use))
	}
	return b
}

// mostExtent is how much of a file one record can tell of (ECMA-119, section 9.1.4), in
// whole sectors.
const mostExtent = 1<<32 - sector

// posix is the PX entry: mode and link count, owned by root.
func posix(mode, links uint32) []byte {
	b := make([]byte, 36)
	copy(b, []byte{'P', 'X', 36, 1})
	both32(b[4:], mode)
	both32(b[12:], links)
	return b
}

// record is a directory record (ECMA-119, section 9.1).
func (f folder) record(name []byte, at, size uint32, isFolder bool, use []byte) []byte {
	length := 33 + len(name)
	length += length % 2
	r := make([]byte, length+len(use)+len(use)%2)
	r[0] = byte(len(r))
	both32(r[2:], at)
	both32(r[10:], size)
	copy(r[18:], []byte{80, 1, 1, 0, 0, 0, 0}) // 1980-01-01, always
	if isFolder {
		r[25] = 2
	}
	both16(r[28:], 1)
	r[32] = byte(len(name))
	copy(r[33:], name)
	copy(r[length:], use)
	return r
}
