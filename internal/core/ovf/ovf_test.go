package ovf

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
)

func TestUnits(t *testing.T) {
	for units, want := range map[string]int64{"": 1, "byte * 2^20": 1 << 20, "byte*2^30": 1 << 30, "MegaBytes": 1 << 20, "GB": 1 << 30, "byte * 10^3": 1000, "byte * 512": 512, "byte * 2^20 / 2^10": 1 << 10} {
		n, err := unit(units)
		require.NoError(t, err, units)
		assert.Equal(t, want, n, units)
	}
	for _, units := range []string{"hertz * 10^6", "byte * x", "byte ^ 2", "byte * 2^-4", "byte * 2^99", "byte * 1.5"} {
		_, err := unit(units)
		assert.ErrorIs(t, err, ErrPackage, units)
	}
}

// foreign is a description as others write them, with what changes between them.
const foreign = `<?xml version="1.0"?>
<ovf:Envelope xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1" xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
 <ovf:References><ovf:File ovf:id="f1" ovf:href="boot.vmdk" ovf:size="99"/><ovf:File ovf:id="f2" ovf:href="data.vmdk"/></ovf:References>
 <ovf:DiskSection><ovf:Info/><ovf:Disk ovf:diskId="data" ovf:fileRef="f2" ovf:capacity="1"  ovf:capacityAllocationUnits="GigaBytes"/><ovf:Disk ovf:diskId="boot" ovf:fileRef="f1" ovf:capacity="20" ovf:capacityAllocationUnits="byte * 2^30"/></ovf:DiskSection>
 <ovf:NetworkSection><ovf:Info/><ovf:Network ovf:name="lab"/></ovf:NetworkSection>
 <ovf:DeploymentOptionSection><ovf:Info/><ovf:Configuration ovf:id="small"/><ovf:Configuration ovf:id="big" ovf:default="true"/></ovf:DeploymentOptionSection>
 <ovf:VirtualSystem ovf:id="vm-1"><ovf:Info/><ovf:Name>Charts</ovf:Name>
  <ovf:OperatingSystemSection ovf:id="96"><ovf:Info/><ovf:Description>Debian 12</ovf:Description></ovf:OperatingSystemSection>
  <ovf:ProductSection ovf:class="org.charts"><ovf:Info/><ovf:Product>Charts</ovf:Product><ovf:Vendor>Brackwater</ovf:Vendor><ovf:Version>4.2</ovf:Version><ovf:Property ovf:key="leg" ovf:type="string" ovf:value="north"/></ovf:ProductSection>
  <ovf:VirtualHardwareSection><ovf:Info/>
   <ovf:Item ovf:configuration="small"><rasd:InstanceID>1</rasd:InstanceID><rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>1</rasd:VirtualQuantity></ovf:Item>
   <ovf:Item ovf:configuration="big"><rasd:InstanceID>2</rasd:InstanceID><rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>4</rasd:VirtualQuantity></ovf:Item>
   <ovf:Item><rasd:AllocationUnits>MegaBytes</rasd:AllocationUnits><rasd:InstanceID>3</rasd:InstanceID><rasd:ResourceType>4</rasd:ResourceType><rasd:VirtualQuantity>2048</rasd:VirtualQuantity></ovf:Item>
   <ovf:Item><rasd:AddressOnParent>1</rasd:AddressOnParent><rasd:HostResource>ovf:/disk/data</rasd:HostResource><rasd:InstanceID>4</rasd:InstanceID><rasd:Parent>9</rasd:Parent><rasd:ResourceType>17</rasd:ResourceType></ovf:Item>
   <ovf:StorageItem><rasd:AddressOnParent>0</rasd:AddressOnParent><rasd:HostResource>/disk/boot</rasd:HostResource><rasd:InstanceID>5</rasd:InstanceID><rasd:Parent>9</rasd:Parent><rasd:ResourceType>17</rasd:ResourceType></ovf:StorageItem>
   <ovf:Item><rasd:Address>52:54:00:12:34:56</rasd:Address><rasd:Connection>lab</rasd:Connection><rasd:InstanceID>6</rasd:InstanceID><rasd:ResourceSubType>VmxNet3</rasd:ResourceSubType><rasd:ResourceType>10</rasd:ResourceType></ovf:Item>
   <x:Config xmlns:x="urn:other" ovf:required="false" x:key="firmware" x:value="efi"/>
  </ovf:VirtualHardwareSection>
 </ovf:VirtualSystem>
</ovf:Envelope>`

