package libvirt

import (
	"context"
	"slices"

	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/contract"
)

// capabilities are what a host can run.
type capabilities struct {
	arch      string
	emulators map[string][]string // kinds of domain, by architecture
	firmware  []string
	features  []string
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
	c.features = h.features(ctx, c.arch)
	h.capabilities = c
	return c, nil
}

// features asks what machines of the usual board can have.
func (h *host) features(ctx context.Context, arch string) []string {
	found := []string{}
	board := boards[arch]
	if board == "" {
		return found
	}
	var text string
	if err := h.call(ctx, func(l daemon) (err error) {
		text, err = l.ConnectGetDomainCapabilities(nil, rpc.OptString{arch}, rpc.OptString{board}, nil, 0)
		return err
	}); err != nil {
		return found
	}
	doc, err := parse(text, "domainCapabilities", "what the host "+h.name+" runs")
	if err != nil {
		return found
	}
	if doc.FindElement("./domainCapabilities/os/loader/enum[@name='secure']/[value='yes']") != nil {
		found = append(found, contract.SecureBoot)
	}
	if doc.FindElement("./domainCapabilities/devices/tpm[@supported='yes']/enum[@name='backendModel']/[value='emulator']") != nil {
		found = append(found, contract.TPM)
	}
	return found
}

// boards are the usual ones, by architecture.
var boards = map[string]string{"x86_64": "q35", "aarch64": "virt", "riscv64": "virt"}
