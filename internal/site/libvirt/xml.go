package libvirt

import (
	"cmp"
	"fmt"
	"math"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/beevik/etree"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
	"mintbatch/internal/site"
)

// definition is a domain's XML. What is not asked about stays as it was found.
type definition struct {
	doc  *etree.Document
	root *etree.Element
}

func parseDefinition(text string) (*definition, error) {
	doc, err := parse(text, "domain", "the machine")
	if err != nil {
		return nil, err
	}
	return &definition{doc, doc.Root()}, nil
}

// parse reads one of libvirt's descriptions; tag is that of its outermost
// element, what is described.
func parse(text, tag, what string) (*etree.Document, error) {
	doc := etree.NewDocument()
	if err := doc.ReadFromString(text); err != nil {
		return nil, fmt.Errorf("libvirt's description of %s cannot be read: %w", what, err)
	}
	if doc.Root() == nil || doc.Root().Tag != tag {
		return nil, fmt.Errorf("libvirt's description of %s has no <%s>", what, tag)
	}
	return doc, nil
}

// String is the XML that libvirt is given.
func (d *definition) String() string {
	text, err := d.doc.WriteToString()
	if err != nil { // nothing but memory is written to
		panic(err)
	}
	return text
}

// child finds an element below another, by the tags on the way, and makes what
// is missing of it.
func child(e *etree.Element, tags ...string) *etree.Element {
	for _, tag := range tags {
		next := e.SelectElement(tag)
		if next == nil {
			next = e.CreateElement(tag)
		}
		e = next
	}
	return e
}

// text gives an element below another its text.
func text(e *etree.Element, value string, tags ...string) { child(e, tags...).SetText(value) }

// without takes all elements of a path away.
func without(e *etree.Element, path string) {
	for _, found := range e.FindElements(path) {
		found.Parent().RemoveChild(found)
	}
}

// textAt and attr read without making anything.
func textAt(e *etree.Element, path string) string {
	if found := e.FindElement(path); found != nil {
		return found.Text()
	}
	return ""
}

func attr(e *etree.Element, path, name string) string {
	if found := e.FindElement(path); found != nil {
		return found.SelectAttrValue(name, "")
	}
	return ""
}

func (d *definition) devices() *etree.Element { return child(d.root, "devices") }

// identify makes the definition that of another machine: nothing of the
// identity of the one it was taken from stays.
func (d *definition) identify(name string, id uuid.UUID) {
	text(d.root, name, "name")
	text(d.root, id.String(), "uuid")
	for _, path := range []string{"./title", "./description", "./metadata/*[namespace-prefix()='" + prefix + "']", "./devices/interface/mac",
		"./devices/interface/target", "./devices/graphics/listen[@socket]", "./devices/channel/source"} {
		without(d.root, path)
	}
	for _, e := range d.root.FindElements("./devices/*/alias") {
		if !strings.HasPrefix(e.SelectAttrValue("name", ""), userAlias) {
			e.Parent().RemoveChild(e)
		}
	}
	d.renew(id)
	d.separate(id)
	d.ownNVRAM(name, id)
}

// userAlias begins the aliases that somebody has given, to which other parts of the
// definition may refer; all others are libvirt's own.
const userAlias = "ua-"

// renew gives the machine its own of what tells machines apart: the id of its
// generation, serial numbers and asset tags of the firmware's tables, its address for
// its host.
func (d *definition) renew(id uuid.UUID) {
	for _, e := range d.root.FindElements("./genid") {
		e.SetText(uuid.NewSHA1(id, []byte("genid")).String())
	}
	for _, e := range d.root.FindElements("./sysinfo//entry") {
		switch e.SelectAttrValue("name", "") {
		case "uuid", "serial", "asset":
			e.SetText(id.String())
		}
	}
	for _, e := range d.root.FindElements("./devices/vsock/cid") {
		e.CreateAttr("auto", "yes")
		e.RemoveAttr("address")
	}
}

