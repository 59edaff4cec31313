package setup

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"mintbatch/internal/core/answers/cloudinit"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/core/tree"
)

// checkContents holds first-boot contents against what a guest can make of
// them. What is sealed is not known here, and believed.
func checkContents(c Contents, bad complain) {
	oneOf := func(value, what string, words []string, path ...string) {
		if value != "" && !slices.Contains(words, value) {
			bad(fmt.Sprintf("%s must be %s, not %q", what, strings.Join(words, " or "), value), finding.DidYouMean(value, words), path...)
		}
	}
	oneOf(c.End, "end", []string{"reboot", "power-off"}, "end")
	oneOf(c.Wait, "wait", []string{"all", "first", "none"}, "wait")
	oneOf(c.SSH.Root, "root", []string{"off", "keys", "on"}, "ssh", "root")
	oneOf(c.Windows.Arch, "arch", []string{"amd64", "arm64"}, "windows", "arch")
	oneOf(c.Windows.Shell, "shell", []string{"cmd", "powershell"}, "windows", "shell")
	for i, r := range c.Windows.Remote {
		oneOf(r, "remote", []string{"desktop", "management"}, "windows", "remote", fmt.Sprint(i))
	}
	if c.Windows.Logons < 0 || c.Windows.Logons > 100 {
		bad("logons must be from 0 to 100", "", "windows", "logons")
	}
	if j := c.Windows.Join; j != (machine.Join{}) {
		switch {
		case j.Domain == "" || j.Account == "" || j.Password == "":
			bad("joining a domain takes domain, account and password", "the password as secret:NAME", "windows", "join")
		case !isSealed(j.Password):
			bad("the password of the joining account must not stand here", "seal it with `mintbatch secret set NAME` and write password: secret:NAME", "windows", "join", "password")
		case c.Windows.Workgroup != "":
			bad("a machine is in a workgroup or in a domain", "remove workgroup or join", "windows", "workgroup")
		}
		if err := machine.CheckDomain(j.Domain); j.Domain != "" && err != nil {
			bad(err.Error(), "such as brackwater.example", "windows", "join", "domain")
		}
	}
	for i, s := range c.Sources {
		path := []string{"sources", fmt.Sprint(i)}
		if err := machine.CheckLabel(s.Name); err != nil {
			bad(fmt.Sprintf("the name of a package source: %s", err), "such as name: survey-tools", append(path, "name")...)
		}
		if (s.Apt == "") == (s.Yum == "") {
			bad(fmt.Sprintf("package source %s is for apt or for yum", s.Name), "write apt: deb URL SUITE PART, or yum: URL", path...)
		}
	}
	for i, f := range c.Files {
		checkFile(f, func(message, hint, key string) { bad(message, hint, "files", fmt.Sprint(i), key) })
	}
	for user, l := range sorted(c.Logins) {
		checkLogin(user, l, func(message, hint string, path ...string) {
			bad(message, hint, append([]string{"logins", user}, path...)...)
		})
	}
	for i, key := range c.SSH.Authority {
		if _, err := secret.PublicKeys(key); err != nil && !isSealed(key) {
			bad(err.Error(), "write the line of a .pub file", "ssh", "authority", fmt.Sprint(i))
		}
	}
	for i, text := range c.Trust {
		if !isSealed(text) && !isCertificates(text) {
			bad("not certificates in PEM", "write file:PATH", "trust", fmt.Sprint(i))
		}
	}
	if u, err := url.Parse(c.Proxy); c.Proxy != "" && !isSealed(c.Proxy) && (err != nil || u.Host == "") {
		bad(fmt.Sprintf("%q is not a proxy's address", c.Proxy), "such as http://proxy.brackwater.example:3128", "proxy")
	}
	for i, server := range c.NTP {
		if _, err := netip.ParseAddr(server); err != nil && machine.CheckDomain(server) != nil {
			bad(fmt.Sprintf("%q is neither a name nor an address", server), "", "ntp", fmt.Sprint(i))
		}
	}
	for i, part := range c.Userdata {
		kind := cloudinit.PartType(part)
		if kind == "" && !isSealed(part) {
			bad("cloud-init knows no user data that begins so", "it begins with #cloud-config, #! or another of cloud-init's marks", "userdata", fmt.Sprint(i))
		}
		if kind == "text/cloud-config" {
			if n, err := tree.YAML("userdata", []byte(part)); err != nil || n != nil && n.Kind != tree.Map {
				bad("this cloud-config is not a YAML mapping", fmt.Sprint(err), "userdata", fmt.Sprint(i))
			}
		}
	}
	seen := map[int]bool{}
	for i, v := range c.Volumes {
		checkVolume(v, seen[v.Disk], func(message, hint, key string) { bad(message, hint, "volumes", fmt.Sprint(i), key) })
		seen[v.Disk] = true
	}
}

