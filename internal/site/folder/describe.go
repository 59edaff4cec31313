package folder

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/ovf"
)

// descriptions are the kinds of descriptions: how their files end, and what is in them.
var descriptions = []struct {
	kind   Description
	ending string
	write  func(m *folder) []byte
}{{OVF, ".ovf", ovfOf}, {Libvirt, ".xml", libvirtOf}}

// describeAgain writes the descriptions of a machine that people find.
func (s *Site) describeAgain(m *folder) error {
	if !m.placed() {
		return nil
	}
	return s.writeDescriptions(m)
}

// writeDescriptions writes those that the setup asks for, as far as they are not as they should be.
func (s *Site) writeDescriptions(m *folder) error {
	for _, d := range descriptions {
		if !slices.Contains(s.Describe, d.kind) {
			continue
		}
		path, text := m.path(m.Name+d.ending), d.write(m)
		if is, err := readText(path); err == nil && bytes.Equal(is, text) {
			continue
		}
		if err := writeFile(path, 0o644, func(w io.Writer) error { _, err := w.Write(text); return err }); err != nil {
			return err
		}
	}
	return nil
}

// images are those of CD drives that are there.
func (m *folder) images() (all []string) {
	for _, name := range []string{m.seedName(), m.filesName()} {
		if _, err := os.Stat(m.path(name)); err == nil {
			all = append(all, name)
		}
	}
	return all
}

// sizes are those of its disks, its own first.
func (m *folder) sizes() (all []machine.Size) {
	all = []machine.Size{m.Disk}
	for _, d := range m.Disks {
		all = append(all, d.Size)
	}
	return all
}

// The hardware of a machine of which neither row nor template says any.
const (
	usualCPUs   = 1
	usualMemory = machine.GiB
)

func ovfOf(m *folder) []byte {
	o := ovf.Machine{Name: m.Name, CPUs: cmp.Or(m.CPUs, usualCPUs), Memory: cmp.Or(m.Memory, usualMemory), Firmware: m.Firmware, Notes: m.Mark.Notes, Images: m.images()}
	for n, size := range m.sizes() {
		o.Disks = append(o.Disks, ovf.Disk{File: m.diskName(n), Size: size, Format: ovf.FormatURI(m.Format)})
	}
	for _, c := range m.Cards {
		if !slices.Contains(o.Networks, c.Network) {
			o.Networks = append(o.Networks, c.Network)
		}
		o.Cards = append(o.Cards, ovf.Card{Network: c.Network, MAC: c.MAC, Model: c.Model})
	}
	return o.Describe()
}

// drivers are the names that QEMU has for formats.
var drivers = map[string]string{"vhd": "vpc"}

// libvirtOf is a domain of libvirt. Its disks are named by where they are: libvirt knows no other way.
func libvirtOf(m *folder) []byte {
	var b strings.Builder
	text := func(s string) string {
		var e strings.Builder
		_ = xml.EscapeText(&e, []byte(s)) // of a builder
		return e.String()
	}
	dir := m.dir
	if !m.placed() {
		dir = filepath.Join(filepath.Dir(m.dir), m.Name)
	}
	if whole, err := filepath.Abs(dir); err == nil {
		dir = whole
	}
	at := func(name string) string { return text(filepath.Join(dir, name)) }
	firmware := ""
	if m.Firmware == machine.UEFI {
		firmware = " firmware='efi'"
	}
	hardware := machine.Hardware{}
	if m.Hardware != nil {
		hardware = *m.Hardware
	}
	board := ""
	for _, a := range [][2]string{{"arch", hardware.Arch}, {"machine", hardware.Board}} {
		if a[1] != "" {
			board += fmt.Sprintf(" %s='%s'", a[0], text(a[1]))
		}
	}
	fmt.Fprintf(&b, "<domain type='%s'>\n  <name>%s</name>\n  <uuid>%s</uuid>\n", cmp.Or(hardware.Emulator, "kvm"), text(m.Name), m.ID)
	fmt.Fprintf(&b, "  <memory unit='KiB'>%d</memory>\n  <vcpu>%d</vcpu>\n  <os%s>\n    <type%s>hvm</type>\n    <boot dev='hd'/>\n  </os>\n", int64(cmp.Or(m.Memory, usualMemory))>>10, cmp.Or(m.CPUs, usualCPUs), firmware, board)
	if cpu := hardware.CPU; slices.Contains([]string{"host-model", "host-passthrough", "maximum"}, cpu) {
		fmt.Fprintf(&b, "  <cpu mode='%s'/>\n", cpu)
	} else if cpu != "" {
		fmt.Fprintf(&b, "  <cpu mode='custom'>\n    <model>%s</model>\n  </cpu>\n", text(cpu))
	}
	b.WriteString("  <features>\n    <acpi/>\n    <apic/>\n  </features>\n  <devices>\n")
	for n := range m.sizes() {
		fmt.Fprintf(&b, "    <disk type='file' device='disk'>\n      <driver name='qemu' type='%s'/>\n      <source file='%s'/>\n      <target dev='vd%c' bus='virtio'/>\n    </disk>\n", cmp.Or(drivers[m.Format], m.Format), at(m.diskName(n)), 'a'+rune(n%26))
	}
	for n, name := range m.images() {
		fmt.Fprintf(&b, "    <disk type='file' device='cdrom'>\n      <driver name='qemu' type='raw'/>\n      <source file='%s'/>\n      <target dev='sd%c' bus='sata'/>\n      <readonly/>\n    </disk>\n", at(name), 'a'+rune(n))
	}
	for _, c := range m.Cards {
		link := ""
		if c.Unplugged {
			link = "      <link state='down'/>\n"
		}
		fmt.Fprintf(&b, "    <interface type='network'>\n      <mac address='%s'/>\n      <source network='%s'/>\n      <model type='%s'/>\n%s    </interface>\n", text(c.MAC), text(c.Network), text(cmp.Or(c.Model, "virtio")), link)
	}
	b.WriteString("    <serial type='pty'/>\n    <console type='pty'/>\n    <channel type='unix'>\n      <target type='virtio' name='org.qemu.guest_agent.0'/>\n    </channel>\n    <video>\n      <model type='vga'/>\n    </video>\n  </devices>\n</domain>\n")
	return []byte(b.String())
}

// describedAs says which description of a machine is not as its mark says; empty if all are.
func (s *Site) describedAs(m *folder) string {
	for _, d := range descriptions {
		if !slices.Contains(s.Describe, d.kind) {
			continue
		}
		is, err := readText(m.path(m.Name + d.ending))
		switch {
		case errors.Is(err, os.ErrNotExist):
			return fmt.Sprintf("its description %s%s is missing; `mintbatch verify --describe %s` writes it anew", m.Name, d.ending, m.Name)
		case err != nil:
			return fmt.Sprintf("its description cannot be read: %s", err)
		case !bytes.Equal(is, d.write(m)):
			return fmt.Sprintf("its description %s%s was changed; `mintbatch verify --describe %s` writes it anew", m.Name, d.ending, m.Name)
		}
	}
	return ""
}
