package ovf

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/beevik/etree"

	"mintbatch/internal/core/machine"
)

// The bounds of what is read into memory of a description that may be anything.
const (
	mostText = 8 << 20
	mostOf   = 1024 // files, disks, resources
)

// Parse reads a description. A package has one machine; a collection of several is refused.
func Parse(text []byte) (*Machine, error) {
	if len(text) > mostText {
		return nil, bad("a description of %d bytes", len(text))
	}
	doc := etree.NewDocument()
	doc.ReadSettings.ValidateInput = true
	if err := doc.ReadFromBytes([]byte(strings.TrimSpace(string(text)))); err != nil {
		return nil, bad("its description is no XML: %s", err)
	}
	root := doc.Root()
	if root == nil || root.Tag != "Envelope" {
		return nil, bad("its description has no Envelope")
	}
	if root.SelectElement("VirtualSystemCollection") != nil {
		return nil, bad("it has several machines")
	}
	system := root.SelectElement("VirtualSystem")
	if system == nil {
		return nil, bad("it has no VirtualSystem")
	}
	p := parser{root: root, m: &Machine{Name: strings.TrimSpace(cmp.Or(textOf(system, "Name"), attr(system, "id")))}, files: map[string]*etree.Element{}, disks: map[string]Disk{}}
	for _, read := range []func() error{p.readFiles, p.readDisks, func() error { return p.readSystem(system) }} {
		if err := read(); err != nil {
			return nil, err
		}
	}
	for _, section := range slices.Concat(root.ChildElements(), system.ChildElements()) { // DSP0243, clause 8: who does not know it must not go on
		known := []string{"References", "DiskSection", "NetworkSection", "VirtualSystem", "Strings", "Info", "Name", "OperatingSystemSection", "VirtualHardwareSection", "ProductSection", "AnnotationSection", "EulaSection", "DeploymentOptionSection", "StartupSection", "InstallSection", "BootOrderSection"}
		if strings.HasSuffix(section.Tag, "Section") && !slices.Contains(known, section.Tag) {
			if attr(section, "required") != "false" {
				return nil, bad("it needs that its %s is understood, which is not known", section.Tag)
			}
			p.remark("its %s is not known and was not taken", section.Tag)
		}
	}
	return p.m, nil
}

type parser struct {
	root  *etree.Element
	m     *Machine
	files map[string]*etree.Element
	disks map[string]Disk
}

func (p *parser) remark(format string, args ...any) {
	p.m.Remarks = append(p.m.Remarks, fmt.Sprintf(format, args...))
}

// attr is an attribute, whatever its name space.
func attr(e *etree.Element, name string) string {
	for _, a := range e.Attr {
		if a.Key == name && a.Space != "xmlns" {
			return strings.TrimSpace(a.Value)
		}
	}
	return ""
}

func textOf(e *etree.Element, name string) string {
	if c := e.SelectElement(name); c != nil {
		return strings.TrimSpace(c.Text())
	}
	return ""
}

// readFiles reads what files there are (7.1).
func (p *parser) readFiles() error {
	for _, f := range p.root.FindElements("./References/File") {
		id, name := attr(f, "id"), attr(f, "href")
		switch {
		case id == "" || p.files[id] != nil:
			return bad("a file without an id of its own: %q", name)
		case name == "" || strings.ContainsAny(name, "\\\x00") || strings.Contains(name, ":") || strings.HasPrefix(name, "/") || slices.Contains(strings.Split(name, "/"), ".."):
			return bad("the file %q, which is not beside the description", name)
		case len(p.files) == mostOf:
			return bad("more than %d files", mostOf)
		}
		p.files[id] = f
	}
	return nil
}

// readDisks reads what disks there are (9.1).
func (p *parser) readDisks() error {
	for _, d := range p.root.FindElements("./DiskSection/Disk") {
		id := attr(d, "diskId")
		if _, twice := p.disks[id]; id == "" || twice || len(p.disks) == mostOf {
			return bad("a disk without an id of its own: %q", id)
		}
		if attr(d, "parentRef") != "" {
			return bad("disk %s is a child of another disk", id)
		}
		disk := Disk{ID: id, Format: attr(d, "format")}
		if capacity := attr(d, "capacity"); !strings.HasPrefix(capacity, "${") && capacity != "" {
			size, err := bytes(capacity, attr(d, "capacityAllocationUnits"))
			if err != nil {
				return fmt.Errorf("disk %s: %w", id, err)
			}
			disk.Size = machine.Size(size)
		}
		if ref := attr(d, "fileRef"); ref != "" {
			f := p.files[ref]
			if f == nil {
				return bad("disk %s is in the file %s, which is not listed", id, ref)
			}
			if err := disk.setFile(f); err != nil {
				return err
			}
		}
		p.disks[id] = disk
	}
	return nil
}

func (d *Disk) setFile(f *etree.Element) error {
	d.File, d.chunks = attr(f, "href"), attr(f, "chunkSize") != ""
	if packed := attr(f, "compression"); packed != "identity" {
		d.Packed = packed
	}
	if size := attr(f, "size"); size != "" {
		n, err := strconv.ParseInt(size, 10, 64)
		if err != nil || n < 0 {
			return bad("the file %s of %q bytes", d.File, size)
		}
		d.Length = n
	}
	return nil
}