// ownNVRAM gives the machine a copy of the NVRAM, which libvirt makes at its
// first start. Where libvirt chooses the firmware itself and has not said which,
// the machine gets a fresh one.
func (d *definition) ownNVRAM(name string, id uuid.UUID) {
	system := child(d.root, "os")
	for _, nvram := range system.SelectElements("nvram") {
		file, loader := strings.TrimSpace(nvram.Text()), system.SelectElement("loader")
		if file == "" || loader == nil || strings.TrimSpace(loader.Text()) == "" {
			system.RemoveChild(nvram)
			continue
		}
		nvram.CreateAttr("template", file)
		nvram.SetText(path.Join(path.Dir(file), name+"."+id.String()+"_VARS.fd"))
		// libvirt takes either its own choice of firmware or another's template.
		system.RemoveAttr("firmware")
		without(system, "./firmware")
	}
}

// separate gives the machine its own of what only one at a time can have: the
// port of its screen, the files and sockets behind its serial ports.
func (d *definition) separate(id uuid.UUID) {
	for _, g := range d.devices().SelectElements("graphics") {
		for _, name := range []string{"port", "tlsPort", "websocket"} {
			if g.SelectAttr(name) != nil {
				g.CreateAttr(name, "-1")
			}
		}
		g.CreateAttr("autoport", "yes")
	}
	for _, tag := range []string{"serial", "parallel", "console"} {
		for _, e := range d.devices().SelectElements(tag) {
			switch e.SelectAttrValue("type", "pty") {
			case "file":
				source := child(e, "source")
				source.CreateAttr("path", source.SelectAttrValue("path", "")+"."+id.String())
			case "tcp", "udp", "unix":
				e.CreateAttr("type", "pty")
				without(e, "./source")
				without(e, "./protocol")
			}
			for _, log := range e.SelectElements("log") {
				log.CreateAttr("file", log.SelectAttrValue("file", "")+"."+id.String())
			}
		}
	}
}

// disks are the machine's disks, CD drives left out: that from which it boots is the
// first one, the others follow in the order of its XML.
func (d *definition) disks() []*etree.Element {
	var all []*etree.Element
	for _, e := range d.devices().SelectElements("disk") {
		if kind := e.SelectAttrValue("device", "disk"); kind == "disk" || kind == "lun" {
			all = append(all, e)
		}
	}
	slices.SortStableFunc(all, func(a, b *etree.Element) int { return cmp.Compare(bootOrder(a), bootOrder(b)) })
	return all
}

// bootOrder is when a device is booted from; one without an order comes last.
func bootOrder(device *etree.Element) int {
	n, err := strconv.Atoi(attr(device, "./boot", "order"))
	if err != nil {
		return math.MaxInt
	}
	return n
}

// diskFile is the file of a disk, or why it is none that can be cloned.
func diskFile(disk *etree.Element) (string, error) {
	switch kind := disk.SelectAttrValue("type", ""); kind {
	case "file":
		return attr(disk, "./source", "file"), nil
	case "block":
		return attr(disk, "./source", "dev"), nil
	case "volume":
		return "", nil
	default:
		return "", fmt.Errorf("%w: its disk %s is of the type %s, which cannot be cloned", site.ErrRefused, attr(disk, "./target", "dev"), kind)
	}
}

// setDiskFile points a disk at a file of its own.
func setDiskFile(disk *etree.Element, file, format string) {
	disk.CreateAttr("type", "file")
	disk.CreateAttr("device", "disk")
	for _, gone := range []string{"./source", "./backingStore", "./readonly", "./shareable", "./serial", "./wwn"} {
		without(disk, gone)
	}
	child(disk, "source").CreateAttr("file", file)
	driver := child(disk, "driver")
	driver.CreateAttr("name", "qemu")
	driver.CreateAttr("type", format)
}

// eject empties the CD and floppy drives: what the template was built from, or
// told by, is no business of its clones.
func (d *definition) eject() {
	for _, e := range d.devices().SelectElements("disk") {
		if kind := e.SelectAttrValue("device", "disk"); kind == "cdrom" || kind == "floppy" {
			e.CreateAttr("type", "file")
			without(e, "./source")
			without(e, "./backingStore")
		}
	}
}

