package site

import (
	"io"
	"slices"
	"sync"
)

// Blocks reads something that is far away in blocks, of which it keeps the last few. Of what is read from
// one end to the other more is fetched at once.
type Blocks struct {
	// Fetch returns n bytes, fewer only at the end.
	Fetch func(at, n int64) ([]byte, error)
	// Size is that of all, Block that of a block, and Keep how many are kept.
	Size, Block int64
	Keep        int

	mu   sync.Mutex
	kept []block
}

type block struct {
	at      int64
	content []byte
}

// mostAhead bounds what is fetched at once.
const mostAhead = 1 << 20

// ReadAt implements io.ReaderAt.
func (b *Blocks) ReadAt(p []byte, at int64) (n int, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for n < len(p) {
		here := at + int64(n)
		if here >= b.Size {
			return n, io.EOF
		}
		one, err := b.block(here)
		if err != nil {
			return n, err
		}
		if here-one.at >= int64(len(one.content)) {
			return n, io.ErrUnexpectedEOF
		}
		n += copy(p[n:], one.content[here-one.at:])
	}
	return n, nil
}

// block is the one that a place is in.
func (b *Blocks) block(here int64) (block, error) {
	if i := slices.IndexFunc(b.kept, func(k block) bool { return k.at <= here && here < k.at+int64(len(k.content)) }); i >= 0 {
		return b.kept[i], nil
	}
	at := here / b.Block * b.Block
	size := b.Block
	for _, k := range b.kept {
		if k.at+int64(len(k.content)) == at {
			size = min(2*int64(len(k.content)), max(mostAhead, b.Block))
		}
	}
	content, err := b.Fetch(at, min(size, b.Size-at))
	if err != nil {
		return block{}, err
	}
	most := int64(b.Keep) * b.Block
	for held := b.held() + int64(len(content)); len(b.kept) > 0 && held > most; {
		held -= int64(len(b.kept[0].content))
		b.kept = slices.Delete(b.kept, 0, 1)
	}
	b.kept = append(b.kept, block{at, content})
	return block{at, content}, nil
}

// held is how many bytes are kept.
func (b *Blocks) held() (n int64) {
	for _, k := range b.kept {
		n += int64(len(k.content))
	}
	return n
}
