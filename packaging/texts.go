package main

import (
	"bytes"
	"debug/buildinfo"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// file is one of a package, by its path in an archive.
type file struct {
	path string
	from string // a file, or
	text []byte
	mode os.FileMode
}

func (f file) content() ([]byte, error) {
	if f.from == "" {
		return f.text, nil
	}
	return os.ReadFile(f.from)
}

// texts are what goes with every program: manual pages, completions, units, docs and licences.
func (b *build) texts(native string) ([]file, error) {
	manual := filepath.Join(b.work, "man")
	if err := exec.Command(native, "manual", manual).Run(); err != nil {
		return nil, fmt.Errorf("write the manual pages: %w", err)
	}
	pages, err := filepath.Glob(filepath.Join(manual, "*.1"))
	if err != nil {
		return nil, err
	}
	var all []file
	for _, page := range pages {
		all = append(all, file{path: "man/" + filepath.Base(page), from: page, mode: 0o644})
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		script, err := exec.Command(native, "completion", shell).Output()
		if err != nil {
			return nil, fmt.Errorf("print the completion of %s: %w", shell, err)
		}
		all = append(all, file{path: "completion/" + shell, text: script, mode: 0o644})
	}
	for _, unit := range []string{"mintbatch-sweep@.service", "mintbatch-sweep@.timer", "mintbatch-intake@.service"} {
		all = append(all, file{path: "systemd/" + unit, from: filepath.Join(b.source, "packaging", "systemd", unit), mode: 0o644})
	}
	docs, err := filepath.Glob(filepath.Join(b.source, "docs", "*.[my]*"))
	if err != nil {
		return nil, err
	}
	schemas, err := filepath.Glob(filepath.Join(b.source, "docs", "schemas", "*.json"))
	if err != nil {
		return nil, err
	}
	for _, page := range append(docs, schemas...) {
		name, err := filepath.Rel(b.source, page)
		if err != nil {
			return nil, err
		}
		all = append(all, file{path: filepath.ToSlash(name), from: page, mode: 0o644})
	}
	licences, err := b.licences(native)
	return append(all, file{path: "LICENCES", text: licences, mode: 0o644}), err
}

var licenceFile = regexp.MustCompile(`(?i)^(licen[cs]e|copying|notice|unlicense|patents)`)

// licences are the texts of all modules that are in the program.
func (b *build) licences(native string) ([]byte, error) {
	info, err := buildinfo.ReadFile(native)
	if err != nil {
		return nil, err
	}
	var all bytes.Buffer
	fmt.Fprint(&all, "The program contains these modules, under the licences that follow each.\n")
	for _, m := range info.Deps {
		list := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", m.Path)
		list.Dir = b.source
		dir, err := list.Output()
		if err != nil {
			return nil, fmt.Errorf("find module %s: %w", m.Path, err)
		}
		entries, err := os.ReadDir(strings.TrimSpace(string(dir)))
		if err != nil {
			return nil, err
		}
		entries = slices.DeleteFunc(entries, func(e os.DirEntry) bool { return e.IsDir() || !licenceFile.MatchString(e.Name()) })
		if len(entries) == 0 {
			return nil, fmt.Errorf("module %s has no licence", m.Path)
		}
		for _, e := range entries {
			text, err := os.ReadFile(filepath.Join(strings.TrimSpace(string(dir)), e.Name()))
			if err != nil {
				return nil, err
			}
			fmt.Fprintf(&all, "\n==== %s %s, %s\n\n%s\n", m.Path, m.Version, e.Name(), bytes.TrimSpace(text))
		}
	}
	return all.Bytes(), nil
}
