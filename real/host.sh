#!/bin/bash
# Runs a command while libvirt's daemon runs in network and mount namespaces of
# its own: no bridge and no packet reaches the machine's own network.
#
#   host.sh COMMAND...
#
# The socket is libvirt's usual one. While it runs, MINTBATCH_REAL_RESTART names
# a script that restarts the daemon.
set -euo pipefail

run=$(mktemp -d)
export run MINTBATCH_REAL_RESTART=$run/restart
cat >"$run/namespace" <<'INNER'
#!/bin/bash
ip link set lo up
# Where /dev/kvm gives no guest, libvirt would probe it anew at each call; a file
# that the emulator's user cannot open ends that.
if [[ -e /dev/kvm ]]; then
  mknod -m 000 "$run/no-kvm" c 1 3 && mount --bind "$run/no-kvm" /dev/kvm
fi
while [[ ! -e $run/over ]]; do
  libvirtd >>"$run/log" 2>&1 &
  echo $! >"$run/pid"
  wait $! || true
done
INNER
cat >"$run/restart" <<INNER
#!/bin/bash
kill \$(cat $run/pid)
for _ in \$(seq 100); do sleep 0.1; virsh -q -c qemu:///system version >/dev/null 2>&1 && exit 0; done
exit 1
INNER
chmod +x "$run/namespace" "$run/restart"
over() {
  for d in $(virsh -q -c qemu:///system list --name 2>/dev/null); do virsh -q -c qemu:///system destroy "$d" >/dev/null || true; done
  for n in $(virsh -q -c qemu:///system net-list --name 2>/dev/null); do virsh -q -c qemu:///system net-destroy "$n" >/dev/null || true; done
  touch "$run/over"
  kill "$(cat "$run/pid")" 2>/dev/null || true
  wait || true
  rm -rf "$run"
}
pgrep -x virtlogd >/dev/null || virtlogd -d
unshare -n -m "$run/namespace" &
trap over EXIT
for _ in $(seq 100); do
  virsh -q -c qemu:///system version >/dev/null 2>&1 && break
  sleep 0.1
done
virsh -q -c qemu:///system version >/dev/null
"$@"
