#!/usr/bin/env bash
# Makes the disk that the sandbox's templates have: what a guest of the demo might be, without its
# programs. With `clean` it is that of a guest that was cleaned to be a template. Everything in it is made up.
set -euo pipefail
out=$(realpath -m "$1"); work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
root=$work/root
put() { mkdir -p "$root/$(dirname "$1")"; cat >"$root/$1"; }
put etc/os-release <<<'PRETTY_NAME="Debian GNU/Linux 12 (bookworm)"
ID=debian
VERSION_ID="12"'
put usr/lib/python3/dist-packages/cloudinit/version.py <<<'__VERSION__ = "22.4.2"'
put etc/cloud/cloud.cfg <<<'cloud_init_modules: [seed_random, bootcmd, write-files, growpart, resizefs, set_hostname, update_etc_hosts, users-groups, ssh]
cloud_config_modules: [set-passwords, timezone, runcmd]
cloud_final_modules: [scripts-user, final-message, power-state-change]'
put etc/cloud/cloud.cfg.d/90_dpkg.cfg <<<'datasource_list: [NoCloud, ConfigDrive, None]'
for program in usr/sbin/qemu-ga usr/sbin/sshd usr/bin/sudo usr/sbin/netplan usr/lib/systemd/systemd usr/lib/systemd/systemd-networkd usr/bin/sh boot/vmlinuz-6.1.0-28-amd64; do
  printf '\177ELF\2\1\1\0\0\0\0\0\0\0\0\0\3\0\76\0' | put "$program"
done
ln -s usr/lib "$root/lib"; ln -s usr/sbin "$root/sbin"; ln -s usr/bin "$root/bin"; ln -s ../lib/systemd/systemd "$root/usr/sbin/init"
put etc/fstab <<<'UUID=5d1f0c1e-7a1b-4b0e-9c1d-0a0b0c0d0e0f / ext4 defaults 0 1
LABEL=ESP /boot/efi vfat umask=0077 0 1'
put etc/shadow <<<'root:*:20000:0:99999:7:::
debian:!:20000:0:99999:7:::'
: | put etc/machine-id
put etc/hosts <<<'127.0.0.1 localhost'
if [ "${2:-}" != clean ]; then
put etc/ssh/ssh_host_ed25519_key <<<'made up'
put var/lib/systemd/random-seed <<<'made up'
put home/debian/.bash_history <<<'sudo apt-get update'
put var/log/dpkg.log <<<'made up'
put var/cache/apt/archives/chrony_4.3-2_amd64.deb <<<'made up'
fi
find "$root" -exec touch -h -d 2026-01-01 {} +
truncate -s 24M "$work/fs"
SOURCE_DATE_EPOCH=1767225600 mke2fs -q -t ext4 -O ^has_journal,^resize_inode -N 512 -U 5d1f0c1e-7a1b-4b0e-9c1d-0a0b0c0d0e0f -E hash_seed=5d1f0c1e-7a1b-4b0e-9c1d-0a0b0c0d0e0f -L root -d "$root" "$work/fs"
truncate -s 2M "$work/esp"
mkfs.fat -n ESP -i 1234abcd --invariant "$work/esp" >/dev/null
mmd -i "$work/esp" ::EFI ::EFI/BOOT
printf 'MZ' >"$work/loader"; touch -d 2026-01-01 "$work/loader"
mcopy -m -i "$work/esp" "$work/loader" ::EFI/BOOT/BOOTX64.EFI
truncate -s 28M "$work/disk"
printf 'label: gpt\nlabel-id: 0A0B0C0D-0000-4000-8000-000000000001\nstart=2048,size=4096,type=U,uuid=0A0B0C0D-0000-4000-8000-000000000002\nstart=6144,size=49152,type=L,uuid=0A0B0C0D-0000-4000-8000-000000000003\n' | sfdisk -q "$work/disk"
dd if="$work/esp" of="$work/disk" bs=512 seek=2048 conv=notrunc status=none
dd if="$work/fs" of="$work/disk" bs=512 seek=6144 conv=notrunc status=none
gzip -9nc "$work/disk" >"$out"
