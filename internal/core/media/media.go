// Package media writes seed images: small disk images that carry files to a
// guest. The same files always give the same bytes.
package media

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Kind is a format of images.
type Kind string

// The kinds of image: a read-only one as of a CD, and a writable one as of a
// memory stick or a floppy disk.
const (
	ISOKind Kind = "iso"
	FATKind Kind = "fat"
)

// File is a file of an image. All files stand in the image's top folder.
type File struct {
	Name    string
	Content []byte
}

// ErrImage is what every refusal of an image unwraps to.
var ErrImage = errors.New("cannot make the image")

// maxContent keeps an image far below any limit of its format.
const maxContent = 256 << 20

// most is how long a label may be, by kind: in ISO 9660 that of Joliet counts.
var most = map[Kind]int{ISOKind: 16, FATKind: 11}

// Image returns an image of a kind.
func Image(kind Kind, label string, files []File) ([]byte, error) {
	if err := Check(kind, label, files); err != nil {
		return nil, err
	}
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	if kind == FATKind {
		return fat(label, files), nil
	}
	return iso(label, files), nil
}

// KindOf returns the kind of an image that was made here.
func KindOf(image []byte) Kind {
	if at := primaryAt*sector + 1; len(image) > at+5 && string(image[at:at+5]) == "CD001" {
		return ISOKind
	}
	return FATKind
}

// Check reports why no image of a kind can have that label and those files.
func Check(kind Kind, label string, files []File) error {
	if label == "" || len(label) > most[kind] || strings.Trim(label, nameCharacters+" ") != "" || strings.TrimSpace(label) != label {
		return fmt.Errorf("%w: the label %q must have 1 to %d letters, digits, dots, hyphens and underscores", ErrImage, label, most[kind])
	}
	total := 0
	for _, f := range files {
		if total += len(f.Content); total > maxContent {
			return fmt.Errorf("%w: more than %d MiB", ErrImage, maxContent>>20)
		}
	}
	return checkNames(files)
}

func checkNames(files []File) error {
	seen := map[string]bool{}
	for _, f := range files {
		if f.Name == "" || len(f.Name) > 64 || strings.Trim(f.Name, nameCharacters) != "" || strings.Trim(f.Name, ".") == "" || strings.HasSuffix(f.Name, ".") {
			return fmt.Errorf("%w: file name %q; use 1 to 64 letters, digits, dots, hyphens and underscores", ErrImage, f.Name)
		}
		folded := strings.ToLower(f.Name)
		if seen[folded] {
			return fmt.Errorf("%w: two files are named %q", ErrImage, f.Name)
		}
		seen[folded] = true
	}
	return nil
}

const nameCharacters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.-_"

// shortNames gives each file a name of at most 8 and 3 d-characters (ECMA-119,
// section 7.4.1), no two alike.
func shortNames(files []Large) [][2]string {
	names, seen := make([][2]string, len(files)), map[string]bool{}
	for i, f := range files {
		base, extension := f.Name, ""
		if dot := strings.LastIndexByte(f.Name, '.'); dot >= 0 {
			base, extension = f.Name[:dot], f.Name[dot+1:]
		}
		base, extension = dCharacters(base, 8), dCharacters(extension, 3)
		for n := 1; seen[base+"."+extension]; n++ {
			number := fmt.Sprint(n)
			base = base[:min(len(base), 8-len(number))] + number
		}
		seen[base+"."+extension] = true
		names[i] = [2]string{base, extension}
	}
	return names
}

func dCharacters(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToUpper(s))
	return s[:min(len(s), most)]
}
