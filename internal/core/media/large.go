package media

import (
	"fmt"
	"io"
	"slices"
	"strings"
)

// Large is a file of an image that is never in memory as a whole.
type Large struct {
	Name string
	Size int64
}

// MostLarge bounds the files of an image of large ones, in bytes.
const MostLarge = 20 << 30

// CheckLarge reports why no image can have those files.
func CheckLarge(files []Large) error {
	small, total := make([]File, len(files)), int64(0)
	for i, f := range files {
		small[i].Name = f.Name
		if total += f.Size; f.Size < 0 || total > MostLarge {
			return fmt.Errorf("%w: more than %d GiB", ErrImage, int64(MostLarge)>>30)
		}
	}
	return checkNames(small)
}

// Stream is an image that is read from its beginning to its end.
type Stream struct {
	Size   int64
	head   []byte
	files  []Large
	starts []int64
}

// NewStream lays out an ISO 9660 image of large files. Files of more than 4 GiB have several
// extents, which Linux reads and Windows does not.
func NewStream(label string, files []Large) (*Stream, error) {
	if err := CheckLarge(files); err != nil {
		return nil, err
	}
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b Large) int { return strings.Compare(a.Name, b.Name) })
	head, starts, size := isoHead(label, files)
	return &Stream{size, head, files, starts}, nil
}

// WriteTo writes the image. Each file is opened when it is its turn; one that is not as long as
// it was is an error.
func (s *Stream) WriteTo(w io.Writer, open func(name string) (io.ReadCloser, error)) error {
	if _, err := w.Write(s.head); err != nil {
		return err
	}
	at := int64(len(s.head))
	for i, f := range s.files {
		if err := pad(w, s.starts[i]-at); err != nil {
			return err
		}
		if err := copyFile(w, f, open); err != nil {
			return err
		}
		at = s.starts[i] + f.Size
	}
	return pad(w, s.Size-at)
}

func copyFile(w io.Writer, f Large, open func(name string) (io.ReadCloser, error)) error {
	from, err := open(f.Name)
	if err != nil {
		return err
	}
	defer from.Close()
	n, err := io.Copy(w, io.LimitReader(from, f.Size+1))
	if err == nil && n != f.Size {
		err = fmt.Errorf("%s was changed: it had %d bytes", f.Name, f.Size)
	}
	return err
}

func pad(w io.Writer, n int64) error {
	_, err := w.Write(make([]byte, n))
	return err
}
