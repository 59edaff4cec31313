// Package inspect tells what system is on a disk, and what is left on it of the machine that it
// was. It only reads.
package inspect

import (
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"mintbatch/internal/core/disk"
	"mintbatch/internal/core/finding"
)

// Inspection is what was found on the disks of a machine or template.
type Inspection struct {
	Table   disk.Table `json:"table"`
	Volumes []Volume   `json:"volumes"`
	System  System     `json:"system"`
	// Leftovers are ordered by severity.
	Leftovers []Leftover `json:"leftovers"`
	// Read is how many bytes of the disk had to be read.
	Read int64 `json:"read_bytes"`
}

// Volume is a part of the disk.
type Volume struct {
	Name       string    `json:"name"`
	Kind       disk.Kind `json:"kind,omitempty"`
	Size       int64     `json:"bytes"`
	FileSystem string    `json:"file_system,omitempty"`
	Label      string    `json:"label,omitempty"`
	UUID       string    `json:"uuid,omitempty"`
	// Mount is where the system has it.
	Mount string `json:"mount,omitempty"`
	// Problem says why it cannot be read.
	Problem string `json:"problem,omitempty"`
}

// Kind is the kind of a system.
type Kind string

// The kinds of systems.
const (
	Unknown Kind = ""
	Linux   Kind = "linux"
	Windows Kind = "windows"
)

// System is what the disk's system says of itself.
type System struct {
	Kind Kind `json:"kind,omitempty"`
	// Name and version as people write them, such as Debian GNU/Linux 12 (bookworm).
	Name string `json:"name,omitempty"`
	// ID and Version are those of os-release, or the edition and build of Windows.
	ID           string   `json:"id,omitempty"`
	Version      string   `json:"version,omitempty"`
	Architecture string   `json:"architecture,omitempty"`
	Kernels      []string `json:"kernels,omitempty"`
	Init         string   `json:"init,omitempty"`
	// Boot are the ways in which it boots: bios, uefi, secure-boot.
	Boot      []string   `json:"boot"`
	CloudInit *CloudInit `json:"cloud_init,omitempty"`
	// Agent, SSH and so on are the paths of these programs; empty where they are not there.
	Agent    string `json:"agent,omitempty"`
	SSH      string `json:"ssh,omitempty"`
	Sudo     string `json:"sudo,omitempty"`
	GrowPart string `json:"growpart,omitempty"`
	// Network lists what configures the network: netplan, ifupdown, NetworkManager, systemd-networkd, ifcfg.
	Network []string `json:"network,omitempty"`
	// Generalized reports that a Windows system was generalized.
	Generalized bool `json:"generalized,omitempty"`
	// Drivers of a Windows system for virtual hardware.
	Drivers []string `json:"drivers,omitempty"`
}

// CloudInit is the cloud-init of a system.
type CloudInit struct {
	Version string `json:"version,omitempty"`
	// Disabled says by what it is, if it is.
	Disabled string `json:"disabled,omitempty"`
	// Sources are the data sources that it may use; nil where all are.
	Sources []string `json:"sources,omitempty"`
	// Lacks are modules that answers need, and that are not among those that run.
	Lacks []string `json:"lacks,omitempty"`
}

// Leftover is something on the disk that clones are better without, or that they need and lack.
type Leftover struct {
	Severity finding.Severity `json:"severity"`
	// Code is a stable name of Checks.
	Code string `json:"code"`
	// Where are the first few places, and how many there are.
	Where []string `json:"where,omitempty"`
	Count int      `json:"count,omitempty"`
	Text  string   `json:"text"`
	// Remedy is what takes it away.
	Remedy string `json:"remedy"`
}

// Blocks reports whether something was found that keeps the disk from being a good template.
func (i *Inspection) Blocks() bool {
	return slices.ContainsFunc(i.Leftovers, func(l Leftover) bool { return l.Severity == finding.Error })
}

// mostRead bounds what is read of a disk that may be anything.
const mostRead = 2 << 30

// counted counts what is read, and ends when that is too much.
type counted struct {
	io.ReaderAt
	read int64
}

// ReadAt implements io.ReaderAt.
func (c *counted) ReadAt(p []byte, at int64) (int, error) {
	if c.read += int64(len(p)); c.read > mostRead {
		return 0, fmt.Errorf("more than %d bytes would have to be read: the disk is damaged", int64(mostRead))
	}
	return c.ReaderAt.ReadAt(p, at)
}

