package internal

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write docs/licences.md anew")

// texts are by what the licences are known under which a module may be part of the
// program: all let it be passed on with the notice of its authors.
var texts = []struct{ licence, text string }{
	{"Apache-2.0", "Apache License Version 2.0"},
	{"MPL-2.0", "Mozilla Public License Version 2.0"},
	{"MPL-2.0", "Mozilla Public License, version 2.0"},
	{"MIT", "Permission is hereby granted, free of charge, to any person obtaining a copy of this software"},
	{"ISC", "Permission to use, copy, modify, and/or distribute this software for any purpose"},
	{"ISC", "Permission to use, copy, modify, and distribute this software for any purpose"},
	{"Unlicense", "This is free and unencumbered software released into the public domain"},
	{"BSD", "Redistribution and use in source and binary forms, with or without modification, are permitted"},
}

// modules finds the modules that are in the program, for any of its systems.
func modules(t *testing.T) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, system := range []string{"linux", "darwin", "windows"} {
		list := exec.Command("go", "list", "-deps", "-json=Module", "mintbatch/cmd/mintbatch")
		list.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system, "GOARCH=amd64")
		out, err := list.Output()
		require.NoError(t, err)
		for d := json.NewDecoder(strings.NewReader(string(out))); ; {
			var p struct {
				Module *struct {
					Path, Version, Dir string
					Main               bool
				}
			}
			if err := d.Decode(&p); errors.Is(err, io.EOF) {
				break
			} else {
				require.NoError(t, err)
			}
			if p.Module != nil && !p.Module.Main {
				all[p.Module.Path+" "+p.Module.Version] = p.Module.Dir
			}
		}
	}
	return all
}

// licenceOf reads which licences the files of a module say.
func licenceOf(t *testing.T, dir string) string {
	t.Helper()
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	found := map[string]bool{}
	for _, f := range files {
		name := strings.ToUpper(f.Name())
		if f.IsDir() || !strings.Contains(name, "LICENSE") && !strings.Contains(name, "LICENCE") && !strings.HasPrefix(name, "COPYING") {
			continue
		}
		content, err := os.ReadFile(filepath.Join(dir, f.Name()))
		require.NoError(t, err)
		text := strings.Join(strings.Fields(strings.NewReplacer("_", "", "=", "").Replace(string(content))), " ")
		for _, known := range texts {
			if !strings.Contains(text, known.text) {
				continue
			}
			licence := known.licence
			if licence == "BSD" {
				licence = "BSD-2-Clause"
				if strings.Contains(text, "endorse or promote") {
					licence = "BSD-3-Clause"
				}
			}
			found[licence] = true
		}
	}
	return strings.Join(slices.Sorted(maps.Keys(found)), ", ")
}

// Every module in the program has a licence that is known, and docs/licences.md names
// it: `go test ./internal -run Licences -update` writes that list anew.
func TestLicences(t *testing.T) {
	const begin, path = "## Modules\n", "../docs/licences.md"
	var b strings.Builder
	b.WriteString(begin + "\nThe modules in the program, for any of its systems, each under the licence in its own files.\n\n| module | version | licence |\n|---|---|---|\n")
	all := modules(t)
	for _, module := range slices.Sorted(maps.Keys(all)) {
		name, version, _ := strings.Cut(module, " ")
		licence := licenceOf(t, all[module])
		assert.NotEmpty(t, licence, "%s has no licence that is known", module)
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", name, version, licence)
	}
	b.WriteString("| Go's own library | | BSD-3-Clause |\n")
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	before, _, _ := strings.Cut(string(content), begin)
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(strings.TrimRight(before, "\n")+"\n\n"+b.String()), 0o644))
		return
	}
	assert.Equal(t, before+b.String(), string(content), "the list of modules is not up to date: go test ./internal -run Licences -update")
}
