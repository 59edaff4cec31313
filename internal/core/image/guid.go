package image

import (
	"encoding/binary"
	"path"
	"strings"
	"unicode/utf16"

	"github.com/google/uuid"
)

// GUID reads an identity whose first three parts have the lowest byte first (MS-DTYP, 2.3.4.2).
func GUID(b []byte) (id uuid.UUID) {
	copy(id[:], b[:16])
	return swapped(id)
}

// PutGUID writes one in that order.
func PutGUID(b []byte, id uuid.UUID) {
	id = swapped(id)
	copy(b, id[:])
}

func swapped(id uuid.UUID) uuid.UUID {
	id[0], id[1], id[2], id[3] = id[3], id[2], id[1], id[0]
	id[4], id[5] = id[5], id[4]
	id[6], id[7] = id[7], id[6]
	return id
}

// UTF16 reads a text of 16-bit characters, up to the first zero.
func UTF16(b []byte, order binary.ByteOrder) string {
	var units []uint16
	for ; len(b) >= 2; b = b[2:] {
		u := order.Uint16(b)
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}

// ToUTF16 writes one.
func ToUTF16(s string, order binary.AppendByteOrder) (b []byte) {
	for _, u := range utf16.Encode([]rune(s)) {
		b = order.AppendUint16(b, u)
	}
	return b
}

// FromWindows is a name of a file with / between folders, as Parent has it: relative, or with a / in front.
func FromWindows(name string) string {
	name = strings.ReplaceAll(name, `\`, "/")
	if name == "" {
		return ""
	}
	if len(name) > 1 && name[1] == ':' {
		name = "/" + name
	}
	return path.Clean(name)
}

// ToWindows is a name that is relative, as systems with \ between folders write it.
func ToWindows(name string) string {
	name = strings.ReplaceAll(name, "/", `\`)
	if !strings.HasPrefix(name, ".") {
		name = `.\` + name
	}
	return name
}
