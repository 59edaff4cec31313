package setup

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"mintbatch/internal/core/answers/cloudinit"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pattern"
	"mintbatch/internal/core/tree"
)

// checkContents holds first-boot contents against what a guest can make of
// them. What is sealed is not known here, and believed.
func checkContents(c Contents, bad report) {
	if c.Windows.Logons < 0 || c.Windows.Logons > 100 {
		bad("auto_logons must be from 0 to 100", "", "windows", "auto_logons")
	}
	if err := machine.CheckWorkgroup(c.Windows.Workgroup); c.Windows.Workgroup != "" && err != nil {
		bad(err.Error(), "", "windows", "workgroup")
	}
	if err := machine.CheckUnit(c.Windows.Join.Unit); c.Windows.Join.Unit != "" && err != nil {
		bad(err.Error(), "", "windows", "join_domain", "ou")
	}
	if err := machine.CheckLanguageTag(c.Windows.Language); c.Windows.Language != "" && err != nil {
		bad(err.Error(), "write for example en-US", "windows", "ui_language")
	}
	if j := c.Windows.Join; j != (machine.Join{}) {
		switch {
		case j.Domain == "" || j.Account == "" || j.Password == "":
			bad("joining a domain needs domain, account and password", "write the password as secret:NAME", "windows", "join_domain")
		case !machine.IsSealed(j.Password):
			bad("the password of the joining account must not be written here", "seal it with `mintbatch secret set NAME` and write password: secret:NAME", "windows", "join_domain", "password")
		case c.Windows.Workgroup != "":
			bad("a machine cannot be in both a workgroup and a domain", "remove workgroup or join_domain", "windows", "workgroup")
		}
		if err := machine.CheckDomain(j.Domain); j.Domain != "" && err != nil {
			bad(err.Error(), "write for example brackwater.example", "windows", "join_domain", "domain")
		}
	}
	for i, s := range c.Sources {
		path := []string{"package_sources", fmt.Sprint(i)}
		if err := machine.CheckLabel(s.Name); err != nil {
			bad(fmt.Sprintf("package source name: %s", err), "write for example name: survey-tools", append(path, "name")...)
		}
		if (s.Apt == "") == (s.Yum == "") {
			bad(fmt.Sprintf("package source %s must have either apt or yum", s.Name), "write apt: deb URL SUITE PART, or yum: URL", path...)
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
	if u, err := url.Parse(c.Proxy); c.Proxy != "" && !machine.IsSealed(c.Proxy) && (err != nil || u.Host == "") {
		bad(fmt.Sprintf("%q is not a proxy URL", c.Proxy), "write for example http://proxy.brackwater.example:3128", "proxy")
	}
	for i, server := range c.NTP {
		if _, err := netip.ParseAddr(server); err != nil && machine.CheckDomain(server) != nil {
			bad(fmt.Sprintf("%q is neither a host name nor an address", server), "", "ntp", fmt.Sprint(i))
		}
	}
	for i, part := range c.Userdata {
		kind := cloudinit.PartType(part)
		if kind == "" && !machine.IsSealed(part) {
			bad("cloud-init does not recognise this user data by its first line", "begin it with #cloud-config, #! or another header of cloud-init", "user_data", fmt.Sprint(i))
		}
		if kind == "text/cloud-config" {
			if n, err := tree.YAML("userdata", []byte(part)); err != nil || n != nil && n.Kind != tree.Map {
				bad("this cloud-config is not a YAML mapping", fmt.Sprint(err), "user_data", fmt.Sprint(i))
			}
		}
	}
	for i, s := range c.Stages {
		if machine.CheckLabel(s.Name) != nil {
			bad(fmt.Sprintf("%q is not the name of a stage", s.Name), "use letters, digits and hyphens", "stages", fmt.Sprint(i), "name")
		}
		if len(s.Commands) == 0 {
			bad(fmt.Sprintf("stage %s has no commands", s.Name), "write commands: [...]", "stages", fmt.Sprint(i))
		}
	}
	seen := map[int]bool{}
	for i, v := range c.Volumes {
		checkVolume(v, seen[v.Disk], func(message, hint, key string) { bad(message, hint, "volumes", fmt.Sprint(i), key) })
		seen[v.Disk] = true
	}
}

var (
	mode  = pattern.Lazy(`^0?[0-7]{3,4}$`)
	owner = pattern.Lazy(`^[a-z_][a-z0-9_-]*(:[a-z_][a-z0-9_-]*)?$`)
	drive = pattern.Lazy(`^[A-Za-z]:[\\/]`)
)

func checkFile(f machine.GuestFile, bad func(message, hint, key string)) {
	if !strings.HasPrefix(f.Path, "/") && !drive().MatchString(f.Path) || strings.ContainsAny(f.Path, "\x00\n") {
		bad(fmt.Sprintf("%q is not an absolute path", f.Path), "write for example /etc/motd", "path")
	}
	given := 0
	for _, has := range []bool{f.Text != "", f.Base64 != "", f.From != nil} {
		if has {
			given++
		}
	}
	if given > 1 {
		bad("a file has only one of content, base64 and from", "remove one of them", "content")
	}
	if f.Mode != "" && !mode().MatchString(f.Mode) {
		bad(fmt.Sprintf("%q is not a file mode", f.Mode), "write for example 0640", "mode")
	}
	if f.Owner != "" && !owner().MatchString(f.Owner) {
		bad(fmt.Sprintf("%q is not an owner", f.Owner), "write for example root:adm", "owner")
	}
}

func checkLogin(user string, l machine.Login, bad report) {
	// Which guest it is for is only known where a row names it.
	if err := machine.CheckLogin(user); err != nil && machine.CheckAccount(user) != nil && !strings.EqualFold(user, "Administrator") {
		bad(err.Error(), "")
	}
	if _, shared := l.Password.Shared(); l.Password != "" && l.Password != machine.Generate && l.Password != machine.NoPassword && !shared {
		bad("a password must not be written here", "write generate, none or secret:NAME", "password")
	}
	if strings.ContainsAny(l.Name, ":\n") {
		bad("a full name must be one line without colons", "", "full_name")
	}
	if strings.ContainsAny(l.Sudo, "\n") {
		bad("a sudoers rule must be one line", "", "sudo")
	}
}

func checkVolume(v machine.Volume, again bool, bad func(message, hint, key string)) {
	switch {
	case v.Disk < 1 || v.Disk > 16:
		bad("disk is the number of a data disk, from 1 to 16", "", "disk")
	case again:
		bad(fmt.Sprintf("data disk %d is used twice", v.Disk), "", "disk")
	}
	if v.Label != "" && (len(v.Label) > 12 || strings.Trim(v.Label, labelCharacters) != "") {
		bad(fmt.Sprintf("the label %q must have 1 to 12 letters, digits, hyphens and underscores", v.Label), "", "label")
	}
	if v.Mount != "" && (!strings.HasPrefix(v.Mount, "/") || strings.ContainsAny(v.Mount, " \t\n")) {
		bad(fmt.Sprintf("%q is not a mount point", v.Mount), "write an absolute path, such as /srv/data", "mount")
	}
	if strings.ContainsAny(v.Options, " \t\n") {
		bad("mount options must be separated by commas, without blanks", "", "mount_options")
	}
	if v.Letter != "" && (len(v.Letter) != 1 || v.Letter[0]|32 < 'd' || v.Letter[0]|32 > 'z') {
		bad(fmt.Sprintf("%q is not a drive letter from D to Z", v.Letter), "", "drive_letter")
	}
}

const labelCharacters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_"
