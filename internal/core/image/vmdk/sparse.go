package vmdk

import (
	"bytes"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zlib"

	"mintbatch/internal/core/image"
)

// The flags of a sparse extent (Virtual Disk Format 5.0, "Hosted Sparse Extents").
const (
	lineEnds   = 1 << 0
	redundant  = 1 << 1
	zeroGrains = 1 << 2
	compressed = 1 << 16
	markers    = 1 << 17
)

const (
	atEnd     = -1 // the directory is found by the footer
	perTable  = 512
	mostGrain = 1 << 21 // bytes
	zeroGrain = 1       // the entry of a grain that is zeros
	nowhere   = -1      // where what an entry tells of cannot be
)

// The kinds of markers of a stream.
const (
	endOfStream = iota
	tableMarker
	directoryMarker
	footerMarker
)

// extent is a sparse file with a disk or a part of one.
type extent struct {
	file      image.File
	size      int64
	grain     int64
	per       int64 // entries of a table
	entry     int64 // bytes of one
	flags     uint32
	directory []byte
	overhead  int64
	child     bool
	stream    bool

	tablesAt, grainsAt int64 // where what entries of 8 bytes number begins

	descriptorAt, descriptorLen int64
	directoryAt                 int64
	version                     uint32

	mu    sync.Mutex
	table []byte
	of    int64
}

// sparseHeader reads a header, or the footer.
func (x *extent) header(at int64) error {
	h := make([]byte, sector)
	if err := image.ReadFull(x.file, at, h); err != nil {
		return err
	}
	x.version, x.flags = le.Uint32(h[4:]), le.Uint32(h[8:])
	capacity, grain, per := int64(le.Uint64(h[12:])), int64(le.Uint64(h[20:])), le.Uint32(h[44:])
	x.descriptorAt, x.descriptorLen = int64(le.Uint64(h[28:])), int64(le.Uint64(h[36:]))
	x.directoryAt, x.overhead = int64(le.Uint64(h[56:])), int64(le.Uint64(h[64:]))
	switch {
	case !bytes.HasPrefix(h, []byte("KDMV")):
		return image.Bad("no header is at %d", at)
	case x.version < 1 || x.version > 3:
		return image.Bad("version %d", x.version)
	case x.flags&lineEnds != 0 && !bytes.Equal(h[73:77], []byte("\n \r\n")):
		return image.Bad("its line ends were changed: it was sent as a text")
	case capacity <= 0 || capacity > largest/sector:
		return image.Bad("a disk of %d sectors", capacity)
	case grain < 8 || grain > mostGrain/sector || grain&(grain-1) != 0:
		return image.Bad("grains of %d sectors", grain)
	case per != perTable:
		return image.Bad("tables of %d entries", per)
	case x.flags&compressed != 0 && le.Uint16(h[77:]) != 1:
		return image.Bad("it is compressed by method %d", le.Uint16(h[77:]))
	case x.descriptorAt < 0 || x.descriptorLen < 0 || x.descriptorLen > mostDescriptor/sector || x.descriptorAt > x.file.Size()/sector:
		return image.Bad("a descriptor of %d sectors at sector %d", x.descriptorLen, x.descriptorAt)
	}
	x.size, x.grain = capacity*sector, grain*sector
	return nil
}

// cowd reads the header of a delta of the older kind, as ESX writes them: numbers of 32 bits, and larger tables.
func (x *extent) cowd() error {
	h := make([]byte, sector)
	if err := image.ReadFull(x.file, 0, h); err != nil {
		return err
	}
	capacity, grain, entries := int64(le.Uint32(h[12:])), int64(le.Uint32(h[16:])), int64(le.Uint32(h[24:]))
	x.version, x.directoryAt, x.per = le.Uint32(h[4:]), int64(le.Uint32(h[20:])), 4096
	switch {
	case x.version != 1:
		return image.Bad("version %d", x.version)
	case capacity <= 0 || grain < 1 || grain > mostGrain/sector || grain&(grain-1) != 0:
		return image.Bad("a disk of %d sectors in grains of %d", capacity, grain)
	case entries < (capacity+grain*x.per-1)/(grain*x.per):
		return image.Bad("a directory of %d entries for a disk of %d sectors", entries, capacity)
	}
	x.size, x.grain = capacity*sector, grain*sector
	return nil
}

