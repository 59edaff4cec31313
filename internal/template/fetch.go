package template

import (
	"context"
	"errors"
	"fmt"
	"io"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/image/qcow2"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pack"
	"mintbatch/internal/ledger"
	"mintbatch/internal/library"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
)

// FetchOrder says what to fetch, and where to.
type FetchOrder struct {
	Library string
	Name    string // NAME@N, or the newest of NAME
	// Site gets it; empty fetches it only to this computer.
	Site, Host, Store string
}

// Fetching is a version of a library that is to be fetched.
type Fetching struct {
	mint.Task
	Library string
	ledger.Version
	Published Published
	Store     string
	// Size is how much is to be fetched, Length how much is sent to the site.
	Size, Length machine.Size
	// There means that nothing is to be done.
	There bool
}

// Question asks before that.
func (p *Fetching) Question() mint.Question {
	text := fmt.Sprintf("Fetch template %s of library %s (%s)?", p.Name(), p.Library, p.Size)
	if p.Site != "" {
		text = fmt.Sprintf("Fetch template %s of library %s (%s), and make it at site %s, in store %s (%s)?", p.Name(), p.Library, p.Size, p.Site, p.Store, p.Length)
	}
	return mint.Question{Text: text, Word: "yes"}
}

// PrepareFetch finds a version in a library that a trusted key has signed. The ledger has to be locked.
func PrepareFetch(ctx context.Context, d *mint.Desk, o FetchOrder) (*Fetching, error) {
	v, err := machine.ParseVersion(o.Name)
	if err != nil {
		return nil, err
	}
	shelf, err := Open(d, o.Library)
	if err != nil {
		return nil, err
	}
	if v.Number == 0 {
		if v, err = shelf.newest(ctx, v.Template); err != nil {
			return nil, err
		}
		if v.Number == 0 {
			return nil, refuse("library %s has no version of %s", shelf.Name, v)
		}
	}
	one, err := shelf.look(ctx, v)
	if err == nil {
		err = shelf.trusted(one)
	}
	if err != nil {
		return nil, err
	}
	index, err := shelf.index(ctx, one)
	if err != nil {
		return nil, err
	}
	layout, err := qcow2.NewLayout(index.Disk, index.Has)
	if err != nil {
		return nil, err
	}
	some, size := shelf.missing(index)
	p := &Fetching{Library: shelf.Name, Published: one.Published, Size: size, Length: machine.Size(layout.Length()),
		Version: ledger.Version{Site: o.Site, Version: contract.Version{Ledger: d.Ledger.ID, Of: v.Template, Number: v.Number, Made: one.Made, By: one.By, Digest: one.Digest, From: one.From, Notes: one.Notes}}}
	bring := act{"fetch", func(ctx context.Context, share func(float64)) error { return shelf.fetch(ctx, some, share) }}
	if o.Site == "" {
		p.There = len(some) == 0
		p.Task = task("library fetch "+v.String(), machine.Key{Name: v.String()}, func(*run.Engine) []act { return []act{bring} })
		return p, nil
	}
	if p.Site, err = siteOf(d, o.Site); err != nil {
		return nil, err
	}
	to, at, err := maker(d, p.Site)
	if err != nil {
		return nil, err
	}
	answer, err := d.Sites.Ask(ctx, p.Site)
	if err != nil {
		return nil, err
	}
	if has := find(answer, v); has != nil {
		if has.Version == nil || has.Version.Digest != p.Digest {
			return nil, refuse("site %s has another template %s", p.Site, v)
		}
		p.There = true
		return p, nil
	}
	if p.Store, err = storeOf(d, answer, p.Site, o.Store); err != nil {
		return nil, err
	}
	order := contract.TemplateOrder{Host: o.Host, Store: p.Store, Disk: one.Disk, CPUs: one.CPUs, Memory: one.Memory, Firmware: one.Firmware, Hardware: one.Hardware}
	if order.Hardware == nil {
		if h := machine.Hardware(d.Setup.Templates[v.Template].Hardware); h != (machine.Hardware{}) {
			order.Hardware = &h
		}
	}
	image := contract.Image{Size: layout.Length(), WriteTo: func(w io.Writer) error { return shelf.write(ctx, index, layout, w) }}
	p.Task = task("library fetch "+v.String(), machine.Key{Site: p.Site, Name: v.String()}, func(e *run.Engine) []act {
		return append([]act{bring}, making(d, at, to, &p.Version, nil, e.Run, order, image)...)
	})
	return p, nil
}

// write writes the image of a version of which all packs are here.
func (s *Shelf) write(ctx context.Context, index *pack.Index, layout *qcow2.Layout, to io.Writer) error {
	d, done, err := s.disk(ctx, index)
	if err != nil {
		return err
	}
	defer done()
	return layout.WriteTo(to, d)
}

// Kept is a version as a library has it.
type Kept struct {
	Library string `json:"library"`
	Name    string `json:"template"` // with its version
	Published
	// Size is that of all its packs, Here how much of that was fetched.
	Size machine.Size `json:"size"`
	Here machine.Size `json:"here"`
	// Signer is the fingerprint of the trusted key that has signed it; empty if none has.
	Signer   string `json:"signer,omitempty"`
	Manifest string `json:"manifest"` // its digest
}

// List tells of the versions in libraries, or in one, of which nothing but their descriptions is read. Those that cannot be read are
// reported in the error.
func List(ctx context.Context, d *mint.Desk, name string, globs []string) ([]Kept, error) {
	shelf, err := Open(d, name)
	if err != nil {
		return nil, err
	}
	all, err := shelf.versions(ctx, globs)
	if err != nil {
		return nil, err
	}
	if len(globs) > 0 && len(all) == 0 {
		return nil, refuse("library %s has no version of %s", shelf.Name, globs[0])
	}
	found := []Kept{}
	var unreadable error
	for _, v := range all {
		one, err := shelf.look(ctx, v)
		if errors.Is(err, library.ErrUnreachable) || ctx.Err() != nil {
			return found, errors.Join(unreadable, err)
		}
		if err != nil {
			unreadable = errors.Join(unreadable, fmt.Errorf("%s: %w", v, err))
			continue
		}
		k := Kept{Library: shelf.Name, Name: v.String(), Published: one.Published, Here: shelf.here(one), Signer: one.signer, Manifest: one.descriptor.Digest.String()}
		for _, l := range one.manifest.Layers[1:] {
			k.Size += machine.Size(l.Size)
		}
		if shelf.local() {
			k.Here = k.Size
		}
		found = append(found, k)
	}
	return found, unreadable
}

// PrepareRemoval finds a version of a library that is to be deleted from it.
func PrepareRemoval(ctx context.Context, d *mint.Desk, libraryName, name string) (*Adding, error) {
	v, err := machine.ParseVersion(name)
	if err == nil && v.Number == 0 {
		err = refuse("%s: name the version, such as %s@1", name, name)
	}
	if err != nil {
		return nil, err
	}
	shelf, err := Open(d, libraryName)
	if err != nil {
		return nil, err
	}
	one, err := shelf.look(ctx, v)
	if err != nil {
		return nil, err
	}
	p := &Adding{Library: shelf.Name, Version: v, Digest: one.Digest}
	p.Task = task("library drop "+v.String(), machine.Key{Name: v.String()}, func(*run.Engine) []act {
		return []act{{"drop", func(ctx context.Context, _ func(float64)) error { return shelf.from(shelf.store.Drop(ctx, tag(v))) }}}
	})
	return p, nil
}
