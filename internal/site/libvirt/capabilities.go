package libvirt

import (
	"context"
	"slices"
)

// capabilities are what a host can run.
type capabilities struct {
	arch      string
	emulators map[string][]string // kinds of domain, by architecture
	firmware  []string
}

// emulator is the host's best for an architecture.
func (c *capabilities) emulator(arch string) string {
	if slices.Contains(c.emulators[arch], "kvm") {
		return "kvm"
	}
	return "qemu"
}

// readCapabilities asks for the capabilities, once.
func (h *host) readCapabilities(ctx context.Context) (*capabilities, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.capabilities != nil {
		return h.capabilities, nil
	}
	var all, one string
	err := h.call(ctx, func(l daemon) (err error) {
		if all, err = l.ConnectGetCapabilities(); err != nil {
			return err
		}
		one, err = l.ConnectGetDomainCapabilities(nil, nil, nil, nil, 0)
		return err
	})
	if err != nil {
		return nil, err
	}
	c := &capabilities{emulators: map[string][]string{}, firmware: []string{"bios"}}
	doc, err := parse(all, "capabilities", "the host "+h.name)
	if err != nil {
		return nil, err
	}
	c.arch = textAt(doc.Root(), "./host/cpu/arch")
	for _, a := range doc.FindElements("./capabilities/guest/arch") {
		name := a.SelectAttrValue("name", "")
		for _, kind := range a.FindElements("./domain") {
			if t := kind.SelectAttrValue("type", ""); !slices.Contains(c.emulators[name], t) {
				c.emulators[name] = append(c.emulators[name], t)
			}
		}
	}
	if doc, err = parse(one, "domainCapabilities", "what the host "+h.name+" runs"); err != nil {
		return nil, err
	}
	if doc.FindElement("./domainCapabilities/os/enum[@name='firmware']/[value='efi']") != nil {
		c.firmware = append(c.firmware, "uefi")
	}
	h.capabilities = c
	return c, nil
}
