package gateway

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"mintbatch/internal/core/disk"
	"mintbatch/internal/site"
)

// The blocks in which a disk is read, and how many are kept.
const (
	diskBlock  = 256 << 10
	diskBlocks = 128
)

// Disk implements site.DiskReader, by ranges (RFC 9110, section 14).
func (g *Gateway) Disk(ctx context.Context, template string) (disk.Disk, error) {
	path := "/templates/" + url.PathEscape(template) + "/disk"
	_, size, err := g.part(ctx, path, 0, 1)
	if err != nil {
		return disk.Disk{}, err
	}
	blocks := &site.Blocks{Size: size, Block: diskBlock, Keep: diskBlocks, Fetch: func(at, n int64) ([]byte, error) {
		content, now, err := g.part(ctx, path, at, n)
		if err == nil && now != size {
			err = errIncomplete(fmt.Errorf("a disk of %d bytes that had %d", now, size))
		}
		return content, err
	}}
	return disk.Disk{ReaderAt: blocks, Size: size}, nil
}

// part reads a range, and how large all is.
func (g *Gateway) part(ctx context.Context, path string, at, n int64) ([]byte, int64, error) {
	header, content, err := g.exchange(ctx, http.MethodGet, path, nil, map[string]string{"Range": fmt.Sprintf("bytes=%d-%d", at, at+n-1), "Accept": "application/octet-stream"})
	if err != nil {
		return nil, 0, err
	}
	_, whole, _ := strings.Cut(header.Get("Content-Range"), "/")
	size, err := strconv.ParseInt(whole, 10, 64)
	want := fmt.Sprintf("bytes %d-%d/", at, at+n-1)
	switch {
	case header.Get("Content-Range") == "":
		return nil, 0, fmt.Errorf("%w: it does not answer with parts of a disk", site.ErrRefused)
	case err != nil || size <= 0 || !strings.HasPrefix(header.Get("Content-Range"), want) || int64(len(content)) != n:
		return nil, 0, errIncomplete(errors.New("another part of a disk than was asked for"))
	}
	return content, size, nil
}