func isSealed(text string) bool { return strings.HasPrefix(text, "secret:") }

func isCertificates(text string) bool {
	rest := []byte(text)
	for n := 0; ; n++ {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return n > 0 && strings.TrimSpace(string(rest)) == ""
		}
		if _, err := x509.ParseCertificate(block.Bytes); err != nil || block.Type != "CERTIFICATE" {
			return false
		}
	}
}

var (
	mode  = regexp.MustCompile(`^0?[0-7]{3,4}$`)
	owner = regexp.MustCompile(`^[a-z_][a-z0-9_-]*(:[a-z_][a-z0-9_-]*)?$`)
	drive = regexp.MustCompile(`^[A-Za-z]:[\\/]`)
)

func checkFile(f machine.GuestFile, bad func(message, hint, key string)) {
	if !strings.HasPrefix(f.Path, "/") && !drive.MatchString(f.Path) || strings.ContainsAny(f.Path, "\x00\n") {
		bad(fmt.Sprintf("%q is not the full path of a file", f.Path), "such as /etc/motd", "path")
	}
	given := 0
	for _, has := range []bool{f.Text != "", f.Base64 != "", f.From != nil} {
		if has {
			given++
		}
	}
	if given > 1 {
		bad("a file has text, base64 or from", "leave one of them", "text")
	}
	if _, err := f.Content(); err != nil && !isSealed(f.Base64) {
		bad("this is not base64", "name the file itself with from: PATH", "base64")
	}
	if f.Mode != "" && !mode.MatchString(f.Mode) {
		bad(fmt.Sprintf("%q are not permissions", f.Mode), "such as 0640", "mode")
	}
	if f.Owner != "" && !owner.MatchString(f.Owner) {
		bad(fmt.Sprintf("%q is not an owner", f.Owner), "such as root:adm", "owner")
	}
}

func checkLogin(user string, l machine.Login, bad complain) {
	if err := machine.CheckAccount(user); err != nil {
		bad(err.Error(), "")
	}
	if _, shared := l.Password.Shared(); l.Password != "" && l.Password != machine.Generate && l.Password != machine.NoPassword && !shared {
		bad("a password must not stand here", "write generate, none or secret:NAME", "password")
	}
	for i, key := range l.Keys {
		if _, err := secret.PublicKeys(key); err != nil && !isSealed(key) {
			bad(err.Error(), "write the line of a .pub file, or file:PATH", "keys", fmt.Sprint(i))
		}
	}
	if strings.ContainsAny(l.Name, ":\n") {
		bad("a person's name has no colon and one line", "", "name")
	}
	if strings.ContainsAny(l.Sudo, "\n") {
		bad("a rule of sudoers has one line", "", "sudo")
	}
}

func checkVolume(v machine.Volume, again bool, bad func(message, hint, key string)) {
	known := []string{"ext4", "xfs", "btrfs", "vfat", "ntfs", "refs"}
	switch {
	case v.Disk < 1 || v.Disk > 16:
		bad("disk counts the row's data disks, from 1 to 16", "", "disk")
	case again:
		bad(fmt.Sprintf("data disk %d is made ready twice", v.Disk), "", "disk")
	}
	if v.Filesystem != "" && !slices.Contains(known, v.Filesystem) {
		bad(fmt.Sprintf("no such file system: %q", v.Filesystem), finding.DidYouMean(v.Filesystem, known), "filesystem")
	}
	if v.Label != "" && (len(v.Label) > 12 || strings.Trim(v.Label, labelCharacters) != "") {
		bad(fmt.Sprintf("the label %q must have 1 to 12 letters, digits, hyphens and underscores", v.Label), "", "label")
	}
	if v.Mount != "" && (!strings.HasPrefix(v.Mount, "/") || strings.ContainsAny(v.Mount, " \t\n")) {
		bad(fmt.Sprintf("%q is not a folder to mount at", v.Mount), "such as /srv/data", "mount")
	}
	if strings.ContainsAny(v.Options, " \t\n") {
		bad("mount options are joined by commas, without blanks", "", "options")
	}
	if v.Letter != "" && (len(v.Letter) != 1 || v.Letter[0]|32 < 'd' || v.Letter[0]|32 > 'z') {
		bad(fmt.Sprintf("%q is not a drive letter from D to Z", v.Letter), "", "letter")
	}
}

const labelCharacters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_"
