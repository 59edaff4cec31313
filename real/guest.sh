#!/bin/bash
# Builds the guest that the real suite clones: a Debian with cloud-init and the
# guest agent, on a disk that boots by itself, with BIOS and with UEFI.
#
#   guest.sh FILE.qcow2
#
# The file is left alone when this script, by its digest, has made it before.
set -euo pipefail
PATH=$PATH:/usr/sbin:/sbin

out=$(realpath -m "$1")
stamp=$(sha256sum "$0" | cut -c1-16)
if [[ -f $out && -f $out.made && $(<"$out.made") == "$stamp" ]]; then
  exit 0
fi
mkdir -p "$(dirname "$out")"
work=$(mktemp -d "$(dirname "$out")/guest.XXXXXX")
root=$work/root
trap 'for m in proc sys dev; do umount -q "$root/$m" || true; done; rm -rf "$work"' EXIT

include=linux-image-amd64,systemd-sysv,cloud-init,cloud-guest-utils,fdisk,openssh-server,qemu-guest-agent,iproute2,netplan.io,udev,dbus,systemd-resolved,sudo,hostname,python3-cffi-backend,zstd
debootstrap --variant=minbase --include="$include" bookworm "$root"
rm -f "$root/etc/resolv.conf"
cp /etc/resolv.conf "$root/etc/resolv.conf"
for m in proc sys dev; do mount --bind "/$m" "$root/$m"; done
mkdir -p "$root/etc/initramfs-tools"
sed -i 's/^MODULES=.*/MODULES=list/' "$root/etc/initramfs-tools/initramfs.conf" 2>/dev/null || true
printf '%s\n' virtio_pci virtio_blk virtio_scsi virtio_console ahci ata_piix sd_mod sr_mod isofs ext4 >>"$root/etc/initramfs-tools/modules"
chroot "$root" env DEBIAN_FRONTEND=noninteractive sh -c 'apt-get -y -f install && dpkg --configure -a && update-initramfs -u'
for m in proc sys dev; do umount "$root/$m"; done

# What every clone would share otherwise, and what is of no use to any.
: >"$root/etc/machine-id"
rm -f "$root"/etc/ssh/ssh_host_* "$root/etc/hostname" "$root/var/lib/dbus/machine-id"
ln -sf ../run/systemd/resolve/stub-resolv.conf "$root/etc/resolv.conf"
rm -rf "$root"/var/cache/apt/archives/*.deb "$root"/var/lib/apt/lists/* "$root"/usr/share/doc/* "$root"/usr/share/man/*
for unit in apt-daily.timer apt-daily-upgrade.timer e2scrub_reap.service; do ln -sf /dev/null "$root/etc/systemd/system/$unit"; done
echo 'LABEL=root / ext4 defaults 0 1' >"$root/etc/fstab"
mkdir -p "$root/boot/grub"

cat >"$work/grub.cfg" <<'GRUB'
search --no-floppy --label root --set=root
linux /vmlinuz root=LABEL=root rw console=tty0 console=ttyS0 quiet mitigations=off no_timer_check
initrd /initrd.img
boot
GRUB
modules="part_msdos ext2 normal linux search search_label"
grub-mkimage -O x86_64-efi -p /boot/grub -c "$work/grub.cfg" -o "$work/BOOTX64.EFI" $modules
grub-mkimage -O i386-pc -p /boot/grub -c "$work/grub.cfg" -o "$work/core.img" $modules biosdisk

# An MBR, GRUB right behind it, a system partition for UEFI and the root.
mib=$((1024 * 1024))
disk=$work/disk.raw
truncate -s $((1100 * mib)) "$disk"
printf 'label: dos\nstart=2048,size=32768,type=ef\nstart=34816,type=83,bootable\n' | sfdisk -q "$disk"
dd if=/usr/lib/grub/i386-pc/boot.img of="$disk" bs=440 count=1 conv=notrunc status=none
dd if="$work/core.img" of="$disk" bs=512 seek=1 conv=notrunc status=none
mformat -i "$disk@@$mib" -T 32768 -h 64 -s 32 ::
mmd -i "$disk@@$mib" ::/EFI ::/EFI/BOOT
mcopy -i "$disk@@$mib" "$work/BOOTX64.EFI" ::/EFI/BOOT/BOOTX64.EFI
mke2fs -q -t ext4 -L root -d "$root" -E offset=$((17 * mib)) "$disk" $((1083 * 1024))k
qemu-img convert -O qcow2 "$disk" "$work/guest.qcow2"
mv "$work/guest.qcow2" "$out"
echo "$stamp" >"$out.made"
