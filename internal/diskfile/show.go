package diskfile

import (
	"errors"

	"mintbatch/internal/core/machine"
)

// About is what an image says of itself.
type About struct {
	File    string `json:"file"`
	Format  string `json:"format"`
	Version string `json:"version,omitempty"` // of the format
	Variant string `json:"variant"`
	// Disk is the size that a guest sees, Stored what the file takes of its file system.
	Disk   machine.Size `json:"disk"`
	Stored machine.Size `json:"stored"`
	// Block is how much is stored together.
	Block    machine.Size `json:"block"`
	Identity string       `json:"identity,omitempty"`
	Remarks  []string     `json:"remarks,omitempty"`
}

// Show tells of an image and those that it depends on, the child first. Missing is why a parent of the last one
// cannot be read; nil if all are there.
func Show(path, format string) (all []About, missing, err error) {
	d, err := Look(path, format)
	if d == nil {
		return nil, nil, err
	}
	defer d.Close()
	var parent *Parent
	if errors.As(err, &parent) {
		missing, err = parent, nil
	}
	for n, i := range d.Images {
		a := About{File: d.Paths[n], Format: i.Format, Version: i.Version, Variant: string(i.Variant), Disk: machine.Size(i.Length()), Block: machine.Size(i.Block), Identity: i.Identity, Remarks: i.Remarks}
		for _, f := range d.files[d.begin[n]:d.end(n)] {
			a.Stored += machine.Size(stored(f.File))
		}
		all = append(all, a)
	}
	return all, missing, err
}

// end is the first file that belongs to no image up to the nth.
func (d *Disk) end(n int) int {
	if n+1 < len(d.begin) {
		return d.begin[n+1]
	}
	return len(d.files)
}
