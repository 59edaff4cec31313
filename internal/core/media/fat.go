package media

import (
	"encoding/binary"
	"hash/crc32"
	"strings"
	"unicode/utf16"
)

// A FAT volume ("FAT: General Overview of On-Disk Format", version 1.03): boot
// sector, two tables, the top folder, then the clusters of the files.
const (
	fatSector  = 512
	fatEntry   = 32     // bytes of a folder's entry
	fatDate    = 0x0021 // 1980-01-01, always
	most12     = 4084   // clusters of FAT12; more make it FAT16
	most16     = 65524
	lfnLetters = 13 // of a long name in one entry
)

// fat makes the smallest FAT volume that holds the files. File names are seen
// as they are by all readers of long names.
func fat(label string, files []File) []byte {
	label = strings.ToUpper(label)
	folder := make([]byte, 0, 16*fatEntry)
	folder = append(folder, fatRecord(label, 0x08, 0, 0)...)
	perCluster := 1
	count := func() (clusters int) {
		for _, f := range files {
			clusters += roundUp(len(f.Content), perCluster*fatSector)
		}
		return max(clusters, 1)
	}
	for count() > most16 {
		perCluster *= 2
	}
	clusters := count()
	bits := 12
	if clusters > most12 {
		bits = 16
	}
	table := make([]byte, roundUp((clusters+2)*bits, 8*fatSector)*fatSector)
	end := 1<<bits - 1
	link(table, bits, 0, end&^0xff|0xf8)
	link(table, bits, 1, end)
	next, shorts := 2, shortNames(sizesOf(files))
	for i, f := range files {
		first, n := 0, roundUp(len(f.Content), perCluster*fatSector)
		if n > 0 {
			first = next
		}
		for c := range n {
			to := next + 1
			if c == n-1 {
				to = end
			}
			link(table, bits, next, to)
			next++
		}
		short := shorts[i]
		padded := (short[0] + "        ")[:8] + (short[1] + "   ")[:3]
		if strings.TrimSuffix(short[0]+"."+short[1], ".") != f.Name {
			folder = append(folder, longName(f.Name, padded)...)
		}
		folder = append(folder, fatRecord(padded, 0x20, first, len(f.Content))...)
	}
	folder = append(folder, make([]byte, roundUp(len(folder), fatSector)*fatSector-len(folder))...)
	before := 1 + 2*len(table)/fatSector + len(folder)/fatSector
	total := before + clusters*perCluster
	image := make([]byte, total*fatSector)
	boot(image, label, bits, perCluster, len(table)/fatSector, len(folder)/fatEntry, total)
	at := fatSector
	for _, part := range [][]byte{table, table, folder} {
		at += copy(image[at:], part)
	}
	for _, f := range files {
		copy(image[at:], f.Content)
		at += roundUp(len(f.Content), perCluster*fatSector) * perCluster * fatSector
	}
	// The serial number is made of the content, so that it is always the same.
	binary.LittleEndian.PutUint32(image[39:], crc32.ChecksumIEEE(image[fatSector:]))
	return image
}

func roundUp(n, unit int) int { return (n + unit - 1) / unit }

// boot writes the boot sector.
func boot(b []byte, label string, bits, perCluster, tableSectors, entries, total int) {
	copy(b, "\xeb\x3c\x90mintbtch")
	binary.LittleEndian.PutUint16(b[11:], fatSector)
	b[13] = byte(perCluster)
	binary.LittleEndian.PutUint16(b[14:], 1) // sectors before the tables
	b[16] = 2
	binary.LittleEndian.PutUint16(b[17:], uint16(entries))
	if total < 1<<16 {
		binary.LittleEndian.PutUint16(b[19:], uint16(total))
	} else {
		binary.LittleEndian.PutUint32(b[32:], uint32(total))
	}
	b[21] = 0xf8
	binary.LittleEndian.PutUint16(b[22:], uint16(tableSectors))
	binary.LittleEndian.PutUint16(b[24:], 32)
	binary.LittleEndian.PutUint16(b[26:], 2)
	b[36], b[38] = 0x80, 0x29
	copy(b[43:], (label + "           ")[:11])
	copy(b[54:], "FAT12   ")
	if bits == 16 {
		copy(b[54:], "FAT16   ")
	}
	b[510], b[511] = 0x55, 0xaa
}

// link writes an entry of a table.
func link(table []byte, bits, at, to int) {
	if bits == 16 {
		binary.LittleEndian.PutUint16(table[2*at:], uint16(to))
		return
	}
	i := at + at/2
	if at%2 == 0 {
		table[i] = byte(to)
		table[i+1] |= byte(to >> 8)
	} else {
		table[i] |= byte(to << 4)
		table[i+1] = byte(to >> 4)
	}
}

// fatRecord is the folder's entry of a file, or of the label.
func fatRecord(name string, attributes byte, first, size int) []byte {
	e := make([]byte, fatEntry)
	copy(e, (name + "           ")[:11])
	e[11] = attributes
	binary.LittleEndian.PutUint16(e[16:], fatDate)
	binary.LittleEndian.PutUint16(e[18:], fatDate)
	binary.LittleEndian.PutUint16(e[24:], fatDate)
	binary.LittleEndian.PutUint16(e[26:], uint16(first))
	binary.LittleEndian.PutUint32(e[28:], uint32(size))
	return e
}

// longName is the entries that stand before a file's own, last part first.
func longName(name, short string) []byte {
	sum := byte(0)
	for _, c := range []byte(short) {
		sum = sum>>1 | sum<<7
		sum += c
	}
	units := utf16.Encode([]rune(name))
	parts := roundUp(len(units), lfnLetters)
	var all []byte
	for n := parts; n > 0; n-- {
		e := make([]byte, fatEntry)
		e[0] = byte(n)
		if n == parts {
			e[0] |= 0x40
		}
		e[11], e[13] = 0x0f, sum
		for i := range lfnLetters {
			unit := uint16(0xffff)
			switch at := (n-1)*lfnLetters + i; {
			case at < len(units):
				unit = units[at]
			case at == len(units):
				unit = 0
			}
			at := 1 + 2*i
			if i >= 5 {
				at += 3
			}
			if i >= 11 {
				at += 2
			}
			binary.LittleEndian.PutUint16(e[at:], unit)
		}
		all = append(all, e...)
	}
	return all
}
