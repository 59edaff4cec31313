// Package volume makes an fs.FS of the nodes of a file system on a disk. Symbolic links are not
// followed: what they lead to may be on another volume.
package volume

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"
)

// ErrDamaged is what every failure to understand a file system unwraps to.
var ErrDamaged = errors.New("the file system is damaged")

// Damaged says in what a file system cannot be understood.
func Damaged(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, args...))
}

// The bounds of what is read into memory of a file system that may be anything.
const (
	mostContent  = 64 << 20 // bytes of a file
	MostChildren = 1 << 17  // names in a folder
)

// Node is a file, a folder, or something else that has a name.
type Node interface {
	Info() Info
	// Children lists what is in a folder.
	Children() ([]Child, error)
	// Content is what is in a file, or what a link leads to; holes are zeros.
	Content() (io.ReaderAt, error)
}

// Info is what a node is. The size is in bytes.
type Info struct {
	Mode     fs.FileMode
	Size     int64
	Modified time.Time
}

// Child is a name in a folder.
type Child struct {
	Name string
	Open func() (Node, error)
}

// FS is a file system. Names are as io/fs has them.
type FS struct {
	root    Node
	nodes   map[string]Node
	folders map[string]*folder
	// Fold makes one of names that are the same; nil if each is its own.
	Fold func(string) string
}

// folder is what is in one, and at which place each name is.
type folder struct {
	children []Child
	at       map[string]int
}

// New makes the file system of which a node is the root.
func New(root Node) *FS {
	return &FS{root: root, nodes: map[string]Node{".": root}, folders: map[string]*folder{}}
}

func (f *FS) folder(name string, n Node) (*folder, error) {
	if known := f.folders[name]; known != nil {
		return known, nil
	}
	all, err := n.Children()
	if err != nil {
		return nil, err
	}
	if len(all) > MostChildren {
		return nil, Damaged("%s has more than %d entries", name, MostChildren)
	}
	found := &folder{all, make(map[string]int, len(all))}
	for i, c := range all {
		found.at[f.fold(c.Name)] = i
	}
	f.folders[name] = found
	return found, nil
}

func (f *FS) fold(name string) string {
	if f.Fold == nil {
		return name
	}
	return f.Fold(name)
}

func (f *FS) node(name string) (Node, error) {
	if !fs.ValidPath(name) {
		return nil, fs.ErrInvalid
	}
	if n, known := f.nodes[name]; known {
		return n, nil
	}
	above, last := ".", name
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		above, last = name[:i], name[i+1:]
	}
	parent, err := f.node(above)
	if err != nil {
		return nil, err
	}
	if !parent.Info().Mode.IsDir() {
		return nil, fs.ErrNotExist
	}
	in, err := f.folder(above, parent)
	if err != nil {
		return nil, err
	}
	i, there := in.at[f.fold(last)]
	if !there {
		return nil, fs.ErrNotExist
	}
	n, err := in.children[i].Open()
	if err == nil && len(f.nodes) < MostChildren {
		f.nodes[name] = n
	}
	return n, err
}

func failed(op, name string, err error) error {
	return &fs.PathError{Op: op, Path: name, Err: err}
}

// Open implements fs.FS.
func (f *FS) Open(name string) (fs.File, error) {
	n, err := f.node(name)
	if err != nil {
		return nil, failed("open", name, err)
	}
	content, err := n.Content()
	if err != nil {
		return nil, failed("open", name, err)
	}
	return &file{entry: entry{base(name), n}, SectionReader: io.NewSectionReader(content, 0, n.Info().Size)}, nil
}

// ReadFile implements fs.ReadFileFS.
func (f *FS) ReadFile(name string) ([]byte, error) {
	n, err := f.node(name)
	if err != nil {
		return nil, failed("read", name, err)
	}
	size := n.Info().Size
	switch {
	case !n.Info().Mode.IsRegular():
		return nil, failed("read", name, fs.ErrInvalid)
	case size > mostContent:
		return nil, failed("read", name, fmt.Errorf("it has %d bytes, which is more than is read", size))
	}
	content, err := text(n)
	if err != nil {
		return nil, failed("read", name, err)
	}
	return content, nil
}

