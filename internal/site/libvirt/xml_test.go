package libvirt

import (
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

const found = `<domain type='qemu' xmlns:qemu='http://libvirt.org/schemas/domain/qemu/1.0'>
  <name>deb12-base</name><uuid>53ccd815-cefc-44af-87e3-5b0ce255073a</uuid><genid>53ccd815-cefc-44af-87e3-5b0ce255073b</genid>
  <title>the template</title><description>prepared</description>
  <metadata><office:desk xmlns:office='https://office.brackwater.example/'>7</office:desk></metadata>
  <memory unit='GiB'>1</memory><currentMemory unit='KiB'>1048576</currentMemory><vcpu current='1'>4</vcpu><cputune><vcpupin vcpu='3' cpuset='3'/></cputune>
  <sysinfo type='smbios'><system><entry name='serial'>T-1</entry><entry name='uuid'>53ccd815-cefc-44af-87e3-5b0ce255073a</entry></system></sysinfo>
  <os><type arch='x86_64' machine='pc-q35-7.2'>hvm</type><loader readonly='yes' type='pflash'>/fw/CODE.fd</loader><nvram>/nvram/deb12-base_VARS.fd</nvram><boot dev='network'/><boot dev='hd'/></os>
  <cpu mode='maximum'><topology sockets='2' dies='1' cores='2' threads='1'/></cpu>
  <devices>
    <disk type='file' device='disk'><driver name='qemu' type='qcow2' discard='unmap'/><source file='/t/deb12.qcow2'/><backingStore type='file'/><target dev='vda' bus='virtio'/><serial>T-1</serial><boot order='2'/></disk>
    <disk type='file' device='cdrom'><source file='/iso/install.iso'/><target dev='sda' bus='sata'/><readonly/></disk>
    <interface type='bridge'><mac address='52:54:00:00:00:01'/><source bridge='br9'/><model type='e1000e'/><driver queues='4'/><boot order='1'/></interface>
    <graphics type='vnc' port='5901' autoport='no' passwd='x'/>
    <serial type='file'><source path='/var/log/t.log'/><log file='/var/log/u.log'/></serial>
    <watchdog model='i6300esb' action='reset'/>
  </devices>
  <qemu:commandline><qemu:arg value='-no-hpet'/></qemu:commandline>
</domain>`

var id = uuid.MustParse("8e15d4bd-51da-5d5b-aa6f-62aac0a6c353")

// A clone has all of the template's hardware, what is not understood included,
// and nothing of its identity.
func TestCloneKeepsTheHardwareAndNotTheIdentity(t *testing.T) {
	d, err := parseDefinition(found)
	require.NoError(t, err)
	setDiskFile(d.disks()[0], "/pool/a.disk.qcow2", "qcow2")
	d.identify("bms-sonar-01", id)
	d.eject()
	d.bootFromDisk()
	d.addAgent()
	d.setAdapters([]machine.Card{{Network: "survey", MAC: "02:00:00:00:00:01", VLAN: 7, Unplugged: true}, {Network: "bridge:br0", MAC: "02:00:00:00:00:02", Model: "virtio"}})
	out := d.String()
	for _, kept := range []string{"discard=\"unmap\"", "i6300esb", "office.brackwater.example", "-no-hpet", "queues=\"4\"", "/fw/CODE.fd", "e1000e",
		`<nvram template="/nvram/deb12-base_VARS.fd">/nvram/bms-sonar-01.` + id.String() + `_VARS.fd</nvram>`, `<boot order="1"/>`, `<boot order="2"/>`,
		`<source network="survey"/>`, `<tag id="7"/>`, `<link state="down"/>`, `<source bridge="br0"/>`, agentChannel,
		`port="-1" autoport="yes"`, `"/var/log/t.log.` + id.String(), `"/var/log/u.log.` + id.String()} {
		assert.Contains(t, strings.ReplaceAll(out, "'", `"`), kept)
	}
	for _, gone := range []string{"deb12-base<", "53ccd815", "the template", "prepared", "52:54:00:00:00:01", "br9", "/t/deb12.qcow2", "install.iso", "T-1", "<boot dev"} {
		assert.NotContains(t, out, gone)
	}
	for i, e := range d.devices().SelectElements("interface") {
		assert.True(t, networkWithCard(e, []machine.Card{{Network: "survey", MAC: "02:00:00:00:00:01", VLAN: 7, Unplugged: true}, {Network: "bridge:br0", MAC: "02:00:00:00:00:02", Model: "virtio"}}[i]))
	}
	before := d.String()
	d.addAgent()
	assert.Equal(t, before, d.String(), "the channel is there once")
}

func TestCPUsKeepToTheirSockets(t *testing.T) {
	for _, c := range []struct {
		cpus, sockets int
		topology      string
	}{
		{4, 0, "sockets='2' dies='1' cores='2' threads='1'"}, {8, 0, "sockets='2' cores='4' threads='1'"},
		{3, 0, "sockets='1' cores='3' threads='1'"}, {8, 4, "sockets='4' cores='2' threads='1'"},
	} {
		d, err := parseDefinition(found)
		require.NoError(t, err)
		d.setCPUs(c.cpus, c.sockets)
		out := strings.ReplaceAll(d.String(), `"`, "'")
		assert.Contains(t, out, "<topology "+c.topology+"/>", "%d CPUs", c.cpus)
		assert.NotContains(t, out, "current='1'")
		assert.Equal(t, c.cpus >= 4, strings.Contains(out, "vcpupin"), "%d CPUs", c.cpus)
	}
	d, err := parseDefinition(found)
	require.NoError(t, err)
	assert.Equal(t, 1, d.cpus(), "those that are plugged in")
	before := d.String()
	assert.False(t, d.setCPUs(0, 0))
	assert.False(t, d.setCPUs(1, 0))
	assert.Equal(t, before, d.String())
	assert.True(t, d.setCPUs(0, 4))
	assert.Contains(t, strings.ReplaceAll(d.String(), `"`, "'"), "<topology sockets='4' cores='1' threads='1'/>")
	assert.Contains(t, strings.ReplaceAll(d.String(), `"`, "'"), "current='1'")
}

// A division into NUMA cells is adapted where there is one, and else refused.
func TestNUMACells(t *testing.T) {
	one := `<domain><vcpu>4</vcpu><memory unit='KiB'>1048576</memory><cpu><numa><cell id='0' cpus='0-3' memory='1048576' unit='KiB'/></numa></cpu></domain>`
	d, err := parseDefinition(one)
	require.NoError(t, err)
	require.NoError(t, d.fits(8, 2*machine.GiB))
	d.setCPUs(8, 0)
	d.setMemory(2 * machine.GiB)
	assert.Contains(t, strings.ReplaceAll(d.String(), `"`, "'"), "<cell id='0' cpus='0-7' memory='2097152' unit='KiB'/>")
	two, err := parseDefinition(strings.Replace(one, "</numa>", "<cell id='1' cpus='4-7' memory='1'/></numa>", 1))
	require.NoError(t, err)
	assert.NoError(t, two.fits(4, machine.GiB))
	assert.NoError(t, two.fits(0, 0))
	assert.ErrorContains(t, two.fits(8, 0), "its layout of 2 NUMA cells requires 4 CPUs and 1GiB of memory")
	assert.ErrorContains(t, two.fits(0, 2*machine.GiB), "NUMA cells")
}

func TestMemoryIsReadInAnyUnit(t *testing.T) {
	d, err := parseDefinition(found)
	require.NoError(t, err)
	assert.Equal(t, machine.GiB, d.memory())
	assert.False(t, d.setMemory(machine.GiB), "as it is")
	assert.True(t, d.setMemory(768*machine.MiB))
	assert.Equal(t, 768*machine.MiB, d.memory())
}

func TestFirmwareIsChosenAnew(t *testing.T) {
	d, err := parseDefinition(found)
	require.NoError(t, err)
	assert.Equal(t, machine.UEFI, d.firmware())
	d.setFirmware(machine.BIOS)
	assert.Equal(t, machine.BIOS, d.firmware())
	assert.NotContains(t, d.String(), "VARS")
	d.setFirmware(machine.UEFI)
	assert.Equal(t, machine.UEFI, d.firmware())
}

func TestSeedTakesTheEmptyDrive(t *testing.T) {
	d, err := parseDefinition(found)
	require.NoError(t, err)
	d.eject()
	seed := "/pool/" + volumeName("bms-sonar-01", id, seedSuffix)
	d.setSeed(seed, media.ISOKind)
	d.setSeed(seed, media.ISOKind)
	assert.Equal(t, 1, strings.Count(d.String(), seedSuffix))
	assert.Equal(t, 1, strings.Count(d.String(), "cdrom"))
	assert.Equal(t, seed, attr(d.seedDrive(), "./source", "file"))
	assert.True(t, isOurVolume(seed, id))
	stick, err := parseDefinition(found)
	require.NoError(t, err)
	stick.setSeed(seed, media.FATKind)
	stick.setSeed(seed, media.FATKind)
	assert.Equal(t, 1, strings.Count(stick.String(), seed))
	assert.Equal(t, attr(stick.devices(), "./disk/target", "bus"), attr(stick.seedDrive(), "./target", "bus"))
	assert.Equal(t, "disk", stick.seedDrive().SelectAttrValue("device", ""))
	assert.False(t, isOurVolume("/pool/bms-sonar-01.seed", id))
}

func TestMarkComesBackAsItWasPut(t *testing.T) {
	d, err := parseDefinition(found)
	require.NoError(t, err)
	none, _ := d.mark()
	assert.Nil(t, none)
	spec := machine.Spec{Guest: machine.Guest{Hostname: "x", Firstboot: &machine.Firstboot{Commands: []string{"echo hunter2"}}}}
	want := contract.Mark{Ledger: id, Key: "quay/x", Generation: 3, Fingerprint: "f", Run: "r", Folder: "so<nar", Stage: contract.StageMade, Request: "b4fd", Spec: contract.MarkedSpec(spec)}
	want.Info = machine.Info{Owner: `"tides" & co`, Notes: "a <b>\n]]>", Until: "2027-03-31", Labels: map[string]string{"rack": "3", "a-b": "é"}}
	of := parent{"/t/deb12.qcow2", "17.5", 3 * machine.MiB}
	d.setMark(contract.Mark{Ledger: id, Key: "quay/x", Generation: 2}, parent{})
	d.setMark(want, of)
	d.describe(want, "x")
	again, err := parseDefinition(d.String())
	require.NoError(t, err)
	got, parent := again.mark()
	require.NotNil(t, got)
	assert.Equal(t, want, *got)
	assert.Equal(t, of, parent)
	assert.NotContains(t, d.String(), "hunter2")
	assert.Contains(t, d.String(), "office.brackwater.example")
}

func TestForgedMarksAreNobodys(t *testing.T) {
	for _, mark := range []string{
		`<m:mark xmlns:m="urn:other" ledger="` + id.String() + `" machine="quay/x" generation="1"/>`,
		`<m:mark xmlns:m="urn:mintbatch:mark:1" ledger="none" machine="quay/x" generation="1"/>`,
		`<m:mark xmlns:m="urn:mintbatch:mark:1" ledger="` + id.String() + `" machine="quay/x"/>`,
	} {
		d, err := parseDefinition(`<domain><metadata>` + mark + `</metadata></domain>`)
		require.NoError(t, err)
		got, _ := d.mark()
		assert.Nil(t, got, mark)
	}
}

func FuzzDefinition(f *testing.F) {
	f.Add(found)
	f.Add("<domain/>")
	f.Fuzz(func(t *testing.T, text string) {
		d, err := parseDefinition(text)
		if err != nil {
			return
		}
		d.identify("x", id)
		d.setAdapters([]machine.Card{{Network: "survey", MAC: "02:00:00:00:00:01"}})
		d.setCPUs(4, 2)
		d.setSeed("/pool/x.seed", media.ISOKind)
		d.setMark(contract.Mark{Ledger: id, Key: "quay/x", Generation: 1}, parent{})
		again, err := parseDefinition(d.String())
		if err != nil {
			t.Fatalf("what was written cannot be read: %s", err)
		}
		if mark, _ := again.mark(); mark == nil || mark.Key != "quay/x" {
			t.Fatalf("the mark is lost: %+v", mark)
		}
	})
}

func TestSparseSinkLeavesHolesOut(t *testing.T) {
	sent := map[int64]int{}
	s := &sparseSink{whole: 3 * pieceSize, share: func(float64) {}, send: func(at int64, content []byte) error { sent[at] = len(content); return nil }}
	content := make([]byte, 3*pieceSize+5)
	content[pieceSize+9], content[3*pieceSize+4] = 1, 1
	for i := 0; i < len(content); i += 65_537 {
		_, err := s.Write(content[i:min(i+65_537, len(content))])
		require.NoError(t, err)
	}
	require.NoError(t, s.flush())
	assert.Equal(t, map[int64]int{pieceSize: pieceSize, 3 * pieceSize: 5}, sent)
}

func TestProbeIsRead(t *testing.T) {
	var r contract.Report
	queryOutput(&r, "fqdn=x.brackwater.example\ntimezone=Europe/Oslo\nhostkey=ssh-ed25519 AAAA\nlogin=root\nlogin=survey\n")
	assert.Equal(t, contract.Report{FQDN: "x.brackwater.example", Timezone: "Europe/Oslo", HostKey: "ssh-ed25519 AAAA", Logins: []string{"root", "survey"}}, r)
	queryOutput(&r, `result={"v1": {"datasource": "x", "errors": ["bad"]}}`+"\n")
	assert.True(t, r.Finished)
	assert.Equal(t, []string{"bad"}, r.Errors)
	var early contract.Report
	queryOutput(&early, `result={"v1": {"data`)
	assert.False(t, early.Finished, "it is still being written")
}

func TestConsoleIsToldWithoutItsColours(t *testing.T) {
	var last outputTail
	_, _ = last.Write([]byte("one\r\n\x1b[0m\x1b[30mWelcome\x1b[37m to GRUB!\n\n\x1b[?25l\x1bM[  8.0] no disk\xff"))
	assert.Equal(t, []string{"one", "Welcome to GRUB!", "[  8.0] no disk"}, last.lines())
}