// Of inspects the disk that a system boots from.
func Of(d disk.Disk) (*Inspection, error) {
	reader := &counted{ReaderAt: d.ReaderAt}
	d.ReaderAt = reader
	i := &Inspection{System: System{Boot: []string{}}, Leftovers: []Leftover{}, Volumes: []Volume{}}
	table, parts, err := disk.Parts(d)
	i.Table = table
	if err != nil && len(parts) == 0 {
		return nil, err
	}
	if err != nil {
		i.add("unreadable", strings.Split(err.Error(), "\n")...)
	}
	g := &guest{mounts: map[string]fs.FS{}}
	var roots []int
	opened := make([]disk.FileSystem, len(parts))
	for n, p := range parts {
		v, err := p.Open()
		opened[n] = v
		about := Volume{Name: p.Name, Kind: p.Kind, Size: p.Size, FileSystem: v.Kind, Label: v.Label, UUID: v.UUID}
		if err != nil {
			about.Problem = err.Error()
			i.add("unreadable", p.Name+": "+err.Error())
		}
		if v.Unclean {
			i.add("unclean", p.Name)
		}
		if v.FS != nil && isRoot(v.FS) {
			roots = append(roots, n)
		}
		i.Volumes = append(i.Volumes, about)
	}
	if len(roots) == 0 {
		if hidden := unreadable(i.Volumes); hidden != "" {
			i.add("no-system", hidden)
		} else {
			i.add("no-system")
		}
	} else {
		g.mounts["/"] = opened[roots[0]].FS
		i.Volumes[roots[0]].Mount = "/"
		i.mount(g, opened)
		i.boot(d, g, parts, opened)
		if isWindows(opened[roots[0]].FS) {
			i.windows(g)
		} else {
			i.linux(g)
		}
	}
	i.Read = reader.read
	slices.SortStableFunc(i.Leftovers, func(a, b Leftover) int { return int(a.Severity) - int(b.Severity) })
	return i, nil
}

func isRoot(f fs.FS) bool {
	for _, name := range []string{"etc/os-release", "usr/lib/os-release"} {
		if _, err := fs.Lstat(f, name); err == nil {
			return true
		}
	}
	return isWindows(f)
}

func isWindows(f fs.FS) bool {
	_, err := fs.Lstat(f, "Windows/System32/config/SOFTWARE")
	return err == nil
}

// unreadable names the volumes that may hold a system and cannot be read.
func unreadable(all []Volume) string {
	var names []string
	for _, v := range all {
		if v.Problem != "" || slices.Contains([]string{"btrfs", "luks (encrypted)", "bitlocker (encrypted)"}, v.FileSystem) {
			names = append(names, v.Name+" ("+strings.TrimSuffix(strings.TrimPrefix(v.FileSystem, "luks ("), ")")+")")
		}
	}
	return strings.Join(names, ", ")
}

// mount finds the places of the other volumes (fstab(5)).
func (i *Inspection) mount(g *guest, opened []disk.FileSystem) {
	for _, line := range lines(g.text("/etc/fstab")) {
		fields := strings.Fields(line)
		if len(fields) < 3 || !strings.HasPrefix(fields[1], "/") || fields[1] == "/" {
			continue
		}
		for n, v := range i.Volumes {
			if v.Mount != "" || !isVolume(fields[0], v) {
				continue
			}
			i.Volumes[n].Mount = path.Clean(fields[1])
			if opened[n].FS != nil {
				g.mounts[path.Clean(fields[1])] = opened[n].FS
			}
			break
		}
	}
}

// isVolume reports whether a volume is what fstab calls so.
func isVolume(called string, v Volume) bool {
	called = strings.ReplaceAll(called, `"`, "")
	for _, by := range []string{"UUID=", "/dev/disk/by-uuid/"} {
		if id, is := strings.CutPrefix(called, by); is {
			return v.UUID != "" && strings.EqualFold(id, v.UUID)
		}
	}
	for _, by := range []string{"LABEL=", "/dev/disk/by-label/"} {
		if label, is := strings.CutPrefix(called, by); is {
			return v.Label != "" && label == v.Label
		}
	}
	if name, is := strings.CutPrefix(called, "/dev/mapper/"); is { // hyphens in names are doubled
		group, volume, _ := strings.Cut(v.Name, "/")
		return volume != "" && name == strings.ReplaceAll(group, "-", "--")+"-"+strings.ReplaceAll(volume, "-", "--")
	}
	if name, is := strings.CutPrefix(called, "/dev/"); is {
		for _, disk := range []string{"sda", "vda", "xvda", "nvme0n1p"} {
			if number, is := strings.CutPrefix(name, disk); is {
				return number == v.Name
			}
		}
		return name == v.Name
	}
	return false
}

// boot finds out in which ways the disk boots.
func (i *Inspection) boot(d disk.Disk, g *guest, parts []disk.Part, opened []disk.FileSystem) {
	hasCore := false
	for n, p := range parts {
		hasCore = hasCore || p.Kind == disk.BIOS
		if p.Kind != disk.ESP || opened[n].FS == nil {
			continue
		}
		esp := &guest{mounts: map[string]fs.FS{"/": opened[n].FS}}
		if len(esp.glob("/EFI/*/*.efi")) > 0 {
			i.System.Boot = append(i.System.Boot, "uefi")
			if len(esp.glob("/EFI/*/shim*.efi"))+len(esp.glob("/EFI/Microsoft/Boot/bootmgfw.efi")) > 0 {
				i.System.Boot = append(i.System.Boot, "secure-boot")
			}
		}
	}
	if disk.Boots(d) && (i.Table == disk.MBR || hasCore) {
		i.System.Boot = append([]string{"bios"}, i.System.Boot...)
	}
}
