package qcow2

import (
	"fmt"

	"mintbatch/internal/core/image"
)

// checkCounts counts the references to every cluster, and holds them against the counts in the image.
func (i *Image) checkCounts(size int64) ([]image.Damage, error) {
	c := counting{Image: i, size: size, seen: make([]uint32, size>>i.bits+1)}
	c.add(0, 1<<i.bits, "the header", nil)
	for _, d := range append([]State{{table: i.table, entries: i.entries, Size: i.size}}, i.states...) {
		c.add(int64(d.table), int64(d.entries)*8, "a table of the first level", nil)
		if err := c.tables(d); err != nil {
			return nil, err
		}
	}
	c.add(i.counts, i.countClusters<<i.bits, "the table of reference counts", nil)
	return c.compare()
}

type counting struct {
	*Image
	size   int64
	seen   []uint32
	damage []image.Damage
}

// add counts a reference to each cluster of a part of the file.
func (c *counting) add(at, length int64, what string, where func() string) {
	if where == nil {
		where = func() string { return what }
	}
	if at < 0 || at > c.size || length < 0 || (at+length-1)>>c.bits<<c.bits >= c.size {
		c.found(at, false, "%s is said to be at %d, in a file of %d bytes", where(), at, c.size)
		return
	}
	for n := at >> c.bits; length > 0 && n <= (at+length-1)>>c.bits; n++ {
		c.seen[n]++
	}
}

const mostFound = 100

func (c *counting) found(at int64, waste bool, format string, args ...any) {
	if len(c.damage) < mostFound {
		c.damage = append(c.damage, image.Damage{At: at, What: fmt.Sprintf(format, args...), Waste: waste})
	}
}

// tables counts what the tables of a state refer to.
func (c *counting) tables(s State) error {
	if int64(s.entries)*8 > c.size {
		return nil
	}
	first := make([]uint64, s.entries)
	if err := readAt(c.file, int64(s.table), first); err != nil {
		return err
	}
	second := make([]uint64, 1<<(c.bits-3))
	for n, entry := range first {
		at := entry & offsetBits
		if at == 0 {
			continue
		}
		if at&(1<<c.bits-1) != 0 {
			c.found(int64(s.table)+int64(n)*8, false, "a table of the second level is said to be at %d, where no cluster begins", at)
			continue
		}
		c.add(int64(at), 1<<c.bits, "a table of the second level", nil)
		if int64(at) > c.size-1<<c.bits {
			continue
		}
		if err := readAt(c.file, int64(at), second); err != nil {
			return err
		}
		for k, e := range second {
			where := func() string { return fmt.Sprintf("cluster %d of the disk", n<<(c.bits-3)+k) }
			switch {
			case e&isCompressed != 0:
				begin, length := c.compressedAt(e)
				if begin+length > c.size { // the last sector may be cut short
					length = c.size - begin
				}
				c.add(begin, max(length, 1), "", where)
			case e&offsetBits == 0:
			case e&offsetBits&(1<<c.bits-1) != 0:
				c.found(int64(e&offsetBits), false, "%s is said to be at %d, where no cluster begins", where(), e&offsetBits)
			default:
				c.add(int64(e&offsetBits), min(1<<c.bits, max(1, c.size-int64(e&offsetBits))), "", where)
			}
		}
	}
	return nil
}

// compare holds what was counted against the counts of the image (qcow2.txt, "Host cluster management").
func (c *counting) compare() ([]image.Damage, error) {
	n := c.countClusters << c.bits / 8
	if c.countClusters < 0 || n*8 > c.size {
		return c.damage, nil // told already
	}
	table := make([]uint64, n)
	if err := readAt(c.file, c.counts, table); err != nil {
		return nil, err
	}
	each := int64(8) << c.bits / c.countBits // counts of a block
	for _, at := range table {
		if at &^= 1<<9 - 1; at != 0 {
			c.add(int64(at), 1<<c.bits, "a block of reference counts", nil)
		}
	}
	block := make([]byte, 1<<c.bits)
	for n := int64(0); n < int64(len(c.seen)); n += each {
		clear(block)
		if k := n / each; k < int64(len(table)) && table[k]&^(1<<9-1) != 0 {
			if err := readFull(c.file, int64(table[k]&^(1<<9-1)), block); err != nil {
				return nil, err
			}
		}
		for k := range min(each, int64(len(c.seen))-n) {
			at := (n + k) << c.bits
			switch is, want := countIn(block, k, c.countBits), uint64(c.seen[n+k]); {
			case is < want:
				c.found(at, false, "the cluster at %d is used %d times and counted %d times", at, want, is)
			case is > want:
				c.found(at, true, "the cluster at %d is used %d times and counted %d times", at, want, is)
			}
		}
	}
	return c.damage, nil
}

// countIn is a count in a block: of those that are smaller than a byte, the first are the lowest bits.
func countIn(block []byte, k, bits int64) (count uint64) {
	if bits < 8 {
		return uint64(block[k*bits/8]>>(k*bits%8)) & (1<<bits - 1)
	}
	for _, b := range block[k*bits/8 : (k+1)*bits/8] {
		count = count<<8 | uint64(b)
	}
	return count
}
