package mint

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/disk"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/diskfile"
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
	source, isMachine := machine.SourceOf(name)
	at, of := name, machine.Version{}
	switch v, err := machine.ParseVersion(name); {
	case err == nil && (v.Number > 0 || slices.Contains(all, name)):
		v, err = machine.ParseVersion(cmp.Or(d.Setup.TemplateSource(v.Template), v.Template) + strings.TrimPrefix(name, v.Template))
		if at = v.String(); err != nil { // its source is of another kind
			at = d.Setup.TemplateSource(name)
		}
		of = v
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
		at, shown := at, name
		var err error
		switch {
		case of.Template != "":
			at, err = d.versionAt(ctx, s, of)
		case isMachine:
			err = d.machineAt(ctx, s, source.Name)
		}
		var i *inspect.Inspection
		var changed string
		if err == nil {
			i, changed, err = d.inspectAt(ctx, s, at)
		}
		if errors.Is(err, site.ErrNotFound) && len(sites) > 1 {
			continue
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("site %s: %s: %w", s, name, err))
			continue
		}
		if v, is := machine.VersionOf(at); is && of.Number == 0 {
			shown = machine.Version{Template: name, Number: v.Number}.String()
		}
		found = append(found, Inspected{shown, s, i})
		if !isMachine {
			failed = errors.Join(failed, d.Ledger.KeepInspection(ctx, ledger.TemplateKey{Site: s, Template: at}, i.Summary(changed, time.Now())))
		}
	}
	if found == nil && failed == nil {
		failed = fmt.Errorf("%w: no site has a template, machine or volume %s", site.ErrNotFound, name)
	}
	return found, failed
}

// machineAt is an ErrNotFound where a site does not have a machine.
func (d *Desk) machineAt(ctx context.Context, where, name string) error {
	answer, err := d.Sites.Ask(ctx, where)
	if err == nil && !slices.ContainsFunc(answer.Machines, func(m contract.Machine) bool { return strings.EqualFold(m.Name, name) }) {
		err = fmt.Errorf("%w: machine %s", site.ErrNotFound, name)
	}
	return err
}

// versionAt is the name of a version of a template at a site: of the newest if it has no number, or of the
// template itself where there are no versions.
func (d *Desk) versionAt(ctx context.Context, name string, of machine.Version) (string, error) {
	answer, err := d.Sites.Ask(ctx, name)
	if err != nil {
		return "", err
	}
	if of.Number > 0 && answer.Template(of.String()) == nil {
		return "", fmt.Errorf("%w: template %s", site.ErrNotFound, of)
	}
	if of.Number == 0 {
		of.Number = answer.Newest()[of.Template]
	}
	return of.String(), nil
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

// InspectFile looks at a disk image in a file, of any format, with the images that it depends on.
func InspectFile(path string) (Inspected, error) {
	d, err := diskfile.Open(path, "")
	if err != nil {
		return Inspected{}, err
	}
	defer d.Close()
	i, err := inspect.Of(disk.Disk{ReaderAt: d, Size: d.Length()})
	if err != nil {
		return Inspected{}, fmt.Errorf("%s: %w", path, err)
	}
	return Inspected{Disk: path, Inspection: i}, nil
}
