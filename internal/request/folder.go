package request

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"mintbatch/internal/core/mail"
	"mintbatch/internal/core/request"
)

// The folders inside of a folder that sheets are put into.
const (
	takenDir   = "taken"   // sheets that were taken in
	answersDir = "answers" // a folder for each request
)

// quiet is how long nothing may have been written to a file before it is taken in.
const quiet = 2 * time.Second

// folder is a folder that sheets are put into, also by people who would like to see other files by way of it: no link in it leads
// out of it.
type folder struct {
	*os.Root
	sender string
}

func openFolder(dir, sender string) (*folder, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &folder{root, sender}, nil
}

// arrival is a sheet that has come and was not taken in yet.
type arrival struct {
	origin, sender, name string
	content              []byte
	wrong                string // with it as a file; empty if nothing is
}

// arrivals are the sheets that are whole. Hidden files, and those that programs make while they write others, are left alone.
func (f *folder) arrivals(now time.Time) (all []arrival, failed error) {
	dir, err := f.Open(".")
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	entries, err := dir.ReadDir(-1)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !e.Type().IsRegular() || passing(e.Name()) {
			continue
		}
		a, err := f.arrival(e.Name(), now)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", e.Name(), err))
		} else if a != nil {
			all = append(all, *a)
		}
	}
	return all, failed
}

// passing reports whether a file is none that somebody wants to be taken in.
func passing(name string) bool {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".tmp", ".part", ".partial", ".crdownload", ".swp", ".lock":
		return true
	}
	return strings.HasPrefix(name, ".") || strings.HasPrefix(name, "~") || strings.HasSuffix(name, "~")
}

// arrival reads a sheet; nil if it is still being written.
func (f *folder) arrival(name string, now time.Time) (*arrival, error) {
	file, err := f.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // somebody else was faster
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	before, err := file.Stat()
	if err != nil || !before.Mode().IsRegular() || now.Sub(before.ModTime()) < quiet {
		return nil, err
	}
	content, err := io.ReadAll(io.LimitReader(file, mail.MostFile+1))
	if err != nil {
		return nil, err
	}
	after, err := f.Lstat(name)
	if err != nil || !os.SameFile(before, after) || before.Size() != after.Size() || !before.ModTime().Equal(after.ModTime()) {
		return nil, nil // it is not what was read any more; the next round looks again
	}
	a := &arrival{origin: name + " " + before.ModTime().UTC().Format(time.RFC3339Nano), sender: f.sender, name: name, content: content}
	if len(content) > mail.MostFile {
		a.content, a.wrong = []byte{}, tooLarge
	}
	return a, nil
}

// settle puts a sheet that is in the ledger out of the way. Another one of the same name that has come meanwhile stays.
func (f *folder) settle(a arrival, id string) error {
	if now, err := f.ReadFile(a.name); err != nil || a.wrong == "" && !bytes.Equal(now, a.content) {
		return ignoreGone(err)
	}
	if err := f.MkdirAll(takenDir, 0o777); err != nil {
		return err
	}
	return ignoreGone(f.Rename(a.name, filepath.Join(takenDir, id+"-"+a.name)))
}

func ignoreGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// deliver writes the letter into the folder of its request. The same one writes the same files, each whole or not at all.
func (f *folder) deliver(l request.Letter) error {
	dir := filepath.Join(answersDir, l.Request)
	if err := f.MkdirAll(dir, 0o777); err != nil {
		return err
	}
	for _, file := range append([]request.File{{Name: string(l.Kind) + ".txt", Content: []byte(l.Text)}, {Name: string(l.Kind) + ".html", Content: []byte(l.HTML)}}, l.Files...) {
		path := filepath.Join(dir, filepath.Base(file.Name))
		err := f.WriteFile(path+".tmp", file.Content, 0o644)
		if err == nil {
			err = f.Rename(path+".tmp", path)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
