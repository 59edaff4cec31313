#!/bin/bash
# Lays out what an administrator has before the first mint: two stores, two
# networks, a shut-off template machine and a bare template volume.
#
#   lab.sh GUEST.qcow2 FOLDER
#
# What is at the hypervisor is taken away first, so this only runs below host.sh.
set -euo pipefail
: "${MINTBATCH_REAL_STATE:?run it with host.sh}"
PATH=$PATH:/usr/sbin:/sbin
guest=$1 dir=$(realpath -m "$2")
v() { virsh -q -c qemu:///system "$@"; }

for d in $(v list --all --name); do v destroy "$d" 2>/dev/null || true; v undefine --nvram --snapshots-metadata "$d" >/dev/null 2>&1 || true; done
for p in $(v pool-list --all --name); do v pool-destroy "$p" 2>/dev/null || true; v pool-undefine "$p" >/dev/null 2>&1 || true; done
for n in survey chart; do v net-destroy "$n" 2>/dev/null || true; v net-undefine "$n" >/dev/null 2>&1 || true; done
rm -rf "$dir"
mkdir -p "$dir"/{pool,templates}
chmod 755 "$dir" "$dir"/*
for pool in pool templates; do
  v pool-define-as "$pool" dir --target "$dir/$pool" >/dev/null
  v pool-start "$pool" >/dev/null
done
cp --reflink=auto "$guest" "$dir/templates/deb12-disk.qcow2"
qemu-img create -q -f qcow2 -F qcow2 -b "$dir/templates/deb12-disk.qcow2" "$dir/templates/deb12-base.qcow2"
chmod 444 "$dir"/templates/*
v pool-refresh templates >/dev/null

v net-define /dev/stdin >/dev/null <<'XML'
<network><name>survey</name><bridge name='mbsurvey'/><ip address='198.51.100.1' prefix='24'/></network>
XML
v net-define /dev/stdin >/dev/null <<'XML'
<network><name>chart</name><bridge name='mbchart'/><domain name='brackwater.example'/>
  <ip address='203.0.113.1' prefix='24'><dhcp><range start='203.0.113.100' end='203.0.113.199'/></dhcp></ip>
</network>
XML
for net in survey chart; do v net-start "$net" >/dev/null; done

# A machine as somebody might have built it: its own adapter, a CD left in, an
# element that no tool of ours knows.
v define /dev/stdin >/dev/null <<XML
<domain type='qemu'>
  <name>deb12-base</name>
  <title>the template</title>
  <description>Debian 12, prepared</description>
  <metadata><office:desk xmlns:office='https://office.brackwater.example/'>7</office:desk></metadata>
  <memory unit='MiB'>512</memory>
  <vcpu>1</vcpu>
  <os firmware='efi'><firmware><feature enabled='no' name='secure-boot'/></firmware><type arch='x86_64' machine='q35'>hvm</type><boot dev='network'/></os>
  <features><acpi/><apic/></features>
  <cpu mode='maximum'/>
  <clock offset='utc'><timer name='rtc' tickpolicy='catchup'/></clock>
  <devices>
    <disk type='file' device='disk'><driver name='qemu' type='qcow2' discard='unmap'/>
      <source file='$dir/templates/deb12-base.qcow2'/><target dev='vda' bus='virtio'/></disk>
    <disk type='file' device='cdrom'><target dev='sda' bus='sata'/><readonly/></disk>
    <interface type='network'><mac address='52:54:00:00:00:01'/><source network='chart'/><model type='virtio'/></interface>
    <serial type='pty'/><console type='pty'/>
    <watchdog model='i6300esb' action='reset'/>
    <rng model='virtio'><backend model='random'>/dev/urandom</backend></rng>
  </devices>
</domain>
XML