// openExtent opens a sparse file.
func openExtent(file image.File, child bool) (*extent, error) {
	x := &extent{file: file, of: -1, child: child, per: perTable, entry: 4}
	magic := make([]byte, 8)
	_, _ = file.ReadAt(magic, 0) // one that is shorter is none of these
	read := func() error { return x.header(0) }
	switch {
	case bytes.HasPrefix(magic, []byte("COWD")):
		read = x.cowd
	case isWide(magic):
		read = x.wide
	}
	if err := read(); err != nil {
		return nil, err
	}
	size, grain, text, textLen := x.size, x.grain, x.descriptorAt, x.descriptorLen
	if x.directoryAt == atEnd {
		if err := x.footer(); err != nil {
			return nil, err
		}
		if x.size != size || x.grain != grain {
			return nil, image.Bad("its footer tells of another disk than its header")
		}
		x.descriptorAt, x.descriptorLen = text, textLen
	}
	x.stream = x.flags&compressed != 0
	return x, x.readDirectory()
}

func (x *extent) readDirectory() error {
	each := x.grain * x.per
	entries := (x.size + each - 1) / each
	if x.directoryAt <= 0 || x.directoryAt > (x.file.Size()-entries*x.entry)/sector {
		return image.Bad("a directory of %d entries at sector %d, in a file of %d bytes", entries, x.directoryAt, x.file.Size())
	}
	x.directory = make([]byte, entries*x.entry)
	return image.ReadFull(x.file, x.directoryAt*sector, x.directory)
}

// footer finds the footer of a stream: before the marker of its end.
func (x *extent) footer() error {
	at := x.file.Size() - 3*sector
	m := make([]byte, sector)
	if at < 0 || image.ReadFull(x.file, at, m) != nil || le.Uint64(m) != 1 || le.Uint32(m[8:]) != 0 || le.Uint32(m[12:]) != footerMarker {
		return image.Bad("it has no footer: it is cut short")
	}
	if err := x.header(at + sector); err != nil {
		return err
	}
	if x.directoryAt == atEnd {
		return image.Bad("its footer does not say where its directory is")
	}
	return nil
}

// openSparse opens a file with all of a disk in it.
func openSparse(file image.File) (*image.Image, error) {
	x, err := openExtent(file, false)
	if err != nil {
		return nil, err
	}
	if x.descriptorLen == 0 {
		return nil, image.Bad("it is a part of a disk; name the file with its descriptor")
	}
	text := make([]byte, x.descriptorLen*sector)
	if err := image.ReadFull(file, x.descriptorAt*sector, text); err != nil {
		return nil, err
	}
	d, err := parseDescriptor(text)
	if err != nil {
		return nil, err
	}
	if len(d.extents) != 1 || d.extents[0].sectors*sector > x.size {
		return nil, image.Bad("its descriptor tells of another disk than its header")
	}
	i := d.image()
	i.Layer, i.Block, i.Check, i.Variant, i.Parent = x, x.grain, x.check, image.Dynamic, d.parentOf()
	if x.size = d.extents[0].sectors * sector; x.size == 0 {
		return nil, image.Bad("a disk of no bytes")
	}
	if x.stream {
		i.Variant = image.Stream
	}
	if i.Parent != nil {
		i.Variant, x.child = image.Child, true
	}
	return i, nil
}

// Length implements image.Layer.
func (x *extent) Length() int64 { return x.size }

// tableAt is where a table is; 0 if there is none, nowhere if it cannot be there.
func (x *extent) tableAt(n int64) int64 {
	if x.entry == 4 {
		return int64(le.Uint32(x.directory[n*4:])) * sector
	}
	entry := le.Uint64(x.directory[n*8:])
	switch {
	case entry == 0:
		return 0
	case entry&^0xffffffff != tableIsThere:
		return nowhere
	}
	return x.tablesAt + int64(entry&0xffffffff)*wideTable*sector
}

