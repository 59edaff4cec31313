package vhdx

import (
	"io"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
)

// replayed is a file as it is once its log is written back; the file itself stays as it is.
type replayed struct {
	image.File
	size  int64
	pages map[int64][]byte // by their number; nil are zeros
}

const page = 4 * kib

// Size implements image.File.
func (r *replayed) Size() int64 { return r.size }

// ReadAt implements io.ReaderAt.
func (r *replayed) ReadAt(into []byte, at int64) (int, error) {
	for done := 0; done < len(into); {
		here := at + int64(done)
		if here >= r.size {
			return done, io.EOF
		}
		n := min(int64(len(into)-done), page-here%page, r.size-here)
		part := into[done : int64(done)+n]
		if content, is := r.pages[here/page]; is {
			clear(part)
			if content != nil {
				copy(part, content[here%page:])
			}
		} else {
			clear(part)
			if got, err := r.File.ReadAt(part, here); int64(got) < n && err != io.EOF { // behind its end it was made longer
				return done, err
			}
		}
		done += int(n)
	}
	return len(into), nil
}

// The bounds of a log that is read: its length, and by how much it makes the file longer.
const (
	mostLog    = 1 << 30
	mostGrowth = 4 << 30
)

// entry is a part of the log ([MS-VHDX], 2.3.1).
type entry struct {
	content  []byte
	at       int64
	sequence uint64
	tail     int64
	flushed  int64
	last     int64
}

// replay finds the part of the log that counts, and does what it says.
func replay(file image.File, h *header) (image.File, error) {
	if h.log == uuid.Nil {
		return file, nil
	}
	switch {
	case h.logLength == 0 || h.logLength%mib != 0 || h.logLength > mostLog || h.logAt < mib || h.logAt%mib != 0 || h.logAt > file.Size()-h.logLength:
		return nil, image.Bad("a log of %d bytes at %d", h.logLength, h.logAt)
	}
	log := make([]byte, h.logLength)
	if err := image.ReadFull(file, h.logAt, log); err != nil {
		return nil, err
	}
	active := newestSequence(log, h.log)
	if active == nil {
		return nil, image.Bad("it has a log, of which no part is whole; open it once with what wrote it")
	}
	newest := active[len(active)-1]
	if file.Size() < newest.flushed {
		return nil, image.Bad("it is shorter (%d bytes) than it was when its log was written (%d)", file.Size(), newest.flushed)
	}
	if newest.last > file.Size()+mostGrowth {
		return nil, image.Bad("its log makes it %d bytes longer", newest.last-file.Size())
	}
	r := &replayed{File: file, size: max(file.Size(), newest.last), pages: map[int64][]byte{}}
	for _, e := range active {
		if err := r.apply(e); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// newestSequence is the sequence of entries that ends with the largest number ([MS-VHDX], 2.3.2).
func newestSequence(log []byte, id uuid.UUID) (best []*entry) {
	for tail := int64(0); tail < int64(len(log)); tail += page {
		var all []*entry
		for at := tail; ; {
			e := entryAt(log, at, id)
			if e == nil || len(all) > 0 && e.sequence != all[len(all)-1].sequence+1 {
				break
			}
			all = append(all, e)
			at = (at + int64(len(e.content))) % int64(len(log))
			if at == tail {
				break
			}
		}
		// it counts if its newest entry says that it begins here
		if len(all) > 0 && all[len(all)-1].tail == tail && (best == nil || all[len(all)-1].sequence > best[len(best)-1].sequence) {
			best = all
		}
	}
	return best
}

// entryAt reads the entry at a place of the log, which goes on at its beginning; nil if there is none that is whole.
func entryAt(log []byte, at int64, id uuid.UUID) *entry {
	h := log[at:]
	if len(h) < 64 || string(h[:4]) != "loge" || image.GUID(h[32:]) != id {
		return nil
	}
	length := int64(le.Uint32(h[8:]))
	if length < page || length%page != 0 || length > int64(len(log)) {
		return nil
	}
	content := make([]byte, 0, length)
	content = append(content, log[at:min(at+length, int64(len(log)))]...)
	content = append(content, log[:length-int64(len(content))]...)
	e := &entry{content, at, le.Uint64(h[16:]), int64(le.Uint32(h[12:])), int64(le.Uint64(h[48:])), int64(le.Uint64(h[56:]))}
	if sum(content) != le.Uint32(h[4:]) || e.sequence == 0 || e.tail%page != 0 || e.tail >= int64(len(log)) {
		return nil
	}
	return e
}

// apply does what the descriptors of an entry say ([MS-VHDX], 2.3.1.2 and 2.3.1.3).
func (r *replayed) apply(e *entry) error {
	count := int64(le.Uint32(e.content[24:]))
	data := (64 + 32*count + page - 1) / page * page // where the sectors of data begin
	if data > int64(len(e.content)) {
		return image.Bad("an entry of the log has %d descriptors", count)
	}
	for k := range count {
		d := e.content[64+32*k:]
		at := int64(le.Uint64(d[16:]))
		if le.Uint64(d[24:]) != e.sequence || at < 0 || at%page != 0 {
			return image.Bad("a descriptor of the log is damaged")
		}
		switch string(d[:4]) {
		case "zero":
			length := int64(le.Uint64(d[8:]))
			if length < 0 || length%page != 0 || at > r.size-length {
				return image.Bad("the log zeros %d bytes at %d", length, at)
			}
			for n := at / page; n < (at+length)/page && n*page < r.File.Size(); n++ { // behind the end there are zeros anyway
				r.pages[n] = nil
			}
		case "desc":
			if data+page > int64(len(e.content)) || at > r.size {
				return image.Bad("an entry of the log lacks a sector of data, or one is for %d", at)
			}
			s := e.content[data:]
			if string(s[:4]) != "data" || uint64(le.Uint32(s[4:]))<<32|uint64(le.Uint32(s[page-4:])) != e.sequence {
				return image.Bad("a sector of data in the log is damaged")
			}
			content := make([]byte, 0, page)
			content = append(content, d[8:16]...)
			content = append(content, s[8:page-4]...)
			content = append(content, d[4:8]...)
			r.pages[at/page] = content
			data += page
		default:
			return image.Bad("a descriptor of the log is of no known kind")
		}
	}
	return nil
}