func TestParse(t *testing.T) {
	m, err := Parse([]byte(foreign))
	require.NoError(t, err)
	assert.Equal(t, &Machine{Name: "Charts", System: "Debian 12", CPUs: 4, Memory: 2 * machine.GiB, Firmware: machine.UEFI,
		Disks:    []Disk{{ID: "boot", Size: 20 * machine.GiB, File: "boot.vmdk", Length: 99}, {ID: "data", Size: machine.GiB, File: "data.vmdk"}},
		Networks: []string{"lab"}, Cards: []Card{{"lab", "52:54:00:12:34:56", "VmxNet3"}}, Product: Product{"Charts", "Brackwater", "4.2"},
		Properties: []Property{{Key: "org.charts.leg", Type: "string", Value: "north"}}}, m)
	for want, change := range map[string][2]string{
		"which is not beside":                {"boot.vmdk", "../boot.vmdk"},
		"which is not listed":                {"/disk/boot", "/disk/none"},
		"a file without an id":               {`ovf:id="f2"`, `ovf:id="f1"`},
		"several machines":                   {`<ovf:VirtualSystem `, `<ovf:VirtualSystemCollection/><ovf:VirtualSystem `},
		`the unit "parsecs"`:                 {"GigaBytes", "parsecs"},
		`"-4" CPUs`:                          {"<rasd:VirtualQuantity>4<", "<rasd:VirtualQuantity>-4<"},
		"a child of another":                 {`ovf:diskId="data"`, `ovf:diskId="data" ovf:parentRef="boot"`},
		"is connected twice":                 {"ovf:/disk/data", "ovf:/disk/boot"},
		"its FooSection is understood":       {"<ovf:NetworkSection>", "<ovf:FooSection/><ovf:NetworkSection>"},
		"it describes no hardware":           {"VirtualHardwareSection", "VirtualSomething"},
		"its description is no XML":          {"</ovf:Envelope>", ""},
		`the file boot.vmdk of "much" bytes`: {`ovf:size="99"`, `ovf:size="much"`},
	} {
		text := strings.ReplaceAll(foreign, change[0], change[1])
		require.NotEqual(t, foreign, text, want)
		_, err := Parse([]byte(text))
		require.ErrorIs(t, err, ErrPackage, want)
		assert.ErrorContains(t, err, want)
	}
	m, err = Parse([]byte(strings.Replace(foreign, `ovf:size="99"`, `ovf:size="99" ovf:compression="gzip"`, 1)))
	require.NoError(t, err)
	assert.ErrorContains(t, m.Disks[0].Readable(), "compressed as a whole (gzip)")
}

// What is described is parsed to the same, whatever texts are in it, and is well-formed.
func TestDescribe(t *testing.T) {
	for _, text := range []string{"bms-chart-01", `a"b'c<d>&e`, "Størm 7"} {
		m := Machine{Name: text, System: text, CPUs: 2, Memory: 3 * machine.GiB, Firmware: machine.UEFI, Networks: []string{text}, Cards: []Card{{text, "52:54:00:12:34:56", "E1000"}}, Notes: text,
			Product: Product{Name: text}, Properties: []Property{{Key: "k", Type: "string", Value: text}}, Disks: []Disk{{ID: "disk1", Size: machine.GiB, File: "x.vmdk", Length: 7, Format: FormatURI("stream")}}}
		got, err := Parse(m.Describe())
		require.NoError(t, err)
		assert.Equal(t, &m, got)
		lint := exec.Command("xmllint", "--noout", "-")
		lint.Stdin = strings.NewReader(string(m.Describe()))
		if out, err := lint.CombinedOutput(); lint.ProcessState != nil {
			assert.NoError(t, err, string(out))
		}
	}
}

func TestManifest(t *testing.T) {
	all, err := ParseManifest("SHA1(a b.ovf)= da39a3ee5e6b4b0d3255bfef95601890afd80709\r\nSHA256 (x) = e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855\n\n")
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "a b.ovf", all[0].File)
	for _, text := range []string{"MD5(x)= 00", "SHA1(x)= 00", "x"} {
		_, err := ParseManifest(text)
		assert.ErrorIs(t, err, ErrPackage, text)
	}
}

// A manifest that is signed by a real certificate says by whom, and one that was changed that it is not.
func TestCertificate(t *testing.T) {
	dir := t.TempDir()
	make := exec.Command("sh", "-c", `openssl req -x509 -newkey rsa:2048 -nodes -keyout k -out c -days 2 -subj "/CN=Chart Desk" 2>/dev/null && printf 'SHA256(x)= 00\n' >mf &&
		{ printf 'SHA256(x.mf)= '; openssl dgst -sha256 -sign k mf | od -An -tx1 | tr -d ' \n'; echo; cat c; } >cert && cat cert`)
	make.Dir = dir
	cert, err := make.Output()
	if err != nil {
		t.Skip("skipped: there is no openssl")
	}
	assert.Contains(t, Certificate(cert, []byte("SHA256(x)= 00\n")), "was signed by CN=Chart Desk; whether they can be trusted")
	assert.Contains(t, Certificate(cert, []byte("SHA256(x)= 01\n")), "is NOT what CN=Chart Desk has signed")
	assert.Contains(t, Certificate([]byte("rubbish"), nil), "cannot be read")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(foreign))
	f.Add((&Machine{Name: "x", Disks: []Disk{{File: "x"}}}).Describe())
	f.Fuzz(func(t *testing.T, text []byte) {
		m, err := Parse(text)
		if err == nil && (m.CPUs < 0 || m.Memory < 0) {
			t.Fatal(m)
		}
		_, _ = ParseManifest(string(text))
		_ = Certificate(text, text)
	})
}
