// Package ovf reads and writes descriptions of machines in the Open Virtualization Format (DMTF DSP0243, version 1.1).
package ovf

import (
	"errors"
	"fmt"

	"mintbatch/internal/core/machine"
)

// ErrPackage is what every failure to understand a package unwraps to.
var ErrPackage = errors.New("not an OVF package that can be read")

func bad(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrPackage, fmt.Sprintf(format, args...))
}

// Machine is a machine that is described.
type Machine struct {
	Name     string           `json:"name"`
	System   string           `json:"system,omitempty"` // in words
	CPUs     int              `json:"cpus"`
	Memory   machine.Size     `json:"memory"`
	Firmware machine.Firmware `json:"firmware,omitempty"`
	// Disks are those of the machine, the one that it starts from first.
	Disks []Disk `json:"disks"`
	// Images are the files of CD drives.
	Images   []string `json:"images,omitempty"`
	Networks []string `json:"networks,omitempty"`
	Cards    []Card   `json:"cards,omitempty"`
	Product  Product  `json:"product,omitzero"`
	Notes    string   `json:"notes,omitempty"`
	// Properties are what the machine can be told at its first start.
	Properties []Property `json:"properties,omitempty"`
	// Remarks are about what is there and was not understood, or not taken.
	Remarks []string `json:"remarks,omitempty"`
}

// Disk is a disk of a machine.
type Disk struct {
	ID   string       `json:"id"`
	Size machine.Size `json:"size"` // as a guest sees it; 0 where that is not told
	// File is the name of its image; empty for a disk without content.
	File string `json:"file,omitempty"`
	// Length is that of the file in bytes; 0 where that is not told.
	Length int64 `json:"length,omitempty"`
	// Format is a URI, and Packed says how the file is compressed as a whole.
	Format string `json:"format,omitempty"`
	Packed string `json:"packed,omitempty"`

	chunks bool
}

// Card is a network adapter.
type Card struct {
	Network string `json:"network"`
	MAC     string `json:"mac,omitempty"`
	Model   string `json:"model,omitempty"`
}

// Product is what a package says that it is.
type Product struct {
	Name    string `json:"name,omitempty"`
	Vendor  string `json:"vendor,omitempty"`
	Version string `json:"version,omitempty"`
}

// Property is one of the values of DSP0243, 9.5.1.
type Property struct {
	Key   string `json:"key"`
	Type  string `json:"type,omitempty"`
	Value string `json:"value,omitempty"`
	Label string `json:"label,omitempty"`
}

// The kinds of resources that count (CIM_ResourceAllocationSettingData).
const (
	typeCPU    = 3
	typeMemory = 4
	typeIDE    = 5
	typeSCSI   = 6
	typeCard   = 10
	typeCD     = 15
	typeDisk   = 17
	typeSATA   = 20
)

// The URIs of formats of disk images.
const (
	streamFormat = "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"
	vmdkFormat   = "http://www.vmware.com/interfaces/specifications/vmdk.html"
	vhdFormat    = "http://go.microsoft.com/fwlink/p/?linkid=137171"
	vhdxFormat   = "https://learn.microsoft.com/openspecs/windows_protocols/ms-vhdx"
	qcow2Format  = "https://www.qemu.org/docs/master/interop/qcow2.html"
	rawFormat    = "https://www.qemu.org/docs/master/system/images.html#raw"
)

// FormatURI is the URI of a format, by its name here, or `stream` for that which packages have.
func FormatURI(format string) string {
	return map[string]string{"stream": streamFormat, "vmdk": vmdkFormat, "vhd": vhdFormat, "vhdx": vhdxFormat, "qcow2": qcow2Format, "raw": rawFormat}[format]
}

// Readable is an error if the file of a disk is stored in a way that is not read here.
func (d Disk) Readable() error {
	switch {
	case d.Packed != "":
		return bad("%s is compressed as a whole (%s); unpack it first", d.File, d.Packed)
	case d.chunks:
		return bad("%s is in several chunks; join them first", d.File)
	}
	return nil
}
