package handover

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
)

// ErrPack means that a pack cannot be made, or is not whole.
var ErrPack = errors.New("the pack is not whole")

// PackFormat is the version of the packs that Pack writes: an age file (age-encryption.org/v1)
// of a compressed tar, whose first file is manifest.json.
const PackFormat = "mintbatch/pack/1"

// manifestName is that of the list of all other files.
const manifestName = "manifest.json"

// Manifest lists what is in a pack.
type Manifest struct {
	Schema  string            `json:"schema"`
	Ledger  string            `json:"ledger,omitempty"` // its id; empty if it is in a database server
	Made    time.Time         `json:"made"`
	Setups  []string          `json:"setups"`
	Files   map[string]string `json:"files"`                 // their SHA-256, by their paths in the setup's folder
	Missing []string          `json:"environment,omitempty"` // variables that the setup takes values from
}

// Pack writes everything that a setup needs to work elsewhere, sealed with a passphrase: setup,
// sheet, a copy of the ledger, keys, tokens, other files that the setup names, and the logs.
func Pack(ctx context.Context, d *mint.Desk, setups []string, path, passphrase string, over output.Over) (*Manifest, error) {
	m := &Manifest{Schema: PackFormat, Made: time.Now().UTC(), Files: map[string]string{}, Missing: d.Environment()}
	dir, err := filepath.Abs(d.Path("."))
	if err != nil {
		return nil, err
	}
	if err := d.Guard().Check(path, over); err != nil {
		return nil, err
	}
	from := map[string]string{} // the files, by their paths in the pack
	add := func(file string) error {
		name, err := filepath.Rel(dir, absolute(file))
		if err != nil || !filepath.IsLocal(name) {
			return fmt.Errorf("%w: %s is outside of the setup's folder; move it there", ErrPack, file)
		}
		from[filepath.ToSlash(name)] = file
		return nil
	}
	for _, file := range setups {
		if err := add(file); err != nil {
			return nil, err
		}
		name, _ := filepath.Rel(dir, absolute(file)) // as add has it
		m.Setups = append(m.Setups, filepath.ToSlash(name))
	}
	for _, file := range d.Inputs() {
		if err := add(file); err != nil {
			return nil, err
		}
	}
	logs, err := filepath.Glob(filepath.Join(d.LogDir(), "*.jsonl"))
	if err != nil {
		return nil, err
	}
	for _, file := range logs {
		if err := add(file); err != nil {
			return nil, err
		}
	}
	if at := d.LedgerPath(); !ledger.IsShared(at) {
		if err := add(at); err != nil {
			return nil, err
		}
		name, _ := filepath.Rel(dir, absolute(at)) // as add has it
		work, err := os.MkdirTemp("", "mintbatch-pack")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(work)
		whole := filepath.Join(work, "ledger")
		if err := d.Ledger.BackUp(ctx, whole); err != nil {
			return nil, err
		}
		m.Ledger, from[filepath.ToSlash(name)] = d.Ledger.ID.String(), whole
	}
	sealed, err := pack(m, from, passphrase)
	if err != nil {
		return nil, err
	}
	return m, d.Guard().Write(path, sealed, over, 0o600)
}

func absolute(path string) string {
	if whole, err := filepath.Abs(path); err == nil {
		return whole
	}
	return path
}

// pack seals files with their manifest.
func pack(m *Manifest, from map[string]string, passphrase string) ([]byte, error) {
	contents := map[string][]byte{}
	for name, file := range from {
		content, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrPack, err)
		}
		sum := sha256.Sum256(content)
		contents[name], m.Files[name] = content, hex.EncodeToString(sum[:])
	}
	manifest, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, err
	}
	recipient, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	var sealed bytes.Buffer
	to, err := age.Encrypt(&sealed, recipient)
	if err != nil {
		return nil, err
	}
	compressed := gzip.NewWriter(to)
	w := tar.NewWriter(compressed)
	write := func(name string, content []byte) error {
		err := w.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(content)), ModTime: m.Made})
		if err == nil {
			_, err = w.Write(content)
		}
		return err
	}
	err = write(manifestName, manifest)
	for _, name := range slices.Sorted(maps.Keys(contents)) {
		err = errors.Join(err, write(name, contents[name]))
	}
	err = errors.Join(err, w.Close(), compressed.Close(), to.Close())
	return sealed.Bytes(), err
}

// mostPacked bounds a pack, unpacked.
const mostPacked = 4 << 30

// Unpack writes the files of a pack into a folder that is empty or not there yet, once it is
// known that all are whole.
func Unpack(from io.Reader, dir, passphrase string) (*Manifest, error) {
	identity, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, err
	}
	opened, err := age.Decrypt(from, identity)
	if err != nil {
		return nil, fmt.Errorf("%w: it cannot be opened: %w", ErrPack, err)
	}
	m, contents, err := unpack(opened)
	if err != nil {
		return nil, err
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, fmt.Errorf("%w: the folder %s is not empty", output.ErrRefused, dir)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for name, content := range contents {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, content, 0o600); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// unpack reads a pack, and holds it against its manifest.
func unpack(from io.Reader) (*Manifest, map[string][]byte, error) {
	broken := func(err error) error { return fmt.Errorf("%w: %w", ErrPack, err) }
	compressed, err := gzip.NewReader(from)
	if err != nil {
		return nil, nil, broken(err)
	}
	var m *Manifest
	contents, left := map[string][]byte{}, int64(mostPacked)
	for r := tar.NewReader(compressed); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, broken(err)
		}
		if left -= h.Size; left < 0 {
			return nil, nil, broken(errors.New("it is larger than 4 GiB"))
		}
		content, err := io.ReadAll(r)
		if err != nil {
			return nil, nil, broken(err)
		}
		if m == nil {
			m = &Manifest{}
			if err := json.Unmarshal(content, m); h.Name != manifestName || err != nil || m.Schema != PackFormat {
				return nil, nil, broken(fmt.Errorf("it is no pack of the form %s", PackFormat))
			}
			continue
		}
		if !filepath.IsLocal(filepath.FromSlash(h.Name)) || h.Typeflag != tar.TypeReg {
			return nil, nil, broken(fmt.Errorf("%q is no file of a folder", h.Name))
		}
		if sum := sha256.Sum256(content); m.Files[h.Name] != hex.EncodeToString(sum[:]) {
			return nil, nil, broken(fmt.Errorf("%s is not as it was packed", h.Name))
		}
		contents[h.Name] = content
	}
	if m == nil {
		return nil, nil, broken(errors.New("it is empty"))
	}
	var missing []string
	for name := range m.Files {
		if contents[name] == nil {
			missing = append(missing, name)
		}
	}
	slices.Sort(missing)
	if len(missing) > 0 {
		return nil, nil, broken(fmt.Errorf("these files are missing: %s", strings.Join(missing, ", ")))
	}
	return m, contents, nil
}
