package vmdk

import "mintbatch/internal/core/image"

// A delta of the newer kind, as ESX writes them (SEsparse): entries of 64 bits that number tables and grains, in areas of their own. Its
// format is not published; it is read as QEMU reads it.
const (
	wideMagic    = 0xcafebabe
	wideVolatile = 0xcafecafe
	wideVersion  = 2<<32 | 1
	wideGrain    = 8  // sectors
	wideTable    = 64 // sectors

	tableIsThere = 0x10000000 << 32
	kindOfEntry  = 0xf << 60
	grainUnused  = 1 << 60 // given back by the guest
	grainZero    = 2 << 60
	grainThere   = 3 << 60
)

// isWide reports whether a file begins like such a delta.
func isWide(head []byte) bool { return len(head) >= 8 && le.Uint64(head) == wideMagic }

// wide reads the header of such a delta.
func (x *extent) wide() error {
	h := make([]byte, 2*sector)
	if err := image.ReadFull(x.file, 0, h[:sector]); err != nil {
		return err
	}
	number := func(n int) uint64 { return le.Uint64(h[8*n:]) }
	capacity, volatile := number(2), number(10)
	within := func(n int) bool { return number(n) > 0 && number(n) <= uint64(x.file.Size())/sector }
	switch {
	case number(1) != wideVersion:
		return image.Bad("version %x", number(1))
	case number(3) != wideGrain || number(4) != wideTable || number(5) != 0:
		return image.Bad("grains of %d sectors, tables of %d and flags %x", number(3), number(4), number(5))
	case capacity == 0 || capacity > largest/sector:
		return image.Bad("a disk of %d sectors", capacity)
	case !within(10) || !within(16) || !within(18) || !within(24):
		return image.Bad("headers, tables and grains at sectors %d, %d, %d and %d of a file of %d bytes", volatile, number(16), number(18), number(24), x.file.Size())
	}
	if err := image.ReadFull(x.file, int64(volatile)*sector, h[sector:]); err != nil {
		return err
	}
	switch {
	case le.Uint64(h[sector:]) != wideVolatile:
		return image.Bad("no header is at %d", volatile*sector)
	case le.Uint64(h[sector+24:]) != 0:
		return image.Bad("it was not closed, and its journal is not read; let its hypervisor open it once")
	}
	x.size, x.grain, x.per, x.entry = int64(capacity)*sector, wideGrain*sector, wideTable*sector/8, 8
	x.directoryAt, x.tablesAt, x.grainsAt = int64(number(16)), int64(number(18))*sector, int64(number(24))*sector
	return nil
}

// widePlace is what an entry of a table means, and where its grain is; nowhere if it means nothing.
func (x *extent) widePlace(entry uint64) (image.State, int64) {
	switch kind := entry & kindOfEntry; {
	case entry == 0 && x.child:
		return image.Below, 0
	case entry == 0, kind == grainUnused, kind == grainZero:
		return image.Zero, 0
	case kind == grainThere:
		n := entry&0x0fff000000000000>>48 | entry&0x0000ffffffffffff<<12
		if at := x.grainsAt + int64(n)*x.grain; n <= uint64(x.file.Size())/uint64(x.grain) {
			return image.Data, at
		}
	}
	return image.Data, nowhere
}
