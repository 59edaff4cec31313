package disk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"mintbatch/internal/core/disk/volume"
)

// logicalVolumes lists those of the physical volumes among some parts (LVM2: label and
// metadata as lib/format_text has them). One that is not linear is named by the error.
func logicalVolumes(parts []Part) ([]Part, error) {
	physical := map[string]Part{} // by their UUIDs
	groups := map[string]described{}
	var failed error
	for _, p := range parts {
		id, text, err := label(p)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("partition %s: %w", p.Name, err))
			continue
		}
		if id == "" {
			continue
		}
		physical[id] = p
		config, err := parse(text)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("partition %s: %w", p.Name, err))
			continue
		}
		for name, group := range config.sections {
			if _, known := group.sections["physical_volumes"]; known {
				groups[name] = group
			}
		}
	}
	var all []Part
	for name, group := range groups {
		for volume, about := range group.sections["logical_volumes"].sections {
			p, err := linear(group, about, physical)
			if err != nil {
				failed = errors.Join(failed, fmt.Errorf("volume %s/%s: %w", name, volume, err))
				continue
			}
			p.Name = name + "/" + volume
			all = append(all, p)
		}
	}
	slices.SortFunc(all, func(a, b Part) int { return strings.Compare(a.Name, b.Name) })
	return all, failed
}

// The bound of the text that describes a group.
const mostText = 16 << 20

// label reads the UUID of a physical volume and the text that describes its group; empty if
// the part is none.
func label(p Part) (id, text string, err error) {
	head := make([]byte, 2048)
	if n, _ := p.ReadAt(head, 0); n < len(head) {
		return "", "", nil
	}
	u32, u64 := binary.LittleEndian.Uint32, binary.LittleEndian.Uint64
	at := -1
	for s := 0; s < len(head); s += 512 {
		if string(head[s:s+8]) == "LABELONE" && string(head[s+24:s+32]) == "LVM2 001" {
			at = s
			break
		}
	}
	if at < 0 {
		return "", "", nil
	}
	body := at + int(min(u32(head[at+20:]), 2048))
	if body+40 > len(head) {
		return "", "", volume.Damaged("a physical volume has no header")
	}
	id = string(head[body : body+32])
	lists := 0
	for e := body + 40; e+16 <= len(head) && lists < 2; e += 16 {
		offset := int64(u64(head[e:]))
		if offset == 0 {
			lists++
			continue
		}
		if lists == 1 { // where the text is
			area := make([]byte, 512)
			if n, err := p.ReadAt(area, offset); n < len(area) || string(area[4:20]) != " LVM2 x[5A%r0N*>" {
				return id, "", volume.Damaged("a physical volume has no description: %v", err)
			}
			size, from, length := int64(u64(area[32:])), int64(u64(area[40:])), int64(u64(area[48:]))
			if length <= 0 || length > mostText || size < 512 || from < 512 || from >= size {
				return id, "", volume.Damaged("the description of a physical volume has %d bytes", length)
			}
			whole := make([]byte, length)
			first := min(length, size-from) // it goes on at the beginning of the area
			if n, err := p.ReadAt(whole[:first], offset+from); int64(n) < first {
				return id, "", volume.Damaged("the description of a physical volume cannot be read: %v", err)
			}
			if n, err := p.ReadAt(whole[first:], offset+512); first < length && int64(n) < length-first {
				return id, "", volume.Damaged("the description of a physical volume cannot be read: %v", err)
			}
			return id, strings.TrimRight(string(whole), "\x00"), nil
		}
	}
	return id, "", volume.Damaged("a physical volume has no description")
}

// described is a section of such a text.
type described struct {
	values   map[string][]string
	sections map[string]described
}

func (s described) number(key string) int64 {
	if len(s.values[key]) == 0 {
		return -1
	}
	n, err := strconv.ParseInt(s.values[key][0], 10, 64)
	if err != nil || n < 0 || n > 1<<40 {
		return -1
	}
	return n
}