// bootFromDisk makes the disk the first thing to boot from; what else the template
// boots from comes behind it, in the order that it had.
func (d *definition) bootFromDisk() {
	if ordered := d.root.FindElements("./devices/*[boot]"); len(ordered) > 0 {
		without(d.root, "./os/boot") // libvirt takes one way to tell or the other
		disk := d.disks()[:min(1, len(d.disks()))]
		slices.SortStableFunc(ordered, func(a, b *etree.Element) int { return cmp.Compare(bootOrder(a), bootOrder(b)) })
		n := 0
		for _, e := range append(disk, slices.DeleteFunc(ordered, func(e *etree.Element) bool { return len(disk) > 0 && e == disk[0] })...) {
			n++
			child(e, "boot").CreateAttr("order", strconv.Itoa(n))
		}
		return
	}
	system := child(d.root, "os")
	others := []string{"hd"}
	for _, b := range system.SelectElements("boot") {
		if dev := b.SelectAttrValue("dev", ""); !slices.Contains(others, dev) {
			others = append(others, dev)
		}
		system.RemoveChild(b)
	}
	for _, dev := range others {
		system.CreateElement("boot").CreateAttr("dev", dev)
	}
}

// agentChannel is the name by which guest and host know the agent's channel.
const agentChannel = "org.qemu.guest_agent.0"

// addAgent gives the machine the channel of the guest agent, unless it has it.
func (d *definition) addAgent() {
	if d.root.FindElement("./devices/channel/target[@name='"+agentChannel+"']") != nil {
		return
	}
	c := d.devices().CreateElement("channel")
	c.CreateAttr("type", "unix")
	t := c.CreateElement("target")
	t.CreateAttr("type", "virtio")
	t.CreateAttr("name", agentChannel)
}

// setFirmware chooses what starts the machine.
func (d *definition) setFirmware(f machine.Firmware) {
	if f == "" || f == d.firmware() {
		return
	}
	system := child(d.root, "os")
	for _, gone := range []string{"./loader", "./nvram", "./firmware"} {
		without(system, gone)
	}
	system.RemoveAttr("firmware")
	if f == machine.UEFI {
		system.CreateAttr("firmware", "efi")
	}
}

// setSecureBoot chooses UEFI firmware that starts only what is signed, or such that starts
// anything (libvirt: "Domain XML format", BIOS bootloader).
func (d *definition) setSecureBoot(on machine.Switch) {
	if on == "" {
		return
	}
	d.setFirmware(machine.UEFI)
	system, is := child(d.root, "os"), map[bool]string{true: "yes", false: "no"}[on == machine.SwitchOn]
	if on == machine.SwitchOn {
		child(d.root, "os", "loader").CreateAttr("secure", "yes")
		child(d.root, "features", "smm").CreateAttr("state", "on")
	}
	firmware := child(system, "firmware")
	for _, name := range []string{"secure-boot", "enrolled-keys"} {
		f := firmware.CreateElement("feature")
		f.CreateAttr("enabled", is)
		f.CreateAttr("name", name)
	}
}

func (d *definition) firmware() machine.Firmware {
	system := child(d.root, "os")
	if system.SelectAttrValue("firmware", "") == "efi" || attr(system, "./loader", "type") == "pflash" {
		return machine.UEFI
	}
	return machine.BIOS
}

// setCPUs sets the number of CPUs, spread over some sockets; 0 leaves either as
// it is. It reports whether anything changed.
func (d *definition) setCPUs(cpus, sockets int) bool {
	before := d.String()
	same := cpus == 0 || cpus == d.cpus()
	if same && sockets == 0 {
		return false // as the template has it, to the letter
	}
	if same { // the topology is that of all CPUs, plugged in or not
		cpus, _ = strconv.Atoi(strings.TrimSpace(child(d.root, "vcpu").Text()))
		cpus = max(cpus, 1)
	} else {
		d.adaptCPUs(cpus)
	}
	topology := d.root.FindElement("./cpu/topology")
	if sockets == 0 && topology != nil {
		sockets, _ = strconv.Atoi(topology.SelectAttrValue("sockets", "1"))
		dies, _ := strconv.Atoi(topology.SelectAttrValue("dies", "1"))
		cores, _ := strconv.Atoi(topology.SelectAttrValue("cores", "1"))
		threads, _ := strconv.Atoi(topology.SelectAttrValue("threads", "1"))
		if sockets*max(dies, 1)*cores*threads == cpus {
			return before != d.String()
		}
	}
	if sockets > 0 {
		if cpus%sockets != 0 {
			sockets = 1
		}
		topology = child(d.root, "cpu", "topology")
		for name, n := range map[string]int{"sockets": sockets, "cores": cpus / sockets, "threads": 1} {
			topology.CreateAttr(name, strconv.Itoa(n))
		}
		topology.RemoveAttr("dies")
		topology.RemoveAttr("clusters")
	}
	return before != d.String()
}