func text(n Node) ([]byte, error) {
	from, err := n.Content()
	if err != nil {
		return nil, err
	}
	content := make([]byte, n.Info().Size)
	if read, err := from.ReadAt(content, 0); read < len(content) {
		return nil, errors.Join(err, io.ErrUnexpectedEOF)
	}
	return content, nil
}

// ReadDir implements fs.ReadDirFS.
func (f *FS) ReadDir(name string) ([]fs.DirEntry, error) {
	n, err := f.node(name)
	if err == nil && !n.Info().Mode.IsDir() {
		err = errors.New("not a folder")
	}
	var in *folder
	if err == nil {
		in, err = f.folder(name, n)
	}
	if err != nil {
		return nil, failed("readdir", name, err)
	}
	entries := make([]fs.DirEntry, 0, len(in.children))
	for _, c := range in.children {
		below := c.Name
		if name != "." {
			below = name + "/" + c.Name
		}
		one, err := f.node(below)
		if err != nil {
			continue // which whoever asks for it is told
		}
		entries = append(entries, fs.FileInfoToDirEntry(entry{c.Name, one}))
	}
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return entries, nil
}

// Lstat implements fs.ReadLinkFS.
func (f *FS) Lstat(name string) (fs.FileInfo, error) {
	n, err := f.node(name)
	if err != nil {
		return nil, failed("stat", name, err)
	}
	return entry{base(name), n}, nil
}

// ReadLink implements fs.ReadLinkFS.
func (f *FS) ReadLink(name string) (string, error) {
	n, err := f.node(name)
	switch {
	case err != nil:
		return "", failed("readlink", name, err)
	case n.Info().Mode.Type() != fs.ModeSymlink || n.Info().Size > 1<<12:
		return "", failed("readlink", name, fs.ErrInvalid)
	}
	content, err := text(n)
	if err != nil {
		return "", failed("readlink", name, err)
	}
	return string(content), nil
}

func base(name string) string { return name[strings.LastIndexByte(name, '/')+1:] }

// entry is a node with its name.
type entry struct {
	name string
	node Node
}

func (e entry) Name() string       { return e.name }
func (e entry) Size() int64        { return e.node.Info().Size }
func (e entry) Mode() fs.FileMode  { return e.node.Info().Mode }
func (e entry) ModTime() time.Time { return e.node.Info().Modified }
func (e entry) IsDir() bool        { return e.Mode().IsDir() }
func (e entry) Sys() any           { return nil }

type file struct {
	entry
	*io.SectionReader
}

func (f *file) Stat() (fs.FileInfo, error) { return f.entry, nil }
func (f *file) Size() int64                { return f.entry.Size() }
func (f *file) Close() error               { return nil }

// Mode is the mode of a node whose system has written it as POSIX has it.
func Mode(posix uint16) fs.FileMode {
	mode := fs.FileMode(posix & 0o777)
	switch posix & 0xf000 {
	case 0x4000:
		mode |= fs.ModeDir
	case 0xa000:
		mode |= fs.ModeSymlink
	case 0x8000:
	default:
		mode |= fs.ModeIrregular
	}
	return mode
}

// Blocks is content that lies in blocks of one size.
type Blocks struct {
	From io.ReaderAt
	Size int64 // of a block
	// At returns where a block of the content is, and how many after it follow it there (at
	// least 1); false is a hole.
	At func(block int64) (at, follow int64, is bool, err error)
}

// ReadAt implements io.ReaderAt.
func (b Blocks) ReadAt(p []byte, off int64) (int, error) {
	for n := 0; n < len(p); {
		block, skip := (off+int64(n))/b.Size, (off+int64(n))%b.Size
		at, follow, is, err := b.At(block)
		if err != nil {
			return n, err
		}
		part := p[n:min(int64(len(p)), int64(n)+max(follow, 1)*b.Size-skip)]
		if !is {
			clear(part)
		} else if read, err := b.From.ReadAt(part, at+skip); read < len(part) {
			return n + read, errors.Join(err, io.ErrUnexpectedEOF)
		}
		n += len(part)
	}
	return len(p), nil
}

// InMemory is content that was read already; behind it are zeros.
type InMemory []byte

// ReadAt implements io.ReaderAt.
func (m InMemory) ReadAt(p []byte, at int64) (int, error) {
	clear(p)
	if at < int64(len(m)) {
		copy(p, m[at:])
	}
	return len(p), nil
}
