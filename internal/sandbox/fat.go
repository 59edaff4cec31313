package sandbox

import (
	"encoding/binary"
	"errors"
	"strings"
	"unicode/utf16"
)

// isFAT recognizes a FAT volume by the end and the beginning of its first sector.
func isFAT(image []byte) bool {
	return len(image) > 512 && image[510] == 0x55 && image[511] == 0xaa && image[0] == 0xeb
}

// readFAT reads the label and the top folder of a FAT12 or FAT16 volume. What
// is out of bounds panics, which its caller takes for a broken volume.
func readFAT(b []byte) (label string, files map[string][]byte, err error) {
	le := binary.LittleEndian
	size, perCluster, reserved := int(le.Uint16(b[11:])), int(b[13]), int(le.Uint16(b[14:]))
	tables, entries, tableSize := int(b[16]), int(le.Uint16(b[17:])), int(le.Uint16(b[22:]))
	total := max(int(le.Uint16(b[19:])), int(le.Uint32(b[32:])))
	if size != 512 || perCluster == 0 || total*size > len(b) {
		return "", nil, errors.New("the volume's first sector is invalid")
	}
	table := b[reserved*size:]
	folder := (reserved + tables*tableSize) * size
	data := folder + entries*32
	wide := (total*size-data)/size/perCluster > 4084
	next := func(cluster int) int {
		if wide {
			return int(le.Uint16(table[2*cluster:])) | 0xf0000*b2i(le.Uint16(table[2*cluster:]) >= 0xfff8)
		}
		v := int(le.Uint16(table[cluster+cluster/2:]))
		if cluster%2 == 1 {
			v >>= 4
		}
		return v&0xfff | 0xf0000*b2i(v&0xfff >= 0xff8)
	}
	files = map[string][]byte{}
	long := ""
	for at := folder; at < data && b[at] != 0; at += 32 {
		e := b[at : at+32]
		switch {
		case e[11] == 0x0f:
			var units []uint16
			for _, part := range [][2]int{{1, 11}, {14, 26}, {28, 32}} {
				for i := part[0]; i < part[1]; i += 2 {
					if u := le.Uint16(e[i:]); u != 0 && u != 0xffff {
						units = append(units, u)
					}
				}
			}
			long = string(utf16.Decode(units)) + long
			continue
		case e[11]&0x08 != 0:
			label = strings.TrimSpace(string(e[:11]))
		default:
			name := strings.TrimSuffix(strings.TrimSpace(string(e[:8]))+"."+strings.TrimSpace(string(e[8:11])), ".")
			if long != "" {
				name = long
			}
			var content []byte
			length := int(le.Uint32(e[28:]))
			for c := int(le.Uint16(e[26:])); len(content) < length && c < 0xf0000; c = next(c) {
				start := data + (c-2)*perCluster*size
				content = append(content, b[start:start+perCluster*size]...)
			}
			files[strings.ToLower(name)] = content[:length]
		}
		long = ""
	}
	return label, files, nil
}

func b2i(is bool) int {
	if is {
		return 1
	}
	return 0
}
