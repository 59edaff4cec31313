package site

import (
	"io"
	"slices"
	"sync"
)

// Blocks reads something that is far away in blocks, of which it keeps the last few.
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

// ReadAt implements io.ReaderAt.
func (b *Blocks) ReadAt(p []byte, at int64) (n int, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for n < len(p) {
		here := at + int64(n)
		if here >= b.Size {
			return n, io.EOF
		}
		one, err := b.block(here / b.Block * b.Block)
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

func (b *Blocks) block(at int64) (block, error) {
	if i := slices.IndexFunc(b.kept, func(k block) bool { return k.at == at }); i >= 0 {
		return b.kept[i], nil
	}
	content, err := b.Fetch(at, min(b.Block, b.Size-at))
	if err != nil {
		return block{}, err
	}
	if len(b.kept) >= b.Keep {
		b.kept = slices.Delete(b.kept, 0, 1)
	}
	b.kept = append(b.kept, block{at, content})
	return block{at, content}, nil
}
