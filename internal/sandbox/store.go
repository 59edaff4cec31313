package sandbox

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// record is a machine as the sandbox keeps it.
type record struct {
	Site      string            `json:"site"`
	ID        uuid.UUID         `json:"id"`
	Gone      bool              `json:"gone,omitempty"`
	Kept      bool              `json:"kept,omitempty"`      // it is gone, and its disks are not
	OnlyData  bool              `json:"only_data,omitempty"` // it is gone, and its data disks are not
	Name      string            `json:"name"`
	Template  string            `json:"template"`
	Source    uuid.UUID         `json:"source,omitzero"` // the machine that it was cloned from, if it was
	At        string            `json:"at,omitempty"`    // the checkpoint of that
	Kind      machine.CloneKind `json:"kind"`
	Host      string            `json:"host"`
	Store     string            `json:"store"`
	Folder    string            `json:"folder,omitempty"`
	Firmware  machine.Firmware  `json:"firmware,omitempty"`
	DiskKind  machine.DiskKind  `json:"disk_kind,omitempty"`
	Shape     machine.Shape     `json:"shape"`
	Adapters  []adapter         `json:"adapters,omitempty"`
	Mark      contract.Mark     `json:"mark"`
	States    []state           `json:"states,omitempty"` // its checkpoints, the oldest first
	Power     machine.Power     `json:"power"`
	Booted    time.Time         `json:"booted,omitzero"` // when its guest reports
	Instance  string            `json:"instance,omitempty"`
	Report    *contract.Report  `json:"report,omitempty"`
	Stages    []stage           `json:"stages,omitempty"`
	FirstBoot time.Time         `json:"first_boot,omitzero"` // when it was over, and the stages began
	Cleaned   bool              `json:"cleaned,omitempty"`   // its identity was taken away, to make it a template
	Media     string            `json:"media,omitempty"`     // the image in its CD drive
	Carried   string            `json:"carried,omitempty"`   // the digest of the image of big files
	Has       []contract.Check  `json:"has,omitempty"`       // what its guest would find if it was asked to look
}

// adapter is one network adapter; Lease is what the network's DHCP would give.
type adapter struct {
	Network string `json:"network"`
	MAC     string `json:"mac"`
	VLAN    int    `json:"vlan,omitempty"`
	Model   string `json:"model,omitempty"`
	// Unplugged is one that no packet comes through.
	Unplugged bool         `json:"unplugged,omitempty"`
	Lease     netip.Prefix `json:"lease,omitzero"`
	// Advertised is what the network's router reports.
	Advertised netip.Prefix `json:"advertised,omitzero"`
}

// disk keeps the sandbox's state in a folder: machines.jsonl gets a line
// whenever a machine changes, seeds/ one image for each machine.
type disk struct {
	dir string
	log *os.File
}

// openDisk reads the state back and writes the log anew, one line a machine.
func openDisk(dir string) (*disk, []*record, error) {
	if err := os.MkdirAll(filepath.Join(dir, "seeds"), 0o700); err != nil {
		return nil, nil, err
	}
	path := filepath.Join(dir, "machines.jsonl")
	records, err := readLog(path)
	if err != nil {
		return nil, nil, err
	}
	anew, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, nil, err
	}
	d := &disk{dir: dir, log: anew}
	for _, r := range records {
		if err := d.keep(r); err != nil {
			return nil, nil, err
		}
	}
	if err := os.Rename(path+".new", path); err != nil {
		return nil, nil, err
	}
	return d, records, nil
}

func readLog(path string) ([]*record, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	last, order := map[uuid.UUID]*record{}, []uuid.UUID{}
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 16<<20)
	for n := 1; lines.Scan(); n++ {
		var r record
		if err := json.Unmarshal(lines.Bytes(), &r); err != nil {
			// A line cut short by a kill was never answered for.
			continue
		}
		if last[r.ID] == nil {
			order = append(order, r.ID)
		}
		last[r.ID] = &r
	}
	var records []*record
	for _, id := range order {
		if r := last[id]; !r.Gone {
			records = append(records, r)
		}
	}
	return records, lines.Err()
}

func (d *disk) keep(r *record) error {
	line, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = d.log.Write(append(line, '\n'))
	return err
}

func (d *disk) seedPath(id uuid.UUID) string {
	return filepath.Join(d.dir, "seeds", id.String()+".iso")
}

func (d *disk) writeSeed(id uuid.UUID, image []byte) error {
	path := d.seedPath(id)
	if err := os.WriteFile(path+".new", image, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// readSeed returns nothing for a machine without a seed.
func (d *disk) readSeed(id uuid.UUID) []byte {
	b, _ := os.ReadFile(d.seedPath(id))
	return b
}

func (d *disk) dropSeed(id uuid.UUID) error {
	if err := os.Remove(d.seedPath(id)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove the seed: %w", err)
	}
	return nil
}

func (d *disk) forget(r *record) error {
	r.Gone = true
	return errors.Join(d.dropSeed(r.ID), d.keep(r))
}
