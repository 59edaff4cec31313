#!/bin/bash
# Runs a command while two daemons of libvirt run, each in network and mount
# namespaces of its own, and on definitions of its own: no bridge and no packet
# reaches the machine's own network, and no machine of its own is seen.
#
#   host.sh COMMAND...
#
# The first daemon has libvirt's usual socket. While they run there are
#   MINTBATCH_REAL_STATE    the first one's /var/lib/libvirt
#   MINTBATCH_REAL_RESTART  a script that restarts it
#   MINTBATCH_REAL_INSIDE   a script that runs a command where it runs
#   MINTBATCH_REAL_SECOND   the socket of the second one
#   MINTBATCH_REAL_STOP     a script that stops the second one for good
set -euo pipefail
PATH=$PATH:/usr/sbin:/sbin

if virsh -q -c qemu:///system version >/dev/null 2>&1; then
  echo "a libvirt daemon runs here already; this needs one of its own, on a machine without" >&2
  exit 1
fi
run=$(mktemp -d)
chmod 755 "$run"
second="qemu+unix:///system?socket=$run/second/run/libvirt-sock"
export run MINTBATCH_REAL_STATE=$run/first/state MINTBATCH_REAL_RESTART=$run/restart \
  MINTBATCH_REAL_SECOND=$run/second/run/libvirt-sock MINTBATCH_REAL_STOP=$run/stop \
  MINTBATCH_REAL_INSIDE=$run/inside

cat >"$run/namespace" <<'INNER'
#!/bin/bash
# namespace FIRST-OR-SECOND
own=$run/$1
mkdir -p "$own"/{state,etc,run}
ip link set lo up
mount --bind "$own/state" /var/lib/libvirt
for d in qemu storage secrets nwfilter; do
  [[ -d /etc/libvirt/$d ]] && mkdir -p "$own/etc/$d" && mount --bind "$own/etc/$d" "/etc/libvirt/$d"
done
printf 'stdio_handler = "file"\n' >"$own/etc/qemu.conf"
mount --bind "$own/etc/qemu.conf" /etc/libvirt/qemu.conf
[[ $1 == second ]] && mkdir -p /run/libvirt && mount --bind "$own/run" /run/libvirt
# Where /dev/kvm gives no guest, libvirt would probe it anew at each call; a
# device that the emulator's user cannot open ends that.
if [[ -e /dev/kvm ]]; then
  mknod -m 000 "$own/no-kvm" c 1 3 && mount --bind "$own/no-kvm" /dev/kvm
fi
while [[ ! -e $own/over ]]; do
  libvirtd --pid-file "$own/libvirtd.pid" >>"$own/log" 2>&1 &
  echo $! >"$own/pid"
  wait $! || true
done
INNER
cat >"$run/restart" <<INNER
#!/bin/bash
kill \$(cat $run/first/pid)
for _ in \$(seq 100); do sleep 0.1; virsh -q -c qemu:///system version >/dev/null 2>&1 && exit 0; done
exit 1
INNER
cat >"$run/stop" <<INNER
#!/bin/bash
touch $run/second/over
kill \$(cat $run/second/pid)
while kill -0 \$(cat $run/second/pid) 2>/dev/null; do sleep 0.1; done
INNER
cat >"$run/inside" <<INNER
#!/bin/bash
exec nsenter -t \$(cat $run/first/pid) -m -n "\$@"
INNER
chmod +x "$run"/{namespace,restart,stop,inside}

over() {
  for uri in qemu:///system "$second"; do
    for d in $(virsh -q -c "$uri" list --name 2>/dev/null); do virsh -q -c "$uri" destroy "$d" >/dev/null || true; done
    for n in $(virsh -q -c "$uri" net-list --name 2>/dev/null); do virsh -q -c "$uri" net-destroy "$n" >/dev/null || true; done
    for p in $(virsh -q -c "$uri" pool-list --name 2>/dev/null); do virsh -q -c "$uri" pool-destroy "$p" >/dev/null || true; done
  done
  touch "$run"/{first,second}/over
  for d in first second; do kill "$(cat "$run/$d/pid")" 2>/dev/null || true; done
  wait || true
  rm -rf "$run"
}
trap over EXIT
for d in first second; do unshare -n -m "$run/namespace" "$d" & done
for uri in qemu:///system "$second"; do
  for _ in $(seq 300); do
    virsh -q -c "$uri" version >/dev/null 2>&1 && break
    sleep 0.1
  done
  virsh -q -c "$uri" version >/dev/null
done
"$@"