// tableOf reads a table; nil if there is none.
func (x *extent) tableOf(n int64) ([]byte, error) {
	at := x.tableAt(n)
	switch at {
	case 0:
		return nil, nil
	case nowhere:
		return nil, image.Bad("table %d is said to be where none can be", n)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.of != n {
		table := make([]byte, x.per*x.entry)
		if err := image.ReadFull(x.file, at, table); err != nil {
			return nil, err
		}
		x.table, x.of = table, n
	}
	return x.table, nil
}

// place is what a table says of a grain, and where its content is.
func (x *extent) place(table []byte, grain int64) (image.State, int64) {
	if x.entry == 8 {
		if table == nil {
			return x.widePlace(0)
		}
		return x.widePlace(le.Uint64(table[grain%x.per*8:]))
	}
	entry := uint32(0)
	if table != nil {
		entry = le.Uint32(table[grain%x.per*4:])
	}
	switch {
	case entry == 0 && x.child:
		return image.Below, 0
	case entry == 0 || entry == zeroGrain && x.flags&zeroGrains != 0:
		return image.Zero, 0
	}
	return image.Data, int64(entry) * sector
}

// Run implements image.Layer.
func (x *extent) Run(at int64) (image.Run, error) {
	if at < 0 || at >= x.size {
		return image.Run{}, image.Bad("nothing is at %d of a disk of %d bytes", at, x.size)
	}
	grain := at / x.grain
	n := grain / x.per
	table, err := x.tableOf(n)
	if err != nil {
		return image.Run{}, err
	}
	run, next := image.Run{}, (n+1)*x.per
	run.State, _ = x.place(table, grain)
	if table != nil {
		for next = grain + 1; next < (n+1)*x.per; next++ {
			if state, _ := x.place(table, next); state != run.State {
				break
			}
		}
	}
	run.Length = min(next*x.grain, x.size) - at
	return run, nil
}

// ReadAt implements io.ReaderAt.
func (x *extent) ReadAt(into []byte, at int64) (int, error) {
	for done := int64(0); done < int64(len(into)); {
		here := at + done
		if here < 0 || here >= x.size {
			return int(done), io.EOF
		}
		grain, skip := here/x.grain, here%x.grain
		table, err := x.tableOf(grain / x.per)
		if err != nil {
			return int(done), err
		}
		n := min(int64(len(into))-done, x.grain-skip, x.size-here)
		state, place := x.place(table, grain)
		switch {
		case state != image.Data:
			clear(into[done : done+n])
		case place == nowhere:
			return int(done), image.Bad("grain %d is said to be where none can be", grain)
		case x.stream:
			content, err := x.unpack(grain, place)
			if err != nil {
				return int(done), err
			}
			copy(into[done:done+n], content[skip:])
		default:
			for next := grain + 1; n < int64(len(into))-done && here+n < x.size && next%x.per != 0; next++ { // what lies side by side is read at once
				if state, at := x.place(table, next); state != image.Data || at != place+(next-grain)*x.grain {
					break
				}
				n = min(n+x.grain, int64(len(into))-done, x.size-here)
			}
			if err := image.ReadFull(x.file, place+skip, into[done:done+n]); err != nil {
				return int(done), err
			}
		}
		done += n
	}
	return len(into), nil
}

// unpack reads a compressed grain.
func (x *extent) unpack(grain, at int64) ([]byte, error) {
	head, most := make([]byte, 12), 2*x.grain+sector
	if err := image.ReadFull(x.file, at, head); err != nil {
		return nil, err
	}
	length := int64(le.Uint32(head[8:]))
	if x.flags&markers != 0 && int64(le.Uint64(head))*sector != grain*x.grain || length <= 0 || length > most {
		return nil, image.Bad("no grain %d is at %d", grain, at)
	}
	packed := make([]byte, length)
	if err := image.ReadFull(x.file, at+12, packed); err != nil {
		return nil, err
	}
	z, err := zlib.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, image.Bad("grain %d at %d: %s", grain, at, err)
	}
	content := make([]byte, x.grain)
	n, err := io.ReadFull(z, content)
	if want := min(x.grain, x.size-grain*x.grain); int64(n) < want {
		return nil, image.Bad("grain %d at %d: it has %d bytes: %v", grain, at, n, err)
	}
	return content, nil
}

// check looks whether grains share a place or lie behind the end, and unpacks those that are compressed.
func (x *extent) check() ([]image.Damage, error) {
	places := []image.Place{{Length: sector, What: "the header"}, {At: x.directoryAt * sector, Length: int64(len(x.directory)), What: "the directory"}}
	if x.descriptorLen > 0 {
		places = append(places, image.Place{At: x.descriptorAt * sector, Length: x.descriptorLen * sector, What: "the descriptor"})
	}
	var found []image.Damage
	for n := range int64(len(x.directory)) / x.entry {
		at := x.tableAt(n)
		if at == 0 {
			continue
		}
		table, err := x.tableOf(n)
		if err != nil {
			found = append(found, image.Damage{At: max(at, x.directoryAt*sector), What: err.Error()})
			continue
		}
		places = append(places, image.Place{At: at, Length: x.per * x.entry, What: fmt.Sprintf("table %d", n)})
		for grain := n * x.per; grain < (n+1)*x.per && grain*x.grain < x.size; grain++ {
			state, at := x.place(table, grain)
			if state != image.Data {
				continue
			}
			if at == nowhere {
				found = append(found, image.Damage{At: x.tableAt(n), What: fmt.Sprintf("grain %d is said to be where none can be", grain)})
				continue
			}
			length := min(x.grain, max(sector, x.file.Size()-at))
			if x.stream {
				length = sector
				if _, err := x.unpack(grain, at); err != nil {
					found = append(found, image.Damage{At: at, What: err.Error()})
				}
			}
			places = append(places, image.Place{At: at, Length: length, What: fmt.Sprintf("grain %d", grain)})
		}
	}
	return append(found, image.Overlaps(places, x.file.Size())...), nil
}
