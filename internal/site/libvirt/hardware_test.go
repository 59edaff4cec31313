package libvirt

import (
	"strings"
	"testing"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// fate is what becomes of a part of a template in its clones.
type fate string

const (
	kept    fate = "kept"    // to the letter
	renewed fate = "renewed" // another in each clone
	told    fate = "told"    // by the remarks on the template
	ejected fate = "ejected" // a drive without what was in it
)

// hardware lists parts of libvirt's domain format ("Domain XML format"), where they
// stand, and what becomes of them.
var hardware = []struct {
	below, xml string
	fate       fate
}{
	{"", `<genid>53ccd815-cefc-44af-87e3-5b0ce255073b</genid>`, renewed},
	{"", `<maxMemory slots="4" unit="KiB">8388608</maxMemory>`, kept},
	{"", `<memoryBacking><hugepages/><locked/></memoryBacking>`, kept},
	{"", `<blkiotune><weight>800</weight></blkiotune>`, kept},
	{"", `<memtune><hard_limit unit="KiB">4194304</hard_limit></memtune>`, kept},
	{"", `<numatune><memory mode="strict" nodeset="0"/></numatune>`, kept},
	{"", `<cputune><shares>2048</shares><vcpupin vcpu="0" cpuset="0"/><emulatorpin cpuset="1"/></cputune>`, kept},
	{"", `<vcpus><vcpu id="0" enabled="yes" hotpluggable="no"/><vcpu id="1" enabled="no" hotpluggable="yes"/></vcpus>`, kept},
	{"", `<iothreads>2</iothreads>`, kept},
	{"", `<iothreadids><iothread id="1"/></iothreadids>`, kept},
	{"", `<resource><partition>/machine/test</partition></resource>`, kept},
	{"", `<features><acpi/><apic/><hyperv mode="custom"><relaxed state="on"/></hyperv><kvm><hidden state="on"/></kvm><smm state="on"/></features>`, kept},
	{"", `<cpu mode="custom" match="exact"><model fallback="allow">qemu64</model><numa><cell id="0" cpus="0-3" memory="1048576" unit="KiB"/></numa></cpu>`, kept},
	{"", `<clock offset="localtime"><timer name="rtc" tickpolicy="catchup"/></clock>`, kept},
	{"", `<on_poweroff>destroy</on_poweroff>`, kept},
	{"", `<on_crash>restart</on_crash>`, kept},
	{"", `<pm><suspend-to-mem enabled="no"/></pm>`, kept},
	{"", `<perf><event name="cmt" enabled="no"/></perf>`, kept},
	{"", `<keywrap><cipher name="aes" state="off"/></keywrap>`, kept},
	{"", `<launchSecurity type="sev"><policy>0x0001</policy></launchSecurity>`, told},
	{"", `<seclabel type="static" model="dac"><label>+0:+0</label></seclabel>`, told},
	{"", `<seclabel type="dynamic" model="apparmor"/>`, kept},
	{"os", `<bootmenu enable="yes" timeout="3000"/>`, kept},
	{"os", `<smbios mode="sysinfo"/>`, kept},
	{"os", `<bios useserial="yes" rebootTimeout="0"/>`, kept},
	{"os", `<acpi><table type="slic">/t/slic.dat</table></acpi>`, kept},
	{"os", `<kernel>/boot/vmlinuz</kernel>`, told},
	{"sysinfo/system", `<entry name="manufacturer">Brackwater</entry>`, kept},
	{"sysinfo/system", `<entry name="serial">T-1</entry>`, renewed},
	{"sysinfo/baseBoard", `<entry name="serial">B-1</entry>`, renewed},
	{"sysinfo/baseBoard", `<entry name="asset">A-1</entry>`, renewed},
	{"sysinfo/baseBoard", `<entry name="product">deck</entry>`, kept},
	{"sysinfo/chassis", `<entry name="serial">C-1</entry>`, renewed},
	{"sysinfo/chassis", `<entry name="asset">D-1</entry>`, renewed},
	{"sysinfo/oemStrings", `<entry>survey</entry>`, kept},
	{"metadata", `<office:desk xmlns:office="https://office.brackwater.example/">7</office:desk>`, kept},
	{"devices", `<emulator>/usr/bin/qemu-system-x86_64</emulator>`, kept},
	{"devices", `<controller type="scsi" index="0" model="virtio-scsi"><driver iothread="1"/></controller>`, kept},
	{"devices", `<controller type="pci" index="1" model="pcie-root-port"/>`, kept},
	{"devices", `<controller type="usb" index="0" model="qemu-xhci" ports="15"/>`, kept},
	{"devices", `<controller type="virtio-serial" index="0"/>`, kept},
	{"devices", `<disk type="file" device="cdrom"><source file="/iso/install.iso"/><target dev="sdy" bus="sata"/></disk>`, ejected},
	{"devices", `<disk type="file" device="floppy"><source file="/iso/drivers.img"/><target dev="fda" bus="fdc"/></disk>`, ejected},
	{"devices", `<filesystem type="mount"><source dir="/srv"/><target dir="srv"/></filesystem>`, told},
	{"devices", `<hostdev mode="subsystem" type="pci" managed="yes"><source><address domain="0x0000" bus="0x06" slot="0x02" function="0x0"/></source></hostdev>`, told},
	{"devices", `<redirdev bus="usb" type="spicevmc"/>`, kept},
	{"devices", `<redirdev bus="usb" type="tcp"><source mode="connect" host="localhost" service="4000"/></redirdev>`, told},
	{"devices", `<smartcard mode="host"/>`, kept},
	{"devices", `<input type="tablet" bus="usb"/>`, kept},
	{"devices", `<hub type="usb"/>`, kept},
	{"devices", `<graphics type="vnc" port="5901" autoport="no"/>`, renewed},
	{"devices", `<graphics type="spice" port="5902" tlsPort="5903" autoport="no"/>`, renewed},
	{"devices", `<video><model type="qxl" ram="65536" heads="1"/></video>`, kept},
	{"devices", `<sound model="ich9"/>`, kept},
	{"devices", `<audio id="1" type="none"/>`, kept},
	{"devices", `<serial type="file"><source path="/var/log/t.log"/></serial>`, renewed},
	{"devices", `<serial type="unix"><source mode="bind" path="/run/t.sock"/></serial>`, renewed},
	{"devices", `<parallel type="pty"/>`, kept},
	{"devices", `<console type="pty"><target type="virtio" port="1"/></console>`, kept},
	{"devices", `<channel type="spicevmc"><target type="virtio" name="com.redhat.spice.0"/></channel>`, kept},
	{"devices", `<watchdog model="i6300esb" action="reset"/>`, kept},
	{"devices", `<memballoon model="virtio"><stats period="10"/></memballoon>`, kept},
	{"devices", `<rng model="virtio"><backend model="random">/dev/urandom</backend></rng>`, kept},
	{"devices", `<tpm model="tpm-crb"><backend type="emulator" version="2.0"/></tpm>`, told},
	{"devices", `<panic model="isa"/>`, kept},
	{"devices", `<shmem name="deck"><model type="ivshmem-plain"/><size unit="M">4</size></shmem>`, told},
	{"devices", `<memory model="dimm"><target><size unit="KiB">524288</size><node>0</node></target></memory>`, kept},
	{"devices", `<memory model="nvdimm"><source><path>/t/nvdimm</path></source><target><size unit="KiB">524288</size></target></memory>`, told},
	{"devices", `<iommu model="intel"/>`, kept},
	{"devices", `<vsock model="virtio"><cid auto="no" address="3"/></vsock>`, renewed},
	{"devices", `<crypto model="virtio" type="qemu"><backend model="builtin" queues="1"/></crypto>`, kept},
	{"devices", `<lease><lockspace>deck</lockspace><key>k</key><target path="/t/lease"/></lease>`, told},
	{"devices", `<interface type="network"><mac address="52:54:00:00:00:09"/><source network="office"/></interface>`, told},
	{"", `<qemu:commandline xmlns:qemu="http://libvirt.org/schemas/domain/qemu/1.0"><qemu:arg value="-no-hpet"/></qemu:commandline>`, kept},
	{"", `<qemu:override xmlns:qemu="http://libvirt.org/schemas/domain/qemu/1.0"><qemu:device alias="ua-disk"><qemu:frontend><qemu:property name="rotation_rate" type="unsigned" value="1"/></qemu:frontend></qemu:device></qemu:override>`, kept},
}

// base is a template with nothing of that.
const base = `<domain type="qemu"><name>deb12-base</name><uuid>53ccd815-cefc-44af-87e3-5b0ce255073a</uuid><memory unit="KiB">1048576</memory><vcpu current="1">4</vcpu>` +
	`<sysinfo type="smbios"><system/><baseBoard/><chassis/><oemStrings/></sysinfo><metadata/><os><type arch="x86_64" machine="pc-q35-7.2">hvm</type></os><devices>` +
	`<disk type="file" device="disk"><driver name="qemu" type="qcow2"/><source file="/t/data.qcow2"/><target dev="vda" bus="virtio"/><boot order="3"/></disk>` +
	`<disk type="file" device="disk"><driver name="qemu" type="qcow2"/><source file="/t/system.qcow2"/><target dev="vdb" bus="virtio"/><alias name="ua-disk"/><boot order="2"/></disk>` +
	`<interface type="network"><mac address="52:54:00:00:00:01"/><source network="office"/><alias name="ua-net"/><boot order="1"/></interface></devices></domain>`

// cloneOf makes of a template what a clone makes of it.
func cloneOf(t *testing.T, template string, h machine.Hardware) *definition {
	t.Helper()
	d, err := parseDefinition(template)
	require.NoError(t, err)
	for i, e := range d.disks() {
		setDiskFile(e, "/pool/"+string(rune('a'+i)), "qcow2")
	}
	d.identify("bms-sonar-01", id)
	d.eject()
	d.bootFromDisk()
	d.addAgent()
	d.setHardware(h)
	d.setCPUs(0, 0)
	d.setMemory(0)
	if h.Adapters == machine.UnplugAdapters {
		d.keepExtraAdapters(id, 1)
	}
	d.setAdapters([]machine.Card{{Network: "survey", MAC: "02:00:00:00:00:01"}})
	d.setMark(contract.Mark{Ledger: id, Key: "quay/bms-sonar-01", Generation: 1}, parent{})
	return d
}

// Whatever a template has is kept to the letter, renewed, or told: nothing is lost in
// silence.
func TestHardwareIsKeptRenewedOrTold(t *testing.T) {
	assert.GreaterOrEqual(t, len(hardware), 60)
	plain := cloneOf(t, base, machine.Hardware{})
	none, err := parseDefinition(base)
	require.NoError(t, err)
	remarks := len(none.remarks())
	for _, h := range hardware {
		doc := etree.NewDocument()
		require.NoError(t, doc.ReadFromString(base))
		part := etree.NewDocument()
		require.NoError(t, part.ReadFromString(h.xml))
		at := doc.Root()
		if h.below != "" {
			at = doc.Root().FindElement("./" + h.below)
		}
		before := elementText(part.Root())
		at.AddChild(part.Root().Copy())
		text, err := doc.WriteToString()
		require.NoError(t, err)
		template, err := parseDefinition(text)
		require.NoError(t, err)
		got := cloneOf(t, text, machine.Hardware{})
		is := strings.Contains(got.String(), before)
		switch h.fate {
		case kept:
			assert.True(t, is, "%s is not kept:\n%s", before, got.String())
			assert.Len(t, template.remarks(), remarks, "%s is told", before)
		case renewed:
			assert.False(t, is, "%s is not renewed", before)
			assert.NotEqual(t, plain.String(), got.String(), "%s is lost", before)
		case ejected:
			assert.False(t, is, before)
			assert.Contains(t, got.String(), `device="`+part.Root().SelectAttrValue("device", "")+`"`)
		case told:
			assert.Greater(t, len(template.remarks()), remarks, "%s is not told", before)
		}
	}
}

// The disk from which the template boots is the system disk, wherever it stands; what
// else it boots from comes behind it. Aliases that somebody gave stay.
func TestTheDiskThatIsBootedFrom(t *testing.T) {
	d, err := parseDefinition(base)
	require.NoError(t, err)
	file, err := diskFile(d.disks()[0])
	require.NoError(t, err)
	assert.Equal(t, "/t/system.qcow2", file)
	got := cloneOf(t, base, machine.Hardware{})
	orders := map[string]string{}
	for _, e := range got.root.FindElements("./devices/*[boot]") {
		orders[attr(e, "./source", "file")+attr(e, "./source", "network")] = attr(e, "./boot", "order")
	}
	assert.Equal(t, map[string]string{"/pool/a": "1", "survey": "2", "/pool/b": "3"}, orders)
	assert.Equal(t, "ua-disk", attr(got.disks()[0], "./alias", "name"))
	assert.Equal(t, "vdb", attr(got.disks()[0], "./target", "dev"))
}

// Further adapters of the template are kept unplugged where the setup says so, and are
// none of those that rows speak of.
func TestFurtherAdapters(t *testing.T) {
	two := strings.Replace(base, "</devices>", `<interface type="network"><mac address="52:54:00:00:00:09"/><source network="office"/></interface></devices>`, 1)
	assert.Len(t, cloneOf(t, two, machine.Hardware{}).devices().SelectElements("interface"), 1)
	got := cloneOf(t, two, machine.Hardware{Adapters: machine.UnplugAdapters})
	all := got.devices().SelectElements("interface")
	require.Len(t, all, 2)
	assert.Len(t, got.adapters(), 1)
	assert.NotContains(t, got.String(), "52:54:00:00:00:09")
	assert.Equal(t, 1, strings.Count(got.String(), `<link state="down"/>`))
	again := got.String()
	got.setAdapters([]machine.Card{{Network: "survey", MAC: "02:00:00:00:00:01"}})
	assert.Equal(t, strings.Count(again, "<interface"), strings.Count(got.String(), "<interface"))
}
