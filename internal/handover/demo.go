package handover

import (
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"mintbatch/internal/vault"
)

//go:embed demo/mintbatch.yaml
var demoSetup string

//go:embed demo/machines.csv
var demoSheet string

// Demo is what the demo's setup must contain.
type Demo struct {
	URL, Fingerprint string // of the sandbox
	DNS              string // the address of its DNS server
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
	setup := strings.NewReplacer("@URL@", d.URL, "@FINGERPRINT@", d.Fingerprint, "@DNS@", d.DNS, "@RECIPIENT@", recipient).Replace(demoSetup)
	return errors.Join(
		os.WriteFile(filepath.Join(dir, "mintbatch.yaml"), []byte(setup), 0o600),
		os.WriteFile(filepath.Join(dir, "machines.csv"), []byte(demoSheet), 0o600))
}
