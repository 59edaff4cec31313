package mint

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/disk"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/qcow2"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
)

// Inspected is what was found on a disk.
type Inspected struct {
	// Disk is what was inspected, as it was named.
	Disk string `json:"disk"`
	Site string `json:"site,omitempty"`
	*inspect.Inspection
}

// Inspect looks at the system disk of a template of the setup, of machine:NAME, or STORE/VOLUME, at
// each site that has it, or at one.
func (d *Desk) Inspect(ctx context.Context, name, only string) ([]Inspected, error) {
	all := setup.Names(d.Setup.Templates)
	_, isMachine := machine.SourceOf(name)
	at := name
	switch {
	case slices.Contains(all, name):
		at = d.Setup.TemplateSource(name)
	case !isMachine && !strings.Contains(name, "/"):
		return nil, fmt.Errorf("%w template: %q (%s)", ErrUnknown, name, finding.DidYouMean(name, all))
	}
	sites := slices.Sorted(maps.Keys(d.Setup.Sites))
	if only != "" {
		if !slices.Contains(sites, only) {
			return nil, fmt.Errorf("%w site: %q (%s)", ErrUnknown, only, finding.DidYouMean(only, sites))
		}
		sites = []string{only}
	}
	var found []Inspected
	var failed error
	for _, s := range sites {
		i, changed, err := d.inspectAt(ctx, s, at)
		if errors.Is(err, site.ErrNotFound) && len(sites) > 1 {
			continue
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("site %s: %s: %w", s, name, err))
			continue
		}
		found = append(found, Inspected{name, s, i})
		if !isMachine {
			failed = errors.Join(failed, d.Ledger.KeepInspection(ctx, ledger.TemplateKey{Site: s, Template: at}, i.Summary(changed, time.Now())))
		}
	}
	if found == nil && failed == nil {
		failed = fmt.Errorf("%w: no site has a template, machine or volume %s", site.ErrNotFound, name)
	}
	return found, failed
}

func (d *Desk) inspectAt(ctx context.Context, name, at string) (i *inspect.Inspection, changed string, err error) {
	s, err := d.Sites.Site(name)
	if err != nil {
		return nil, "", err
	}
	reader, can := s.(site.DiskReader)
	if !can {
		return nil, "", fmt.Errorf("%w: this kind of site cannot read disks", site.ErrRefused)
	}
	whole, changed, err := reader.Disk(ctx, at)
	if err != nil {
		return nil, "", err
	}
	i, err = inspect.Of(whole)
	return i, changed, err
}

// InspectFile looks at a disk image in a file, raw or qcow2, with the images that it depends on.
func InspectFile(path string) (Inspected, error) {
	var chain qcow2.Chain
	for below := path; below != ""; {
		if len(chain) == longestChain {
			return Inspected{}, fmt.Errorf("%s: the chain of images that it depends on is circular, or longer than %d", path, longestChain)
		}
		file, err := os.Open(below)
		if err != nil {
			if len(chain) > 0 {
				err = fmt.Errorf("it depends on an image that cannot be read: %w", err)
			}
			return Inspected{}, fmt.Errorf("%s: %w", path, err)
		}
		defer file.Close()
		layer, parent, err := layerOf(file)
		if err != nil {
			return Inspected{}, fmt.Errorf("%s: %w", below, err)
		}
		if parent != "" && !filepath.IsAbs(parent) {
			parent = filepath.Join(filepath.Dir(below), parent)
		}
		chain, below = append(chain, layer), parent
	}
	i, err := inspect.Of(disk.Disk{ReaderAt: chain, Size: chain[0].Length()})
	if err != nil {
		return Inspected{}, fmt.Errorf("%s: %w", path, err)
	}
	return Inspected{Disk: path, Inspection: i}, nil
}

// longestChain bounds how deep images may depend on images.
const longestChain = 64

// layerOf tells what kind of image a file is, and on which other it depends.
func layerOf(file *os.File) (qcow2.Layer, string, error) {
	about, err := file.Stat()
	if err != nil {
		return nil, "", err
	}
	if about.IsDir() {
		return nil, "", errors.New("it is a folder, not a disk image")
	}
	magic := make([]byte, 4)
	if _, _ = file.ReadAt(magic, 0); string(magic) != "QFI\xfb" {
		return qcow2.Raw{File: file, Size: about.Size()}, "", nil
	}
	image, err := qcow2.Open(file)
	if err != nil {
		return nil, "", err
	}
	return image.Now(), image.Backing(), nil
}