// adaptCPUs makes what speaks of single CPUs fit another number of them.
func (d *definition) adaptCPUs(cpus int) {
	vcpu := child(d.root, "vcpu")
	vcpu.SetText(strconv.Itoa(cpus))
	vcpu.RemoveAttr("current")
	without(d.root, "./vcpus")
	for _, e := range d.root.FindElements("./cputune/vcpupin") {
		if n, err := strconv.Atoi(e.SelectAttrValue("vcpu", "")); err != nil || n >= cpus {
			e.Parent().RemoveChild(e)
		}
	}
	if cell := d.root.FindElement("./cpu/numa/cell"); cell != nil { // the only one, else it was refused
		cell.CreateAttr("cpus", fmt.Sprintf("0-%d", cpus-1))
	}
}

// fits refuses another number of CPUs, or another size of memory, where that cannot
// be spread as the template has spread its own.
func (d *definition) fits(cpus int, memory machine.Size) error {
	more, other := cpus > 0 && cpus != d.cpus(), memory > 0 && memory != d.memory()
	refuse := func(what string) error {
		return fmt.Errorf("%w: %s requires %d CPUs and %s of memory; keep the template's cpus and memory, or prepare another template", site.ErrRefused, what, d.cpus(), d.memory())
	}
	if cells := d.root.FindElements("./cpu/numa/cell"); (more || other) && len(cells) > 1 {
		return refuse(fmt.Sprintf("its layout of %d NUMA cells", len(cells)))
	}
	for _, path := range []string{"./cputune/vcpusched", "./cputune/cachetune", "./cputune/memorytune"} {
		if more && d.root.FindElement(path) != nil {
			return refuse("its <" + strings.TrimPrefix(path, "./cputune/") + ">")
		}
	}
	return nil
}

// cpus are those that the guest starts with.
func (d *definition) cpus() int {
	vcpu := child(d.root, "vcpu")
	n, err := strconv.Atoi(vcpu.SelectAttrValue("current", ""))
	if err != nil {
		n, _ = strconv.Atoi(strings.TrimSpace(vcpu.Text()))
	}
	return max(n, 1)
}

// setMemory sets the memory and reports whether that changed anything.
func (d *definition) setMemory(m machine.Size) bool {
	if m == 0 || m == d.memory() {
		return false
	}
	for _, tag := range []string{"memory", "currentMemory"} {
		e := child(d.root, tag)
		e.CreateAttr("unit", "KiB")
		e.SetText(strconv.FormatInt(int64(m/machine.KiB), 10))
	}
	if cell := d.root.FindElement("./cpu/numa/cell"); cell != nil { // the only one, else it was refused
		cell.CreateAttr("unit", "KiB")
		cell.CreateAttr("memory", strconv.FormatInt(int64(m/machine.KiB), 10))
	}
	if most := d.root.FindElement("./maxMemory"); most != nil && sizeOf(most) < m {
		most.CreateAttr("unit", "KiB")
		most.SetText(strconv.FormatInt(int64(m/machine.KiB), 10))
	}
	return true
}

// memory reads a size with its unit (libvirt: "Domain XML format", memory).
func (d *definition) memory() machine.Size { return sizeOf(child(d.root, "memory")) }

func sizeOf(e *etree.Element) machine.Size {
	if e == nil {
		return 0
	}
	n, _ := strconv.ParseInt(strings.TrimSpace(e.Text()), 10, 64)
	switch unit := e.SelectAttrValue("unit", "KiB"); unit {
	case "b", "bytes":
		return machine.Size(n)
	case "KB":
		return machine.Size(n) * 1000
	case "MB":
		return machine.Size(n) * 1000_000
	case "GB":
		return machine.Size(n) * 1000_000_000
	case "M", "MiB":
		return machine.Size(n) * machine.MiB
	case "G", "GiB":
		return machine.Size(n) * machine.GiB
	case "T", "TiB":
		return machine.Size(n) * machine.TiB
	}
	return machine.Size(n) * machine.KiB
}

// setHardware applies what the setup says besides the columns.
func (d *definition) setHardware(h machine.Hardware) {
	devices := d.devices()
	switch h.Display {
	case "off":
		for _, tag := range []string{"graphics", "video", "audio", "sound"} {
			without(devices, "./"+tag)
		}
		v := devices.CreateElement("video")
		v.CreateElement("model").CreateAttr("type", "none")
	case "on":
		without(devices, "./video[model/@type='none']")
		if devices.SelectElement("graphics") == nil {
			addDisplay(devices)
		}
	}
	switch h.Console {
	case "off":
		without(devices, "./serial")
		without(devices, "./console")
	case "on":
		if devices.SelectElement("serial") == nil && devices.SelectElement("console") == nil {
			addConsole(devices)
		}
	}
}

