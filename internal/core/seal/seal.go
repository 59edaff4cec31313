// Package seal writes the script that takes the identity of a machine away inside of its guest, so that
// what is left can be a template.
package seal

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/pattern"
)

// Order says what to clean.
type Order struct {
	// Keep are codes of left-overs, without `left-`, that stay.
	Keep []string
	// Hook is a script that runs in the guest before anything is cleaned; empty for none.
	Hook []byte
	// Lock are the logins whose passwords are taken away.
	Lock []string
}

// Act is what becomes of one kind of left-over.
type Act struct {
	Code string `json:"code"`
	Text string `json:"text"`
	// Cleaned says that it goes; else Why says why it stays.
	Cleaned bool   `json:"cleaned"`
	Why     string `json:"why,omitempty"`
	Where   string `json:"where,omitempty"`
	Blocks  bool   `json:"blocks,omitempty"` // it keeps the machine from being a template
}

// stays are the left-overs that are never cleaned, and why.
var stays = map[string]string{
	"left-domain-member": "only the guest itself can leave its domain: do that first",
	"left-hibernation":   "start the machine and shut it down first",
	"left-swap":          "clones can use it, too",
	"left-passwords":     "whoever owns the template may need them; lock them with passwd -l before",
	"left-tls-keys":      "servers may not start without them",
	"left-containers":    "they may be wanted",
}

// how are the commands that clean, in the words of the script: wipe files, folders of files, blank files, edit a file. Nothing
// stands for wiping the files of the check.
var how = map[string]string{
	"left-ssh-host-keys":  `wipe /etc/ssh/ssh_host_*_key /etc/ssh/ssh_host_*_key.pub`,
	"left-machine-id":     `blank /etc/machine-id`,
	"left-dbus-id":        `[ -L /var/lib/dbus/machine-id ] || wipe /var/lib/dbus/machine-id`,
	"left-cloud-instance": `folders /var/lib/cloud/instances /var/lib/cloud/data /var/lib/cloud/sem /var/lib/mintbatch /etc/mintbatch; wipe /etc/systemd/system/cloud-init-local.service.d/10-new-seed.conf /var/log/cloud-init*; rm -f /var/lib/cloud/instance`,
	"left-cloud-seed":     `folders /var/lib/cloud/seed/*`,
	"left-static-network": `for f in /etc/netplan/*.yaml /etc/network/interfaces.d/* /etc/NetworkManager/system-connections/* /etc/sysconfig/network-scripts/ifcfg-* /etc/systemd/network/*.network /etc/sysconfig/network/ifcfg-*; do
  case $f in */ifcfg-lo) continue ;; esac
  [ ! -f "$f" ] || ! grep -qE 'addresses:|macaddress:|inet6? static|address1=|mac-address=|IPADDR|HWADDR|Address=' "$f" || wipe "$f"
done
if grep -qE 'inet6? static' /etc/network/interfaces 2>/dev/null; then
  zero /etc/network/interfaces
  printf 'source /etc/network/interfaces.d/*\n\nauto lo\niface lo inet loopback\n' >/etc/network/interfaces
fi`,
	"left-host-name": `blank /etc/hostname`,
	"left-hosts":     `edit /etc/hosts '/^127\.0\.1\.1/d'`,
	"left-logs": `folders /var/log/journal/*
find /var/log -xdev -type f ! -name 'README*' ! -path '/var/log/journal/*' >$work/logs
while read -r f; do
  case $f in *.gz | *.xz | *.[0-9] | *.old) wipe "$f" ;; *) blank "$f" ;; esac
done <$work/logs`,
	"left-package-cache":     `rm -rf /var/cache/apt/archives/*.deb /var/cache/apt/archives/partial/* /var/cache/dnf/* /var/cache/yum/* /var/cache/zypp/packages/* /var/cache/apk/*.apk /var/cache/pacman/pkg/*.pkg*`,
	"left-temporary-files":   `folders /tmp/* /tmp/.[!.]* /var/tmp/* /var/tmp/.[!.]*`,
	"left-empty-password":    `edit /etc/shadow 's/^\([^:]*\)::/\1:!:/'; wipe /etc/shadow-`,
	"left-known-password":    "", // which logins is known from the inspection
	"left-interface-names":   "",
	"left-managed-identity":  "",
	"left-authorized-keys":   "",
	"left-installer-answers": "",
	"left-private-keys":      "",
	"left-credentials":       "",
	"left-random-seed":       "",
	"left-dhcp-leases":       "",
	"left-network-state":     "",
	"left-storage-names":     "",
	"left-subscription":      "",
	"left-shell-history":     "",
	"left-known-hosts":       "",
	"left-mail":              "",
	"left-crash-dumps":       "",
	"left-volume-history":    "",
}

// Keepable lists what may be kept.
func Keepable() []string {
	var all []string
	for code := range how {
		all = append(all, strings.TrimPrefix(code, "left-"))
	}
	all = append(all, "windows-credentials")
	slices.Sort(all)
	return all
}

// Plan says what becomes of everything that was found.
func Plan(i *inspect.Inspection, keep []string) []Act {
	var all []Act
	for _, l := range i.Leftovers {
		a := Act{Code: l.Code, Text: l.Text, Where: where(l), Blocks: l.Severity == finding.Error}
		_, cleans := how[l.Code]
		cleans = cleans || slices.Contains(onWindows, l.Code)
		switch {
		case slices.Contains(keep, strings.TrimPrefix(l.Code, "left-")):
			a.Why = "it is to be kept"
		case cleans:
			a.Cleaned, a.Blocks = true, false
		default:
			a.Why = stays[l.Code]
			if a.Why == "" {
				a.Why = "to be mended by hand: " + l.Remedy
			}
		}
		all = append(all, a)
	}
	return all
}

