package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// fetchDisk copies a disk from another host, through this program. Blocks of
// zeros are not sent.
func (h *host) fetchDisk(ctx context.Context, pool rpc.StoragePool, name string, from *host, v *volume, share func(float64)) error {
	if v.backing != "" {
		return fmt.Errorf("%w: the template's disk at host %s has a backing file; only a disk without one can be copied to another host", site.ErrRefused, from.name)
	}
	key, err := h.create(ctx, pool, volumeXML(name, v.format, v.capacity, 0, nil), 0)
	if err != nil {
		return err
	}
	return h.copy(ctx, func(to daemon) error {
		target := rpc.StorageVol{Pool: pool.Name, Name: name, Key: key}
		sink := &sparseSink{whole: v.used, share: share, send: func(offset int64, content []byte) error {
			return to.StorageVolUpload(target, bytes.NewReader(content), uint64(offset), uint64(len(content)), 0)
		}}
		// Not through from.copy: that would wait for a slot while holding one.
		source, err := from.copies.get()
		if err != nil {
			return from.unreachable(err)
		}
		if err := from.copies.download(source, v.vol, sink, 0, 0, v.length); err != nil {
			from.copies.drop(source) // which ends the stream at the daemon, too
			return errors.Join(sink.failed, err)
		}
		if err := sink.flush(); err != nil {
			return err
		}
		if v.length > 0 && sink.offset != v.length { // which streams do at times, without a word
			return fmt.Errorf("the stream of the template's disk ended after %d of %d bytes", sink.offset, v.length)
		}
		return nil
	})
}

// sparseSink takes a stream of bytes apart into pieces, of which those that
// are not all zeros are sent.
type sparseSink struct {
	whole  machine.Size
	share  func(float64)
	send   func(offset int64, content []byte) error
	offset int64
	piece  []byte
	failed error
}

// pieceSize is how much is sent at a time.
const pieceSize = 8 << 20

var zeros [pieceSize]byte

func (s *sparseSink) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		take := min(pieceSize-len(s.piece), len(p))
		s.piece = append(s.piece, p[:take]...)
		p = p[take:]
		if len(s.piece) == pieceSize {
			if err := s.flush(); err != nil {
				s.failed = err
				return 0, err
			}
		}
	}
	return n, nil
}

func (s *sparseSink) flush() error {
	piece := s.piece
	s.piece = s.piece[:0]
	at := s.offset
	s.offset += int64(len(piece))
	if bytes.Equal(piece, zeros[:len(piece)]) {
		return nil
	}
	if s.whole > 0 {
		s.share(min(float64(s.offset)/float64(s.whole), 0.99))
	}
	return s.send(at, piece)
}

var _ io.Writer = (*sparseSink)(nil)