func addDisplay(devices *etree.Element) {
	g := devices.CreateElement("graphics")
	g.CreateAttr("type", "vnc")
	g.CreateAttr("port", "-1")
	g.CreateAttr("autoport", "yes")
	g.CreateAttr("listen", "127.0.0.1")
	devices.CreateElement("video").CreateElement("model").CreateAttr("type", "vga")
}

func addConsole(devices *etree.Element) {
	devices.CreateElement("serial").CreateAttr("type", "pty")
	devices.CreateElement("console").CreateAttr("type", "pty")
}

// setAdapters makes the machine's adapters those given, in this order and no
// others; what the template's first one is like otherwise is kept.
func (d *definition) setAdapters(adapters []machine.Card) {
	devices := d.devices()
	old := d.adapters()
	for _, e := range old {
		devices.RemoveChild(e)
	}
	for i, a := range adapters {
		e := etree.NewElement("interface")
		if i < len(old) {
			e = old[i]
		} else if len(old) > 0 {
			e = old[0].Copy()
			for _, gone := range []string{"./address", "./boot", "./alias"} { // which only one can have
				without(e, gone)
			}
		}
		connect(e, a)
		devices.AddChild(e)
	}
}

// adapters are those that rows speak of: not the template's further ones.
func (d *definition) adapters() []*etree.Element {
	return slices.DeleteFunc(d.devices().SelectElements("interface"), func(e *etree.Element) bool {
		return strings.HasPrefix(attr(e, "./alias", "name"), furtherAlias)
	})
}

// furtherAlias marks adapters of the template that no row speaks of and that its
// clones keep, unplugged.
const furtherAlias = userAlias + "template-adapter-"

// keepExtraAdapters keeps the template's adapters from the n-th on, unplugged and with MAC
// addresses of their own.
func (d *definition) keepExtraAdapters(id uuid.UUID, n int) {
	for i, e := range d.adapters() {
		if i < n {
			continue
		}
		sum := uuid.NewSHA1(id, fmt.Appendf(nil, "adapter %d", i+1))
		mac := net.HardwareAddr(sum[:6])
		mac[0] = mac[0]&^0x01 | 0x02
		child(e, "mac").CreateAttr("address", mac.String())
		child(e, "link").CreateAttr("state", "down")
		child(e, "alias").CreateAttr("name", fmt.Sprintf("%s%d", furtherAlias, i+1))
	}
}

// connect wires an adapter to its network.
func connect(e *etree.Element, a machine.Card) {
	for _, gone := range []string{"./source", "./vlan", "./link", "./virtualport", "./target", "./portgroup"} {
		without(e, gone)
	}
	child(e, "mac").CreateAttr("address", a.MAC)
	source := child(e, "source")
	if bridge, ok := strings.CutPrefix(a.Network, contract.BridgePrefix); ok {
		e.CreateAttr("type", "bridge")
		source.CreateAttr("bridge", bridge)
	} else {
		e.CreateAttr("type", "network")
		source.CreateAttr("network", a.Network)
	}
	if a.Model != "" {
		child(e, "model").CreateAttr("type", a.Model)
	} else if e.SelectElement("model") == nil {
		child(e, "model").CreateAttr("type", "virtio")
	}
	if a.VLAN > 0 {
		child(e, "vlan", "tag").CreateAttr("id", strconv.Itoa(a.VLAN))
	}
	if a.Unplugged {
		child(e, "link").CreateAttr("state", "down")
	}
}

// networkOf is what an adapter is connected to.
func networkOf(e *etree.Element) string {
	network := attr(e, "./source", "network")
	if bridge := attr(e, "./source", "bridge"); network == "" && bridge != "" {
		network = contract.BridgePrefix + bridge
	}
	return network
}

// networkWithCard reports whether an adapter is connected as asked.
func networkWithCard(e *etree.Element, a machine.Card) bool {
	network := networkOf(e)
	vlan, _ := strconv.Atoi(attr(e, "./vlan/tag", "id"))
	return network == a.Network && attr(e, "./mac", "address") == a.MAC && vlan == a.VLAN &&
		(attr(e, "./link", "state") == "down") == a.Unplugged && (a.Model == "" || attr(e, "./model", "type") == a.Model)
}