func where(l inspect.Leftover) string {
	text := strings.Join(l.Where, " ")
	if more := l.Count - len(l.Where); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// Failed is where the script leaves the last lines of a hook that has failed.
const Failed = "/mintbatch-seal-failed"

// Mark begins the script.
const Mark = "#!/bin/sh\n# mintbatch: take the identity of this machine away, and shut it down\n"

// begin is the part before anything is cleaned: it waits until the guest has come up if that can be
// waited for, runs the hook, and stops every other process, so that nothing is written anew.
const begin = `PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin; export PATH
[ -w /dev/console ] && exec >/dev/console 2>&1
exec </dev/null
cd /
down() {
  sync
  if [ -w /proc/sysrq-trigger ]; then
    echo u >/proc/sysrq-trigger # every file system read-only, whoever has files open
    sleep 3
    echo o >/proc/sysrq-trigger
    sleep 30
  fi
  poweroff -f
}
`

const wait = `if [ "$1" = wait ] && command -v systemctl >/dev/null; then
  timeout 300 systemctl is-system-running --wait
fi
`

// words are the functions that clean. What is wiped is first written over with zeros, in its own blocks, and deleted only once
// these are on the disk: what was deleted could be read from the disk of the template otherwise.
const words = `work=$(mktemp -d /run/mintbatch-XXXXXX)
zero() {
  [ -f "$1" ] && [ ! -L "$1" ] && [ "$(stat -c %h "$1")" = 1 ] || return 0
  n=$(stat -c %s "$1")
  [ "$n" = 0 ] || head -c "$n" /dev/zero | dd of="$1" conv=notrunc 2>/dev/null
}
wipe() {
  for one; do
    [ -e "$one" ] || [ -L "$one" ] || continue
    zero "$one"
    printf '%s\n' "$one" >>$work/wiped
  done
}
folders() {
  for one; do
    [ -e "$one" ] || continue
    find "$one" -xdev -type f >$work/below
    while read -r below; do zero "$below"; done <$work/below
    printf '%s\n' "$one" >>$work/wiped
  done
}
blank() {
  for one; do
    [ -s "$one" ] || continue
    zero "$one"
    printf '%s\n' "$one" >>$work/blanked
  done
}
edit() {
  [ -f "$1" ] && sed "$2" "$1" >$work/edited && ! cmp -s $work/edited "$1" || return 0
  zero "$1"
  sync
  cat $work/edited >"$1"
}
touch $work/wiped $work/blanked
`

// freeze comes before anything is cleaned. However the script ends from then on, the guest goes down: what it is like then,
// its disk tells.
const freeze = `echo "mintbatch: cleaning"
trap down EXIT
kill -STOP -1
`

// finish deletes what was written over, once that is on the disk.
const finish = `sync
while read -r f; do rm -rf "$f"; done <$work/wiped
while read -r f; do [ ! -f "$f" ] || true >"$f"; done <$work/blanked
rm -rf $work
sync
`

const end = `for m in $(awk '$3 ~ /^(ext[234]|xfs|vfat|btrfs)$/ {print $2}' /proc/mounts); do fstrim "$m"; done
down
`

var login = pattern.Lazy(`^[A-Za-z0-9_][A-Za-z0-9_.-]*\$?$`)

// Script is what is run in the guest, as its administrator. It ends by switching the machine off.
func Script(o Order) string {
	var b strings.Builder
	b.WriteString(Mark + begin + wait)
	if len(o.Hook) > 0 {
		fmt.Fprintf(&b, "hook=/mintbatch-seal-hook\nbase64 -d >$hook <<'END'\n%s\nEND\nchmod 0700 $hook\n", folded(base64.StdEncoding.EncodeToString(o.Hook)))
		fmt.Fprintf(&b, "if ! $hook >$hook.log 2>&1; then\n  echo \"mintbatch: the hook has failed\"\n  tail -n 20 $hook.log >%s\n  down\nfi\nrm -f $hook $hook.log\n", Failed)
	}
	b.WriteString(freeze + words)
	for _, c := range inspect.Checks {
		special, cleans := how[c.Code]
		if !cleans || slices.Contains(o.Keep, strings.TrimPrefix(c.Code, "left-")) {
			continue
		}
		switch {
		case c.Code == "left-known-password":
			for _, name := range o.Lock {
				if login().MatchString(name) {
					fmt.Fprintf(&b, "edit /etc/shadow 's/^%[1]s:[^:]*:/%[1]s:!:/'; wipe /etc/shadow-\n", strings.NewReplacer(".", `\.`, "$", `\$`).Replace(name))
				}
			}
		case special != "":
			b.WriteString(special + "\n")
		default:
			b.WriteString(deleting(c))
		}
	}
	b.WriteString(finish + end)
	return b.String()
}

// deleting deletes the files that a check looks for.
func deleting(c inspect.Check) string {
	paths, except := c.Files()
	skip := ""
	for _, e := range except {
		skip += fmt.Sprintf("  case $f in *%s*) continue ;; esac\n", e)
	}
	return "for f in " + strings.Join(paths, " ") + "; do\n" + skip + "  [ ! -f \"$f\" ] || wipe \"$f\"\ndone\n"
}

func folded(text string) string {
	var b strings.Builder
	for len(text) > 76 {
		b.WriteString(text[:76] + "\n")
		text = text[76:]
	}
	return b.String() + text
}
