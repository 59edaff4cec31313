// Package vhdx reads and writes disk images in the Virtual Hard Disk v2 format ([MS-VHDX]).
package vhdx

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
)

// Name is that of the format.
const Name = "vhdx"

// Largest is the largest disk that the format has, in bytes.
const Largest = 64 << 40

const (
	kib = 1 << 10
	mib = 1 << 20

	headerLen = 4 * kib
	regionLen = 64 * kib
)

// Where what a file begins with is ([MS-VHDX], 2.2).
var (
	headersAt = []int64{64 * kib, 128 * kib}
	regionsAt = []int64{192 * kib, 256 * kib}
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// sum is the CRC-32C of all, its own bytes taken as zeros.
func sum(b []byte) uint32 {
	s := crc32.Update(0, castagnoli, b[:4])
	s = crc32.Update(s, castagnoli, make([]byte, 4))
	return crc32.Update(s, castagnoli, b[8:])
}

// The regions and the items of metadata ([MS-VHDX], 2.2.3 and 2.6.2).
var (
	batRegion      = uuid.MustParse("2DC27766-F623-4200-9D64-115E9BFD4A08")
	metadataRegion = uuid.MustParse("8B7CA206-4790-4B9A-B8FE-575F050F886E")

	fileParameters = uuid.MustParse("CAA16737-FA36-4D43-B3B6-33F0AA44E76B")
	diskSize       = uuid.MustParse("2FA54224-CD1B-4876-B211-5DBED83BF4B8")
	diskID         = uuid.MustParse("BECA12AB-B2E6-4523-93EF-C309E000C746")
	logicalSector  = uuid.MustParse("8141BF1D-A96F-4709-BA47-F233A8FAAB5F")
	physicalSector = uuid.MustParse("CDA348C7-445D-4471-9CC9-E9885251C556")
	parentLocator  = uuid.MustParse("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C")

	locatorType = uuid.MustParse("B04AEFB7-D19E-4A81-B789-25B8E9445913")
)

// Is reports whether a file begins like an image of this format.
func Is(head []byte) bool { return bytes.HasPrefix(head, []byte("vhdxfile")) }

var le = binary.LittleEndian

// header is what of a header counts ([MS-VHDX], 2.2.2).
type header struct {
	sequence  uint64
	dataWrite uuid.UUID
	log       uuid.UUID
	logLength int64
	logAt     int64
}

// newest is the header that counts: of those that are whole, that with the larger number.
func newest(file image.File) (*header, []string, error) {
	var found *header
	var remarks []string
	for n, at := range headersAt {
		b := make([]byte, headerLen)
		if err := image.ReadFull(file, at, b); err != nil {
			return nil, nil, err
		}
		if string(b[:4]) != "head" || sum(b) != le.Uint32(b[4:]) {
			remarks = append(remarks, fmt.Sprintf("header %d is damaged; the other was taken", n+1))
			continue
		}
		if v := le.Uint16(b[66:]); v != 1 {
			return nil, nil, image.Bad("version %d", v)
		}
		h := &header{sequence: le.Uint64(b[8:]), dataWrite: image.GUID(b[32:]), log: image.GUID(b[48:]), logLength: int64(le.Uint32(b[68:])), logAt: int64(le.Uint64(b[72:]))}
		if v := le.Uint16(b[64:]); v != 0 && h.log != uuid.Nil {
			return nil, nil, image.Bad("a log of version %d", v)
		}
		if found == nil || h.sequence > found.sequence {
			found = h
		}
	}
	if found == nil {
		return nil, nil, image.Bad("both of its headers are damaged")
	}
	return found, remarks, nil
}

// region is a part of the file.
type region struct{ at, length int64 }

// regions reads the table of regions ([MS-VHDX], 2.2.3).
func regions(file image.File) (map[uuid.UUID]region, []string, error) {
	var remarks []string
	for n, at := range regionsAt {
		b := make([]byte, regionLen)
		if err := image.ReadFull(file, at, b); err != nil {
			return nil, nil, err
		}
		if string(b[:4]) != "regi" || sum(b) != le.Uint32(b[4:]) {
			remarks = append(remarks, fmt.Sprintf("region table %d is damaged; the other was taken", n+1))
			continue
		}
		count := int(le.Uint32(b[8:]))
		if count > 2047 {
			return nil, nil, image.Bad("a table of %d regions", count)
		}
		found := map[uuid.UUID]region{}
		places := []image.Place{{Length: mib, What: "the headers"}}
		for k := range count {
			e := b[16+32*k:]
			id, r := image.GUID(e), region{int64(le.Uint64(e[16:])), int64(le.Uint32(e[24:]))}
			if r.at < mib || r.at%mib != 0 || r.length == 0 || r.length%mib != 0 {
				return nil, nil, image.Bad("a region of %d bytes at %d", r.length, r.at)
			}
			if id != batRegion && id != metadataRegion {
				if le.Uint32(e[28:])&1 != 0 {
					return nil, nil, image.Bad("it needs the region %s, which is not known", id)
				}
				continue
			}
			if _, twice := found[id]; twice {
				return nil, nil, image.Bad("region %s is there twice", id)
			}
			found[id] = r
			places = append(places, image.Place{At: r.at, Length: r.length, What: "region " + id.String()})
		}
		if d := image.Overlaps(places, file.Size()); len(d) > 0 {
			return nil, nil, image.Bad("%s", d[0].What)
		}
		if len(found) < 2 {
			return nil, nil, image.Bad("it lacks a region that every image has")
		}
		return found, remarks, nil
	}
	return nil, nil, image.Bad("both of its region tables are damaged")
}

// metadata is what an image says of its disk.
type metadata struct {
	block, size, sector int64
	child, fixed        bool
	id                  uuid.UUID
	locator             map[string]string
}

// readMetadata reads the region of metadata ([MS-VHDX], 2.6).
func readMetadata(file image.File, r region) (*metadata, error) {
	table := make([]byte, 64*kib)
	if r.length < int64(len(table)) {
		return nil, image.Bad("a metadata region of %d bytes", r.length)
	}
	if err := image.ReadFull(file, r.at, table); err != nil {
		return nil, err
	}
	count := int(le.Uint16(table[10:]))
	if string(table[:8]) != "metadata" || count > 2047 {
		return nil, image.Bad("its table of metadata at %d is damaged", r.at)
	}
	m := &metadata{}
	seen := map[uuid.UUID]bool{}
	for k := range count {
		e := table[32+32*k:]
		id, at, length, flags := image.GUID(e), int64(le.Uint32(e[16:])), int64(le.Uint32(e[20:])), le.Uint32(e[24:])
		if length > mib || at < 64*kib && length > 0 || at+length > r.length {
			return nil, image.Bad("an item of metadata of %d bytes at %d of its region", length, at)
		}
		item := make([]byte, length)
		if err := image.ReadFull(file, r.at+at, item); err != nil {
			return nil, err
		}
		if flags&1 != 0 { // a user's own
			continue
		}
		if seen[id] {
			return nil, image.Bad("item %s of the metadata is there twice", id)
		}
		seen[id] = true
		if want, known := map[uuid.UUID]int{fileParameters: 8, diskSize: 8, diskID: 16, logicalSector: 4, physicalSector: 4, parentLocator: 20}[id]; !known && flags&4 != 0 {
			return nil, image.Bad("it needs the item %s of metadata, which is not known", id)
		} else if len(item) < want {
			return nil, image.Bad("item %s of the metadata has %d bytes", id, len(item))
		}
		switch id {
		case fileParameters:
			flags := le.Uint32(item[4:])
			m.block, m.fixed, m.child = int64(le.Uint32(item)), flags&1 != 0, flags&2 != 0
		case diskSize:
			m.size = int64(le.Uint64(item))
		case diskID:
			m.id = image.GUID(item)
		case logicalSector:
			m.sector = int64(le.Uint32(item))
		case parentLocator:
			locator, err := readLocator(item)
			if err != nil {
				return nil, err
			}
			m.locator = locator
		}
	}
	switch {
	case m.block < mib || m.block > 256*mib || m.block&(m.block-1) != 0:
		return nil, image.Bad("blocks of %d bytes", m.block)
	case m.sector != 512 && m.sector != 4096:
		return nil, image.Bad("sectors of %d bytes", m.sector)
	case m.size <= 0 || m.size > Largest || m.size%m.sector != 0:
		return nil, image.Bad("a disk of %d bytes in sectors of %d", m.size, m.sector)
	case m.child && m.locator == nil:
		return nil, image.Bad("it is a child, and does not say of what")
	}
	return m, nil
}

// readLocator reads what a child knows of its parent ([MS-VHDX], 2.6.2.6).
func readLocator(b []byte) (map[string]string, error) {
	if image.GUID(b) != locatorType {
		return nil, image.Bad("its parent is told in the way %s, which is not known", image.GUID(b))
	}
	found := map[string]string{}
	for k := range int(le.Uint16(b[18:])) {
		if len(b) < 32+12*k {
			return nil, image.Bad("what it says of its parent is cut short")
		}
		e := b[20+12*k:]
		text := func(at, length int) (string, bool) {
			if at > len(b)-length {
				return "", false
			}
			return image.UTF16(b[at:at+length], le), true
		}
		key, ok := text(int(le.Uint32(e)), int(le.Uint16(e[8:])))
		value, ok2 := text(int(le.Uint32(e[4:])), int(le.Uint16(e[10:])))
		if !ok || !ok2 {
			return nil, image.Bad("what it says of its parent is cut short")
		}
		found[key] = value
	}
	return found, nil
}
