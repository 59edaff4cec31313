#!/bin/bash
# Makes linked clones the way a plain script of general-purpose programs does:
# the yardstick of BenchmarkLibvirtLinkedClones.
#
#   clones.sh COUNT FOLDER
set -euo pipefail
count=$1 dir=$2
v() { virsh -q -c qemu:///system "$@"; }
for i in $(seq -w 1 "$count"); do
  name=loop-$i
  work=$(mktemp -d)
  v vol-create-as pool "$name.qcow2" 2G --format qcow2 --backing-vol "$dir/templates/deb12-disk.qcow2" --backing-vol-format qcow2 >/dev/null
  ssh-keygen -q -t ed25519 -N '' -C "$name" -f "$work/key"
  hash=$(openssl passwd -6 "$(head -c 12 /dev/urandom | base64)")
  printf 'instance-id: %s\nlocal-hostname: %s\n' "$name" "$name" >"$work/meta-data"
  {
    printf '#cloud-config\nhostname: %s\nusers:\n- name: survey\n  hashed_passwd: "%s"\nssh_keys:\n  ed25519_private: |\n' "$name" "$hash"
    sed 's/^/    /' "$work/key"
  } >"$work/user-data"
  printf 'version: 2\nethernets:\n  adapter1: {match: {name: "en*"}, dhcp4: true}\n' >"$work/network-config"
  xorriso -as mkisofs -quiet -V cidata -J -R -o "$work/seed.iso" "$work"/{meta-data,user-data,network-config} 2>/dev/null
  v vol-create-as pool "$name.iso" "$(stat -c %s "$work/seed.iso")" --format raw >/dev/null
  v vol-upload --pool pool "$name.iso" "$work/seed.iso"
  cat >"$work/domain.xml" <<XML
<domain type='qemu'><name>$name</name><memory unit='MiB'>768</memory><vcpu>2</vcpu>
  <os><type arch='x86_64' machine='q35'>hvm</type></os><features><acpi/><apic/></features><cpu mode='maximum'/>
  <devices>
    <disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='$dir/pool/$name.qcow2'/><target dev='vda' bus='virtio'/></disk>
    <disk type='file' device='cdrom'><driver name='qemu' type='raw'/><source file='$dir/pool/$name.iso'/><target dev='sda' bus='sata'/><readonly/></disk>
    <interface type='network'><source network='survey'/><model type='virtio'/></interface>
    <serial type='pty'/><channel type='unix'><target type='virtio' name='org.qemu.guest_agent.0'/></channel>
    <graphics type='vnc' port='-1'/><video><model type='vga'/></video>
    <rng model='virtio'><backend model='random'>/dev/urandom</backend></rng>
  </devices>
</domain>
XML
  v define "$work/domain.xml" >/dev/null
  rm -rf "$work"
done