// readSystem reads the machine (clause 8 and 9).
func (p *parser) readSystem(system *etree.Element) error {
	m := p.m
	for _, n := range p.root.FindElements("./NetworkSection/Network") {
		m.Networks = append(m.Networks, attr(n, "name"))
	}
	if s := system.SelectElement("OperatingSystemSection"); s != nil {
		m.System = textOf(s, "Description")
	}
	if s := system.SelectElement("AnnotationSection"); s != nil {
		m.Notes = textOf(s, "Annotation")
	}
	for _, s := range system.SelectElements("ProductSection") {
		if m.Product.Name == "" {
			m.Product = Product{textOf(s, "Product"), textOf(s, "Vendor"), cmp.Or(textOf(s, "Version"), textOf(s, "FullVersion"))}
		}
		prefix := attr(s, "class")
		for _, e := range s.SelectElements("Property") {
			key := attr(e, "key")
			if prefix != "" {
				key = prefix + "." + key
			}
			if instance := attr(s, "instance"); instance != "" {
				key += "." + instance
			}
			m.Properties = append(m.Properties, Property{key, attr(e, "type"), attr(e, "value"), textOf(e, "Label")})
		}
	}
	sections := system.SelectElements("VirtualHardwareSection")
	if len(sections) == 0 {
		return bad("it describes no hardware")
	}
	if len(sections) > 1 {
		p.remark("it describes several kinds of hardware; the first was taken")
	}
	return p.readHardware(sections[0])
}

// place is where a disk is connected.
type place struct {
	parent string
	on     int
}

// readHardware reads the resources of a machine (DSP0243, 8.1 to 8.3).
func (p *parser) readHardware(section *etree.Element) error {
	places := map[string]place{}
	items := slices.Concat(section.SelectElements("Item"), section.SelectElements("StorageItem"), section.SelectElements("EthernetPortItem"))
	if len(items) > mostOf {
		return bad("more than %d resources", mostOf)
	}
	for _, item := range items {
		if c := attr(item, "configuration"); c != "" { // of another size of the same machine
			if section := p.root.SelectElement("DeploymentOptionSection"); section != nil && !isDefault(section, c) {
				continue
			}
		}
		if attr(item, "bound") != "" { // a limit, not a value
			continue
		}
		kind, err := strconv.Atoi(textOf(item, "ResourceType"))
		if err != nil {
			return bad("a resource without a type: %s", textOf(item, "ElementName"))
		}
		if err := p.readItem(item, kind, places); err != nil {
			return err
		}
	}
	for _, c := range section.FindElements("./Config") {
		if attr(c, "key") == "firmware" {
			p.m.Firmware = map[string]machine.Firmware{"efi": machine.UEFI, "bios": machine.BIOS}[strings.ToLower(attr(c, "value"))]
		}
	}
	slices.SortStableFunc(p.m.Disks, func(a, b Disk) int {
		return cmp.Or(cmp.Compare(places[a.ID].parent, places[b.ID].parent), cmp.Compare(places[a.ID].on, places[b.ID].on))
	})
	return nil
}

// isDefault reports whether a size of the machine is that which is taken if none is chosen.
func isDefault(section *etree.Element, names string) bool {
	all := section.SelectElements("Configuration")
	if len(all) == 0 {
		return false
	}
	chosen := attr(all[0], "id")
	for _, c := range all {
		if attr(c, "default") == "true" {
			chosen = attr(c, "id")
		}
	}
	return slices.Contains(strings.Fields(names), chosen)
}

func (p *parser) readItem(item *etree.Element, kind int, places map[string]place) error {
	m, quantity := p.m, textOf(item, "VirtualQuantity")
	switch kind {
	case typeCPU:
		n, err := strconv.Atoi(quantity)
		if err != nil || n < 1 || n > 1<<16 {
			return bad("%q CPUs", quantity)
		}
		m.CPUs = n
	case typeMemory:
		n, err := bytes(quantity, textOf(item, "AllocationUnits"))
		if err != nil {
			return fmt.Errorf("its memory: %w", err)
		}
		m.Memory = machine.Size(n)
	case typeCard:
		address := ""
		if mac, err := machine.ParseMAC(textOf(item, "Address")); err == nil {
			address = mac
		}
		m.Cards = append(m.Cards, Card{textOf(item, "Connection"), address, textOf(item, "ResourceSubType")})
	case typeDisk:
		from := textOf(item, "HostResource")
		scheme, id, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(from, "ovf:"), "/"), "/")
		disk, is := p.disks[id]
		if scheme == "file" {
			f := p.files[id]
			if f == nil {
				return bad("a disk in the file %s, which is not listed", id)
			}
			disk, is = Disk{ID: id}, true
			if err := disk.setFile(f); err != nil {
				return err
			}
		}
		if !is {
			return bad("the disk %q, which is not listed", from)
		}
		if slices.ContainsFunc(m.Disks, func(d Disk) bool { return d.ID == id }) {
			return bad("the disk %s is connected twice", id)
		}
		m.Disks = append(m.Disks, disk)
		on, _ := strconv.Atoi(textOf(item, "AddressOnParent"))
		places[id] = place{textOf(item, "Parent"), on}
	case typeCD, typeIDE, typeSCSI, typeSATA:
	default:
		if attr(item, "required") == "true" {
			p.remark("its %s was not taken, which it says that it needs", cmp.Or(textOf(item, "ElementName"), fmt.Sprintf("resource of type %d", kind)))
		}
	}
	return nil
}
