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
func (g *Gateway) Disk(ctx context.Context, template string) (d disk.Disk, changed string, err error) {
	path := "/templates/" + url.PathEscape(template) + "/disk"
	_, size, changed, err := g.part(ctx, path, 0, 1)
	if err != nil {
		return disk.Disk{}, "", err
	}
	blocks := &site.Blocks{Size: size, Block: diskBlock, Keep: diskBlocks, Fetch: func(at, n int64) ([]byte, error) {
		content, now, when, err := g.part(ctx, path, at, n)
		if err == nil && (now != size || when != changed) {
			err = errIncomplete(errors.New("a disk that was changed while it was read"))
		}
		return content, err
	}}
	return disk.Disk{ReaderAt: blocks, Size: size}, changed, nil
}

// part reads a range, how large all is, and when it was last changed.
func (g *Gateway) part(ctx context.Context, path string, at, n int64) (content []byte, size int64, changed string, err error) {
	header, content, err := g.exchange(ctx, http.MethodGet, path, nil, map[string]string{"Range": fmt.Sprintf("bytes=%d-%d", at, at+n-1), "Accept": "application/octet-stream"})
	if err != nil {
		return nil, 0, "", err
	}
	_, whole, _ := strings.Cut(header.Get("Content-Range"), "/")
	size, err = strconv.ParseInt(whole, 10, 64)
	want := fmt.Sprintf("bytes %d-%d/", at, at+n-1)
	switch {
	case header.Get("Content-Range") == "":
		return nil, 0, "", fmt.Errorf("%w: it does not answer with parts of a disk", site.ErrRefused)
	case err != nil || size <= 0 || !strings.HasPrefix(header.Get("Content-Range"), want) || int64(len(content)) != n:
		return nil, 0, "", errIncomplete(errors.New("another part of a disk than was asked for"))
	}
	return content, size, header.Get("Last-Modified"), nil
}
