package libvirt

import (
	"fmt"
	"slices"
	"strings"
)

// remarks reports what of a template's hardware its clones cannot have for themselves,
// or not as it is.
func (d *definition) remarks() []string {
	var all []string
	tell := func(path, format string) {
		if n := len(d.root.FindElements(path)); n > 0 {
			text := format
			if strings.Contains(format, "%d") {
				text = fmt.Sprintf(format, n)
			}
			if !slices.Contains(all, text) {
				all = append(all, text)
			}
		}
	}
	tell("./devices/hostdev", "it uses %d devices of its host, which only one machine at a time can use")
	tell("./devices/redirdev/source[@mode='connect']", "it has redirected devices, which all clones share")
	tell("./devices/tpm", "it has a TPM; each clone starts with an empty one")
	tell("./devices/shmem", "it shares memory with other machines, and so do its clones")
	tell("./devices/filesystem", "it uses folders of its host, and so do its clones")
	tell("./devices/memory[@model='nvdimm']", "it has file-backed memory, which its clones would also write to")
	tell("./devices/memory[@model='virtio-pmem']", "it has file-backed memory, which its clones would also write to")
	tell("./devices/lease", "it uses locks of its host, which only one machine at a time can hold")
	tell("./launchSecurity", "it has keys for encrypted memory, which its clones share")
	tell("./seclabel[@type='static']", "it has a fixed security label, which its clones share")
	tell("./devices/channel[@type='file']", "it has file channels, which clones do not get")
	tell("./devices/disk[@device='cdrom']/source", "it has media in its CD drives; those of its clones are empty")
	tell("./os/kernel", "it boots a kernel file of its host, and so do its clones")
	if n := len(d.adapters()); n > 1 {
		all = append(all, fmt.Sprintf("it has %d adapters; clones get those that their rows name (`hardware: {extra_adapters: unplugged}` keeps the others, unplugged)", n))
	}
	return all
}
