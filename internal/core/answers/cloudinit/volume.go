package cloudinit

import (
	"cmp"
	"fmt"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
)

// volumeScript makes a data disk ready: a partition and a file system, where
// nothing is on the disk yet, and a line of fstab. The disk is found by the
// serial number that the site has given it, since the names of devices are a
// matter of luck.
func volumeScript(v machine.Volume) string {
	serial := fmt.Sprintf("data-%d", v.Disk)
	kind := cmp.Or(v.Filesystem, "ext4")
	label := cmp.Or(v.Label, fmt.Sprintf("data%d", v.Disk))
	flags := map[machine.Filesystem]string{"ext4": "-q -F -L", "xfs": "-q -f -L", "btrfs": "-q -f -L", "vfat": "-n"}[kind]
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line(`udevadm settle --timeout=60 || true`)
	line(`disk=; for d in /dev/disk/by-id/*[-_]%s; do [ ! -b "$d" ] || disk=$(readlink -f "$d"); done`, serial)
	line(`[ -n "$disk" ] || { echo "there is no disk with the serial number %s" >&2; exit 1; }`, serial)
	line(`if ! blkid -p "$disk" >/dev/null; then`)
	line(`  if command -v sfdisk >/dev/null; then echo ", , L" | sfdisk -q -X gpt "$disk"`)
	line(`  elif command -v parted >/dev/null; then parted -s "$disk" mklabel gpt mkpart %s 1MiB 100%%`, label)
	line(`  else mkfs.%s %s %s "$disk"; fi`, kind, flags, label)
	line(`  udevadm settle --timeout=60 || true`)
	line(`fi`)
	line(`volume=$(lsblk -lnpo NAME,TYPE "$disk" | awk '$2 == "part" {print $1; exit}'); volume=${volume:-$disk}`)
	line(`blkid -p -s TYPE "$volume" | grep -q TYPE= || mkfs.%s %s %s "$volume"`, kind, flags, label)
	if v.Mount == "" {
		return b.String()
	}
	mount := answers.ShellQuoted(v.Mount)
	line(`uuid=$(blkid -p -s UUID -o value "$volume")`)
	line(`mkdir -p %s`, mount)
	line(`grep -q "^UUID=$uuid " /etc/fstab || echo "UUID=$uuid "%s" %s %s 0 2" >> /etc/fstab`, mount, kind, cmp.Or(v.Options, "defaults,nofail"))
	line(`mountpoint -q %s || mount %s`, mount, mount)
	return b.String()
}
