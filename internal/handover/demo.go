package handover

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/sandbox"
	"mintbatch/internal/vault"
)

//go:embed demo/mintbatch.yaml
var demoSetup string

//go:embed demo/machines.csv
var demoSheet string

//go:embed demo/requests.yaml
var demoRequests string

//go:embed demo/classroom.yaml
var classroomSetup []byte

//go:embed demo/classroom.csv
var classroomSheet []byte

//go:embed demo/faulty.csv
var faultyRequest []byte

//go:embed demo/mended.csv
var mendedRequest []byte

// DemoRequest is what somebody puts into the folder of the demo's requests: first with mistakes, then mended.
func DemoRequest(dir string, mended bool) error {
	content := faultyRequest
	if mended {
		content = mendedRequest
	}
	path := filepath.Join(dir, "requests", "gauges.csv")
	before := time.Now().Add(-time.Minute) // it was finished a while ago
	return errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, content, 0o600), os.Chtimes(path, before, before))
}

// DemoClassroom lays out a site of the demo that is a folder, with a template in it, and a folder that stands for a stick.
func DemoClassroom(ctx context.Context, dir string) error {
	content, err := sandbox.CleanDisk()
	if err != nil {
		return err
	}
	templates := filepath.Join(dir, "classroom", "templates")
	err = errors.Join(os.MkdirAll(templates, 0o700), os.MkdirAll(filepath.Join(dir, "stick"), 0o700),
		os.WriteFile(filepath.Join(dir, "classroom.yaml"), classroomSetup, 0o600), os.WriteFile(filepath.Join(dir, "classroom.csv"), classroomSheet, 0o600))
	if err != nil {
		return err
	}
	vhdx, _ := formats.ByEnding(".vhdx")
	disk := image.Chain{image.Raw{ReaderAt: bytes.NewReader(content), Size: int64(len(content))}}
	return diskfile.Write(ctx, filepath.Join(templates, "deb12-base.vhdx"), vhdx, image.Order{Identity: uuid.NewSHA1(uuid.NameSpaceURL, content)}, disk, nil, nil)
}

// Demo is what the demo's setup must contain.
type Demo struct {
	URL, Fingerprint string // of the sandbox
	DNS              string // the address of its DNS server
	Requests         bool   // whether somebody sends some
}

// ErrDemoThere means that the demo's folder already holds something.
var ErrDemoThere = errors.New("it exists already; name another with --dir, or remove it")

// CheckDemo reports whether the demo can be laid out in the folder.
func CheckDemo(dir string) error {
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case len(entries) > 0:
		return fmt.Errorf("%s: %w", dir, ErrDemoThere)
	}
	return nil
}

// WriteDemo lays out the demo's setup, sheet and key.
func WriteDemo(dir string, d Demo) error {
	recipient, err := vault.NewIdentity(filepath.Join(dir, "operator.key"))
	if err != nil {
		return err
	}
	text := demoSetup
	if d.Requests {
		text += demoRequests
	}
	setup := strings.NewReplacer("@URL@", d.URL, "@FINGERPRINT@", d.Fingerprint, "@DNS@", d.DNS, "@RECIPIENT@", recipient).Replace(text)
	return errors.Join(
		os.WriteFile(filepath.Join(dir, "mintbatch.yaml"), []byte(setup), 0o600),
		os.WriteFile(filepath.Join(dir, "machines.csv"), []byte(demoSheet), 0o600))
}
