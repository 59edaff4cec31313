package input

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"time"

	"mintbatch/internal/ledger"
)

// LogDir is where the logs of runs are.
func (b *Batch) LogDir() string { return b.Path(cmp.Or(b.Setup.Events.Dir, "mintbatch.runs")) }

// Exists reports whether there is a file of a name.
func Exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// LedgerPath is the file of the ledger, or the URL of its database.
func (b *Batch) LedgerPath() string {
	if b.Setup.Ledger == "" {
		return b.Path("mintbatch.ledger")
	}
	if ledger.IsShared(b.Setup.Ledger) {
		return b.Setup.Ledger
	}
	return b.Path(b.Setup.Ledger)
}

// OwnOnly refuses a file with a credential that others on this computer can read.
func OwnOnly(path string) error {
	info, err := os.Stat(path)
	if err != nil || runtime.GOOS == "windows" || info.Mode().Perm()&0o077 == 0 {
		return nil // who reads it tells why not
	}
	return fmt.Errorf("other users can read the file %s; run `chmod 600 %s`", path, path)
}

// mostContent bounds the files that a setup takes values from: they are kept
// with every machine, and travel on its seed.
const mostContent = 1 << 20

// Fetch gets a value of the setup that stands elsewhere.
func (b *Batch) Fetch(kind, name string) (string, error) {
	if kind == "env" {
		b.environment.add(name)
		v, ok := os.LookupEnv(name)
		if !ok {
			return "", fmt.Errorf("the environment variable %s is not set", name)
		}
		return v, nil
	}
	if kind == "status" {
		return status(b.Path(name))
	}
	b.read.add(b.Path(name))
	content, err := readFile(b.Path(name), mostContent)
	if err != nil {
		return "", fmt.Errorf("cannot read the file %s: %w", b.Path(name), Reason(err))
	}
	if kind == "content" {
		return string(content), nil
	}
	return strings.TrimRight(string(content), "\r\n"), nil
}

// status tells the size of a file, when it was last changed, its name, and where it is.
func status(path string) (string, error) {
	info, err := os.Stat(path)
	if err == nil && !info.Mode().IsRegular() {
		err = errors.New("it is no file")
	}
	if err != nil {
		return "", fmt.Errorf("cannot read the file %s: %w", path, Reason(err))
	}
	if strings.Contains(info.Name(), " ") {
		return "", fmt.Errorf("the name of %s has blanks, which a carried file must not have", path)
	}
	return fmt.Sprintf("%d %s %s %s", info.Size(), info.ModTime().UTC().Format(time.RFC3339), info.Name(), path), nil
}
