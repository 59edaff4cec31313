// Package ntfs reads the file system NTFS.
package ntfs

import (
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"www.velocidex.com/golang/go-ntfs/parser"

	"mintbatch/internal/core/disk/volume"
)

// Volume is a file system.
type Volume struct{ *volume.FS }

// Is reports whether the volume begins as such a file system does.
func Is(from io.ReaderAt) bool {
	b := make([]byte, 8)
	n, _ := from.ReadAt(b, 3)
	return n == 8 && string(b) == "NTFS    "
}

const rootNumber = 5

// Open reads what a file system says of itself.
func Open(from io.ReaderAt) (v *Volume, err error) {
	defer caught(&err)
	context, err := parser.GetNTFSContext(from, 0)
	if err != nil {
		return nil, volume.Damaged("%s", err)
	}
	root := &node{context: context, number: rootNumber, info: volume.Info{Mode: fs.ModeDir | 0o755}}
	if _, err := root.entry(); err != nil {
		return nil, err
	}
	v = &Volume{volume.New(root)}
	v.Fold = strings.ToUpper
	return v, nil
}

// caught makes an error of the panic into which what is damaged may lead the reader.
func caught(err *error) {
	if p := recover(); p != nil {
		*err = volume.Damaged("%v", p)
	}
}

type node struct {
	context *parser.NTFSContext
	number  int64
	info    volume.Info
}

func (n *node) entry() (*parser.MFT_ENTRY, error) {
	e, err := n.context.GetMFT(n.number)
	if err != nil {
		return nil, volume.Damaged("record %d: %s", n.number, err)
	}
	return e, nil
}

// Info implements volume.Node.
func (n *node) Info() volume.Info { return n.info }

// Children implements volume.Node.
func (n *node) Children() (all []volume.Child, err error) {
	defer caught(&err)
	e, err := n.entry()
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, about := range parser.ListDir(n.context, e) {
		number, _, _ := strings.Cut(about.MFTId, "-")
		id, err := strconv.ParseInt(number, 10, 64)
		if err != nil || about.IsSlack || about.Name == "." || about.Name == "" || strings.ContainsAny(about.Name, ":/\x00") || seen[about.Name] || n.number == rootNumber && id < 24 {
			continue // also its own files, and what a file has beside its content
		}
		seen[about.Name] = true
		mode := fs.FileMode(0o644)
		if about.IsDir {
			mode = fs.ModeDir | 0o755
		}
		below := &node{n.context, id, volume.Info{Mode: mode, Size: max(about.Size, 0), Modified: about.Mtime.UTC().Truncate(time.Second)}}
		all = append(all, volume.Child{Name: about.Name, Open: func() (volume.Node, error) { return below, nil }})
	}
	return all, nil
}

// Content implements volume.Node.
func (n *node) Content() (content io.ReaderAt, err error) {
	defer caught(&err)
	if n.info.Mode.IsDir() {
		return volume.InMemory(nil), nil
	}
	e, err := n.entry()
	if err != nil {
		return nil, err
	}
	stream, err := parser.OpenStream(n.context, e, parser.ATTR_TYPE_DATA, parser.WILDCARD_STREAM_ID, parser.WILDCARD_STREAM_NAME)
	if err != nil {
		return nil, fmt.Errorf("%w: record %d: %w", volume.ErrDamaged, n.number, err)
	}
	return guarded{stream}, nil
}

// guarded is content whose reader may panic.
type guarded struct{ io.ReaderAt }

// ReadAt implements io.ReaderAt.
func (g guarded) ReadAt(p []byte, at int64) (n int, err error) {
	defer caught(&err)
	return g.ReaderAt.ReadAt(p, at)
}
