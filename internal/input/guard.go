package input

import (
	"reflect"
	"slices"
	"strings"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/output"
)

// Guard knows what no output may be written over: the setup and all that it is read
// from, the sheet, the ledger, keys, and the logs of runs.
func (b *Batch) Guard() output.Guard {
	g := output.Guard{Files: b.Inputs(), Folders: []string{b.LogDir()}}
	for _, l := range b.Setup.Libraries {
		if l.Folder != "" {
			g.Folders = append(g.Folders, b.Path(l.Folder))
		}
	}
	if path := b.LedgerPath(); !ledger.IsShared(path) {
		for _, ending := range []string{"", "-wal", "-shm", ".lock", ".migrate"} {
			g.Files = append(g.Files, path+ending)
		}
	}
	return g
}

// Inputs are the files that the setup and the sheet are read from, and those with keys.
func (b *Batch) Inputs() []string {
	files := b.read.all()
	switch {
	case b.SheetPath != "":
		files = append(files, b.SheetPath)
	case b.Setup.Sheet != "": // it is one, also where it was not read
		files = append(files, b.Path(b.Setup.Sheet))
	}
	if b.Setup.Secrets.Identity != "" {
		files = append(files, b.Path(b.Setup.Secrets.Identity))
	}
	for _, r := range b.references() {
		if path, ok := r.File(); ok {
			files = append(files, b.Path(path))
		}
	}
	return files
}

// Environment are the environment variables that the setup takes values from.
func (b *Batch) Environment() []string {
	names := b.environment.all()
	for _, r := range b.references() {
		if r.Kind == "env" {
			names = append(names, r.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// references are the values of the setup that are only read when they are needed, wherever they stand.
func (b *Batch) references() (all []setup.Reference) {
	collect(reflect.ValueOf(*b.Setup), &all)
	slices.SortFunc(all, func(x, y setup.Reference) int { return strings.Compare(x.Kind+x.Name, y.Kind+y.Name) })
	return all
}

var referenceType = reflect.TypeFor[setup.Reference]()

// collect finds the references in a part of a setup.
func collect(v reflect.Value, all *[]setup.Reference) {
	switch {
	case v.Type() == referenceType:
		if r := v.Interface().(setup.Reference); !r.IsZero() {
			*all = append(*all, r)
		}
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && f.Tag.Get("key") != "" {
				collect(v.Field(i), all)
			}
		}
	case v.Kind() == reflect.Map && v.Type().Elem().Kind() == reflect.Struct:
		for _, name := range v.MapKeys() {
			collect(v.MapIndex(name), all)
		}
	}
}
