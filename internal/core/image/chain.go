package image

import "io"

// Raw is a disk whose file is what the guest sees.
type Raw struct {
	io.ReaderAt
	Size int64
}

// Holes is a file that knows which of its parts were never written.
type Holes interface {
	// Hole reports whether such a part begins at a place, and how long it or else what was written is.
	Hole(at int64) (hole bool, length int64, err error)
}

// Length implements Layer.
func (r Raw) Length() int64 { return r.Size }

// Run implements Layer.
func (r Raw) Run(at int64) (Run, error) {
	run := Run{Data, r.Size - at}
	if h, knows := r.ReaderAt.(Holes); knows {
		hole, length, err := h.Hole(at)
		if err != nil {
			return Run{}, err
		}
		if hole {
			run.State = Zero
		}
		run.Length = min(run.Length, length)
	}
	return run, nil
}

// Chain is a disk with those below it, the child first. It is a layer, too, of which zeros are where none of
// them says anything.
type Chain []Layer

// Length implements Layer: it is that of the child.
func (c Chain) Length() int64 {
	if len(c) == 0 {
		return 0
	}
	return c[0].Length()
}

// Run implements Layer.
func (c Chain) Run(at int64) (Run, error) {
	_, run, err := c.find(at)
	return run, err
}

// find is the layer that says what is at a place of the disk.
func (c Chain) find(at int64) (Layer, Run, error) {
	most := c.Length() - at
	for _, layer := range c {
		if at >= layer.Length() {
			break
		}
		run, err := layer.Run(at)
		if err != nil {
			return nil, Run{}, err
		}
		if run.Length < 1 {
			return nil, Run{}, Bad("nothing is said of what is at %d", at)
		}
		most = min(most, run.Length, layer.Length()-at)
		if run.State != Below {
			return layer, Run{run.State, most}, nil
		}
	}
	return nil, Run{Zero, most}, nil
}

// ReadAt implements io.ReaderAt; behind the end there are zeros.
func (c Chain) ReadAt(into []byte, at int64) (int, error) {
	for done := 0; done < len(into); {
		part, here := into[done:], at+int64(done)
		if here >= c.Length() {
			clear(part)
			break
		}
		layer, run, err := c.find(here)
		if err != nil {
			return done, err
		}
		part = part[:min(int64(len(part)), run.Length)]
		if run.State == Zero {
			clear(part)
		} else if n, err := layer.ReadAt(part, here); n < len(part) {
			return done + n, err
		}
		done += len(part)
	}
	return len(into), nil
}

// Written reports whether any of the layers has data of a part of the disk.
func (c Chain) Written(at, n int64) (bool, error) {
	for end := min(at+n, c.Length()); at < end; {
		run, err := c.Run(at)
		if err != nil || run.State == Data {
			return true, err
		}
		at += run.Length
	}
	return false, nil
}
