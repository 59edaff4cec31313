package ovf

import (
	"encoding/xml"
	"fmt"
	"strings"

	"mintbatch/internal/core/machine"
)

func escape(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // of a builder
	return b.String()
}

// Describe writes the description of a machine.
func (m *Machine) Describe() []byte {
	var b strings.Builder
	line := func(format string, args ...any) {
		for i, a := range args {
			if s, is := a.(string); is {
				args[i] = escape(s)
			}
		}
		fmt.Fprintf(&b, format+"\n", args...)
	}
	line(`<?xml version="1.0" encoding="UTF-8"?>`)
	line(`<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1" xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData" xmlns:vssd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData" xmlns:vmw="http://www.vmware.com/schema/ovf">`)
	line(`  <References>`)
	for n, d := range m.Disks {
		if d.File != "" {
			size := ""
			if d.Length > 0 {
				size = fmt.Sprintf(` ovf:size="%d"`, d.Length)
			}
			line(`    <File ovf:id="file%d" ovf:href="%s"`+size+`/>`, n+1, d.File)
		}
	}
	for n, name := range m.Images {
		line(`    <File ovf:id="image%d" ovf:href="%s"/>`, n+1, name)
	}
	line(`  </References>`)
	line(`  <DiskSection>`)
	line(`    <Info>The disks</Info>`)
	for n, d := range m.Disks {
		ref := ""
		if d.File != "" {
			ref = fmt.Sprintf(` ovf:fileRef="file%d"`, n+1)
		}
		line(`    <Disk ovf:diskId="disk%d"`+ref+` ovf:capacity="%d" ovf:capacityAllocationUnits="byte" ovf:format="%s"/>`, n+1, int64(d.Size), d.Format)
	}
	line(`  </DiskSection>`)
	line(`  <NetworkSection>`)
	line(`    <Info>The networks</Info>`)
	for _, n := range m.Networks {
		line(`    <Network ovf:name="%s"/>`, n)
	}
	line(`  </NetworkSection>`)
	line(`  <VirtualSystem ovf:id="%s">`, m.Name)
	line(`    <Info>A machine</Info>`)
	line(`    <Name>%s</Name>`, m.Name)
	line(`    <OperatingSystemSection ovf:id="%d">`, map[bool]int{true: 102, false: 101}[strings.Contains(strings.ToLower(m.System), "windows")])
	line(`      <Info>The system</Info>`)
	if m.System != "" {
		line(`      <Description>%s</Description>`, m.System)
	}
	line(`    </OperatingSystemSection>`)
	m.hardware(line)
	if len(m.Properties) > 0 || m.Product != (Product{}) {
		line(`    <ProductSection>`)
		line(`      <Info>The product</Info>`)
		for _, e := range [][2]string{{"Product", m.Product.Name}, {"Vendor", m.Product.Vendor}, {"Version", m.Product.Version}} {
			if e[1] != "" {
				line(`      <`+e[0]+`>%s</`+e[0]+`>`, e[1])
			}
		}
		for _, p := range m.Properties {
			line(`      <Property ovf:key="%s" ovf:type="string" ovf:userConfigurable="true" ovf:value="%s"/>`, p.Key, p.Value)
		}
		line(`    </ProductSection>`)
	}
	if m.Notes != "" {
		line(`    <AnnotationSection>`)
		line(`      <Info>Notes</Info>`)
		line(`      <Annotation>%s</Annotation>`, m.Notes)
		line(`    </AnnotationSection>`)
	}
	line(`  </VirtualSystem>`)
	line(`</Envelope>`)
	return []byte(b.String())
}

// hardware writes the resources; the elements of each are in the order that their schema wants.
func (m *Machine) hardware(line func(format string, args ...any)) {
	id := 0
	item := func(kind int, name string, elements ...[2]string) {
		id++
		line(`      <Item>`)
		all := map[string]string{"ElementName": name, "InstanceID": fmt.Sprint(id), "ResourceType": fmt.Sprint(kind)}
		for _, e := range elements {
			all[e[0]] = e[1]
		}
		for _, tag := range []string{"Address", "AddressOnParent", "AllocationUnits", "AutomaticAllocation", "Connection", "ElementName", "HostResource", "InstanceID", "Parent", "ResourceSubType", "ResourceType", "VirtualQuantity"} {
			if all[tag] != "" {
				line(`        <rasd:`+tag+`>%s</rasd:`+tag+`>`, all[tag])
			}
		}
		line(`      </Item>`)
	}
	transport := ""
	if len(m.Properties) > 0 { // by a CD (11.2), as its guest was told here
		transport = ` ovf:transport="iso"`
	}
	line(`    <VirtualHardwareSection` + transport + `>`)
	line(`      <Info>The hardware</Info>`)
	line(`      <System>`)
	line(`        <vssd:ElementName>Virtual hardware</vssd:ElementName>`)
	line(`        <vssd:InstanceID>0</vssd:InstanceID>`)
	line(`        <vssd:VirtualSystemIdentifier>%s</vssd:VirtualSystemIdentifier>`, m.Name)
	// a type that is not known to an importer is refused by some of them
	line(`        <vssd:VirtualSystemType>vmx-13 virtualbox-2.2</vssd:VirtualSystemType>`)
	line(`      </System>`)
	item(typeCPU, fmt.Sprintf("%d CPUs", m.CPUs), [2]string{"AllocationUnits", "hertz * 10^6"}, [2]string{"VirtualQuantity", fmt.Sprint(m.CPUs)})
	item(typeMemory, fmt.Sprintf("%d MiB of memory", m.Memory>>20), [2]string{"AllocationUnits", "byte * 2^20"}, [2]string{"VirtualQuantity", fmt.Sprint(int64(m.Memory >> 20))})
	item(typeSATA, "disk controller", [2]string{"Address", "0"}, [2]string{"ResourceSubType", "AHCI"})
	controller := fmt.Sprint(id)
	for n := range m.Disks {
		item(typeDisk, fmt.Sprintf("disk %d", n+1), [2]string{"AddressOnParent", fmt.Sprint(n)}, [2]string{"HostResource", fmt.Sprintf("ovf:/disk/disk%d", n+1)}, [2]string{"Parent", controller})
	}
	for n := range m.Images {
		item(typeCD, fmt.Sprintf("CD drive %d", n+1), [2]string{"AddressOnParent", fmt.Sprint(len(m.Disks) + n)}, [2]string{"AutomaticAllocation", "true"}, [2]string{"HostResource", fmt.Sprintf("ovf:/file/image%d", n+1)}, [2]string{"Parent", controller})
	}
	for n, c := range m.Cards {
		item(typeCard, fmt.Sprintf("network adapter %d", n+1), [2]string{"Address", c.MAC}, [2]string{"AddressOnParent", fmt.Sprint(n)}, [2]string{"AutomaticAllocation", "true"}, [2]string{"Connection", c.Network}, [2]string{"ResourceSubType", "E1000"})
	}
	if m.Firmware == machine.UEFI {
		line(`      <vmw:Config ovf:required="false" vmw:key="firmware" vmw:value="efi"/>`)
	}
	line(`    </VirtualHardwareSection>`)
}
