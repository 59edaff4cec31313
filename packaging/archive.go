package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
)

// archive writes all files for a system: a zip for Windows, else a tar.gz.
func (b *build) archive(t target, files []file) (string, error) {
	folder := fmt.Sprintf("mintbatch-%s-%s-%s", b.version, t.system, t.arch)
	var packed bytes.Buffer
	write, suffix := b.tar, ".tar.gz"
	if t.system == "windows" {
		write, suffix = b.zip, ".zip"
	}
	if err := write(&packed, folder, files); err != nil {
		return "", err
	}
	path := filepath.Join(b.out, folder+suffix)
	return path, os.WriteFile(path, packed.Bytes(), 0o644)
}

func (b *build) tar(to *bytes.Buffer, folder string, files []file) error {
	packed := gzip.NewWriter(to)
	w := tar.NewWriter(packed)
	for _, f := range files {
		content, err := f.content()
		if err != nil {
			return err
		}
		if err := w.WriteHeader(&tar.Header{Name: folder + "/" + f.path, Mode: int64(f.mode), Size: int64(len(content)), ModTime: b.at, Format: tar.FormatPAX}); err != nil {
			return err
		}
		if _, err := w.Write(content); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return packed.Close()
}

func (b *build) zip(to *bytes.Buffer, folder string, files []file) error {
	w := zip.NewWriter(to)
	for _, f := range files {
		content, err := f.content()
		if err != nil {
			return err
		}
		h := &zip.FileHeader{Name: folder + "/" + f.path, Method: zip.Deflate, Modified: b.at}
		h.SetMode(fs.FileMode(f.mode))
		one, err := w.CreateHeader(h)
		if err != nil {
			return err
		}
		if _, err := one.Write(content); err != nil {
			return err
		}
	}
	return w.Close()
}

// checksums writes SHA256SUMS, which sha256sum(1) checks.
func (b *build) checksums(made []string) error {
	slices.Sort(made)
	var sums bytes.Buffer
	for _, path := range made {
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(content), filepath.Base(path))
	}
	return os.WriteFile(filepath.Join(b.out, "SHA256SUMS"), sums.Bytes(), 0o644)
}