// parse reads the text.
func parse(text string) (described, error) {
	words := words(text)
	var read func(depth int) (described, error)
	read = func(depth int) (described, error) {
		s := described{map[string][]string{}, map[string]described{}}
		for len(words) > 0 {
			key := words[0]
			words = words[1:]
			switch {
			case key == "}" && depth > 0:
				return s, nil
			case len(words) == 0 || depth > 8:
				return s, volume.Damaged("the description of a group ends in the middle")
			case words[0] == "{":
				words = words[1:]
				below, err := read(depth + 1)
				if err != nil {
					return s, err
				}
				s.sections[key] = below
			case words[0] == "=" && len(words) > 1 && words[1] == "[":
				end := slices.Index(words, "]")
				if end < 0 {
					return s, volume.Damaged("the description of a group ends in a list")
				}
				s.values[key] = slices.DeleteFunc(slices.Clone(words[2:end]), func(w string) bool { return w == "," })
				words = words[end+1:]
			case words[0] == "=" && len(words) > 1:
				s.values[key] = words[1:2]
				words = words[2:]
			default:
				return s, volume.Damaged("the description of a group has %q", words[0])
			}
		}
		if depth > 0 {
			return s, volume.Damaged("the description of a group ends in the middle")
		}
		return s, nil
	}
	return read(0)
}

// words divides the text. A string is a word without its quotes.
func words(text string) []string {
	var all []string
	for len(text) > 0 {
		switch c := text[0]; {
		case strings.IndexByte(" \t\r\n", c) >= 0:
			text = text[1:]
		case c == '#':
			_, text, _ = strings.Cut(text, "\n")
		case strings.IndexByte("{}[]=,", c) >= 0:
			all, text = append(all, text[:1]), text[1:]
		case c == '"':
			end := 1
			for end < len(text) && text[end] != '"' {
				if text[end] == '\\' {
					end++
				}
				end++
			}
			all, text = append(all, text[1:min(end, len(text))]), text[min(end+1, len(text)):]
		default:
			end := strings.IndexAny(text, " \t\r\n#{}[]=,\"")
			if end < 0 {
				end = len(text)
			}
			all, text = append(all, text[:end]), text[end:]
		}
	}
	return all
}

// linear is a logical volume whose segments lie on physical volumes one after the other.
func linear(group, logical described, physical map[string]Part) (Part, error) {
	extent := group.number("extent_size") * 512
	count := logical.number("segment_count")
	if extent <= 0 || count <= 0 || count > 1<<16 {
		return Part{}, volume.Damaged("it has %d segments of extents of %d bytes", count, extent)
	}
	var pieces []piece
	var size int64
	for i := range count {
		s := logical.sections[fmt.Sprintf("segment%d", i+1)]
		if kind := s.values["type"]; len(kind) != 1 || kind[0] != "striped" || s.number("stripe_count") != 1 || len(s.values["stripes"]) != 2 {
			return Part{}, fmt.Errorf("it is not linear (%s), and cannot be read", strings.Join(kind, " "))
		}
		extents, first := s.number("extent_count"), int64(-1)
		if n, err := strconv.ParseInt(s.values["stripes"][1], 10, 64); err == nil {
			first = n
		}
		on := group.sections["physical_volumes"].sections[s.values["stripes"][0]]
		start := on.number("pe_start")
		if extents <= 0 || extents > 1<<32 || first < 0 || first > 1<<32 || start < 0 || len(on.values["id"]) != 1 || s.number("start_extent")*extent != size {
			return Part{}, volume.Damaged("segment %d is impossible", i+1)
		}
		below, there := physical[strings.ReplaceAll(on.values["id"][0], "-", "")]
		if !there {
			return Part{}, errors.New("a part of it is on another disk")
		}
		pieces = append(pieces, piece{size, extents * extent, below, start*512 + first*extent})
		size += extents * extent
	}
	return Part{Size: size, ReaderAt: joined(pieces)}, nil
}

// piece is a part of a logical volume.
type piece struct {
	from, size int64
	on         io.ReaderAt
	at         int64
}

// joined are pieces, one after the other.
type joined []piece

// ReadAt implements io.ReaderAt.
func (j joined) ReadAt(p []byte, at int64) (int, error) {
	for n := 0; n < len(p); {
		here := at + int64(n)
		i := slices.IndexFunc(j, func(one piece) bool { return here >= one.from && here < one.from+one.size })
		if i < 0 {
			return n, io.EOF
		}
		part := p[n:min(int64(len(p)), int64(n)+j[i].from+j[i].size-here)]
		read, err := j[i].on.ReadAt(part, j[i].at+here-j[i].from)
		n += read
		if read < len(part) {
			return n, err
		}
	}
	return len(p), nil
}