// free is a target name of a bus's prefix that no disk has.
func (d *definition) free(prefix string) string {
	for c := 'a'; c <= 'z'; c++ {
		name := prefix + string(c)
		if d.root.FindElement("./devices/disk/target[@dev='"+name+"']") == nil {
			return name
		}
	}
	return prefix + "zz"
}

// prefixes of target names, by bus.
var busPrefix = map[string]string{"virtio": "vd", "scsi": "sd", "sata": "sd", "ide": "hd", "usb": "sd"}

// bus is the one of the machine's first disk.
func (d *definition) bus() string {
	for _, disk := range d.disks() {
		if bus := attr(disk, "./target", "bus"); busPrefix[bus] != "" {
			return bus
		}
	}
	return "virtio"
}

// addDisk gives the machine a data disk. The serial number is how a guest
// finds it, whatever it is called there.
func (d *definition) addDisk(file, serial string) *etree.Element {
	e := d.devices().CreateElement("disk")
	setDiskFile(e, file, "qcow2")
	bus := d.bus()
	t := e.CreateElement("target")
	t.CreateAttr("dev", d.free(busPrefix[bus]))
	t.CreateAttr("bus", bus)
	e.CreateElement("serial").SetText(serial)
	return e
}

// seedDrive is the drive that has the machine's seed in it, if there is one.
func (d *definition) seedDrive() *etree.Element {
	for _, e := range d.devices().SelectElements("disk") {
		if strings.HasSuffix(attr(e, "./source", "file"), seedSuffix) {
			return e
		}
	}
	return nil
}

// dropSeed takes out a seed that is a disk, which is no disk of the machine's own.
func (d *definition) dropSeed() {
	if drive := d.seedDrive(); drive != nil && drive.SelectAttrValue("device", "disk") == "disk" {
		drive.Parent().RemoveChild(drive)
	}
}

// setSeed gives the machine its seed. One that is a CD goes into a drive: the
// one that has it, else one that the template left empty, else another; one
// that is not is a disk like the machine's own, which its guest can read.
func (d *definition) setSeed(file string, kind media.Kind) {
	drive := d.seedDrive()
	if kind == media.FATKind {
		if drive == nil {
			drive = d.devices().CreateElement("disk")
			bus := d.bus()
			t := drive.CreateElement("target")
			t.CreateAttr("dev", d.free(busPrefix[bus]))
			t.CreateAttr("bus", bus)
		}
		setDiskFile(drive, file, "raw")
		return
	}
	for _, e := range d.devices().SelectElements("disk") {
		if drive == nil && e.SelectAttrValue("device", "") == "cdrom" && e.SelectElement("source") == nil && !isOwnDrive(e) {
			drive = e
		}
	}
	if drive == nil {
		drive = d.addDrive()
	}
	drive.CreateAttr("type", "file")
	child(drive, "source").CreateAttr("file", file)
	child(drive, "driver").CreateAttr("type", "raw")
}

func (d *definition) addDrive() *etree.Element {
	bus := "scsi"
	switch board := attr(d.root, "./os/type", "machine"); {
	case strings.Contains(board, "q35"):
		bus = "sata"
	case strings.HasPrefix(board, "pc"):
		bus = "ide"
	}
	e := d.devices().CreateElement("disk")
	e.CreateAttr("type", "file")
	e.CreateAttr("device", "cdrom")
	e.CreateElement("driver").CreateAttr("name", "qemu")
	t := e.CreateElement("target")
	t.CreateAttr("dev", d.free(busPrefix[bus]))
	t.CreateAttr("bus", bus)
	e.CreateElement("readonly")
	return e
}

// elementText writes one element by itself, as libvirt's calls for a device
// take it.
func elementText(e *etree.Element) string {
	doc := etree.NewDocument()
	doc.SetRoot(e.Copy())
	text, err := doc.WriteToString()
	if err != nil { // nothing but memory is written to
		panic(err)
	}
	return text
}

// plainText takes out what XML cannot carry (XML 1.0, section 2.2, Char).
func plainText(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0xFFFE || r == 0xFFFF {
			return -1
		}
		return r
	}, s)
}
