package main

import (
	"bytes"
	"compress/gzip"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

// place is where Linux systems look for a file of an archive, by its path there.
func place(of string) string {
	dir, name := path.Split(of)
	switch dir {
	case "man/":
		return "/usr/share/man/man1/" + name + ".gz"
	case "completion/":
		return map[string]string{
			"bash": "/usr/share/bash-completion/completions/mintbatch",
			"zsh":  "/usr/share/zsh/vendor-completions/_mintbatch",
			"fish": "/usr/share/fish/vendor_completions.d/mintbatch.fish",
		}[name]
	case "systemd/":
		return "/usr/lib/systemd/system/" + name
	}
	return "/usr/share/doc/mintbatch/" + of
}

// packages writes a deb and an rpm for a Linux system.
func (b *build) packages(t target, program string, texts []file) ([]string, error) {
	contents := files.Contents{{Source: program, Destination: "/usr/bin/mintbatch", FileInfo: &files.ContentFileInfo{Mode: 0o755, MTime: b.at}}}
	for _, own := range []string{"/usr/share/doc/mintbatch", "/usr/share/doc/mintbatch/docs", "/usr/share/doc/mintbatch/docs/schemas"} {
		contents = append(contents, &files.Content{Destination: own, Type: files.TypeDir, FileInfo: &files.ContentFileInfo{Mode: 0o755, MTime: b.at}})
	}
	for _, f := range texts {
		to := place(f.path)
		if to == "" {
			continue
		}
		content, err := f.content()
		if err != nil {
			return nil, err
		}
		if strings.HasSuffix(to, ".gz") {
			if content, err = packed(content); err != nil {
				return nil, err
			}
		}
		from := filepath.Join(b.work, t.arch, to)
		if err := os.MkdirAll(filepath.Dir(from), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(from, content, 0o644); err != nil {
			return nil, err
		}
		contents = append(contents, &files.Content{Source: from, Destination: to, FileInfo: &files.ContentFileInfo{Mode: 0o644, MTime: b.at}})
	}
	var made []string
	for _, kind := range []string{"deb", "rpm"} {
		one, err := b.linux(kind, t.arch, contents)
		if err != nil {
			return nil, err
		}
		made = append(made, one)
	}
	return made, nil
}

func (b *build) linux(kind, arch string, contents files.Contents) (string, error) {
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: "mintbatch", Version: b.version, Arch: arch, Platform: "linux", Section: "admin", Priority: "optional", MTime: b.at,
		Maintainer: "Mint Batch <mintbatch@brackwater.example>", Description: "deploy virtual machines from templates in bulk\nEach machine is customized by its row of an inventory sheet.", License: "see /usr/share/doc/mintbatch/LICENCES",
		Overridables: nfpm.Overridables{Contents: contents, RPM: nfpm.RPM{BuildHost: "mintbatch"}},
	})
	packager, err := nfpm.Get(kind)
	if err != nil {
		return "", err
	}
	if err := nfpm.PrepareForPackager(info, kind); err != nil {
		return "", err
	}
	var written bytes.Buffer
	if err := packager.Package(info, &written); err != nil {
		return "", err
	}
	to := filepath.Join(b.out, packager.ConventionalFileName(info))
	return to, os.WriteFile(to, written.Bytes(), 0o644)
}

// packed compresses a text without a time in it.
func packed(content []byte) ([]byte, error) {
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(content); err != nil {
		return nil, err
	}
	return b.Bytes(), w.Close()
}
