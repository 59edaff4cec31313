package batch

import (
	"encoding/pem"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/unattend"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/core/setup"
)

// contents joins the first-boot contents of a row's presets and fragments: what
// a preset builds on comes first, then the preset, then the fragments.
func (b *builder) contents(src *source) *machine.Firstboot {
	o := src.find("firstboot")
	key := strings.Join(src.presets, " ") + "|" + o.Value
	c, known := b.joined[key]
	if !known {
		c = b.join(src, o)
		b.joined[key] = c
	}
	if !slices.ContainsFunc(slices.Collect(maps.Values(c.Properties)), func(v string) bool { return strings.Contains(v, "{") }) {
		return c
	}
	own := *c
	own.Properties = map[string]string{}
	for name, value := range c.Properties {
		own.Properties[name] = src.replace(Origin{Value: value, At: o.At})
	}
	return &own
}

func (b *builder) join(src *source, o Origin) *machine.Firstboot {
	var c machine.Firstboot
	for _, p := range slices.Backward(src.presets) {
		c = b.setup.Presets[p].Contents.Over(c)
	}
	for _, name := range strings.Fields(o.Value) {
		fragment, known := b.setup.Firstboot[name]
		if !known {
			b.bad("unknown-firstboot", o, fmt.Sprintf("unknown firstboot fragment %q", name), finding.DidYouMean(name, setup.Names(b.setup.Firstboot)))
		}
		c = fragment.Over(c)
	}
	for user, l := range c.Logins { // the map is c's own
		l.Keys = plainKeys(l.Keys)
		c.Logins[user] = l
	}
	c.SSH.Authority = plainKeys(c.SSH.Authority)
	c.Trust = certificates(c.Trust)
	return &c
}

// certificates lists the certificates of what may be files of several, in PEM.
// The setup's check has read them; what is sealed is left.
func certificates(texts []string) []string {
	var all []string
	for _, text := range texts {
		block, rest := pem.Decode([]byte(text))
		if block == nil {
			all = append(all, text)
		}
		for ; block != nil; block, rest = pem.Decode(rest) {
			all = append(all, string(pem.EncodeToMemory(&pem.Block{Type: block.Type, Bytes: block.Bytes})))
		}
	}
	return all
}

// plainKeys lists the keys of what may be whole authorized_keys files. The
// setup's check has read them; what is sealed is left.
func plainKeys(texts []string) []string {
	var all []string
	for _, text := range texts {
		keys, err := secret.PublicKeys(text)
		if err != nil {
			keys = []string{text}
		}
		all = append(all, keys...)
	}
	return all
}

// suits holds first-boot contents against the guest that is to make something
// of them.
func (b *builder) suits(src *source, g machine.Guest, disks int) {
	o := src.find("firstboot")
	if o.Value == "" && len(src.presets) > 0 {
		o = Origin{Value: src.presets[0], At: b.setup.Where("presets", src.presets[0])}
	}
	windows := g.Answers == machine.Unattend
	for _, v := range g.Volumes {
		if v.Disk > disks {
			b.bad("bad-volumes", o, fmt.Sprintf("data disk %d is to be made ready, and the machine has %s", v.Disk, count(disks, "data disk")), "add it in the column disks, such as 20G")
		}
		if kind := v.Filesystem; kind != "" && (kind == "ntfs" || kind == "refs") != windows {
			b.bad("bad-volumes", o, fmt.Sprintf("its guest does not make %s file systems", kind), "")
		}
	}
	if p := src.find("power"); g.End == "power-off" && machine.Power(strings.ToLower(p.Value)) != machine.ConfirmThenOff {
		b.bad("bad-power", p, "its guest powers itself off at the end of its first boot", "write power: confirm-then-off, or end: reboot")
	}
	var lost []string
	ignored := func(is bool, what string) {
		if is {
			lost = append(lost, what)
		}
	}
	switch {
	case g.Answers == machine.NoAnswers:
		ignored(g.Login != "", "login")
		ignored(!g.Firstboot.IsZero(), "first-boot contents")
	case windows:
		ignored(len(g.Packages)+len(g.Sources) > 0 || g.Update != "", "packages")
		ignored(len(g.Keys) > 0, "keys")
		ignored(g.Swap > 0 || g.Grow != "", "swap and grow")
		ignored(len(g.Userdata) > 0, "userdata")
		ignored(g.Wait != "" || len(g.SSH.Authority) > 0 || g.SSH.Root != "" || g.SSH.Passwords != "", "ssh and wait")
	default:
		w := g.Windows
		ignored(w.Owner+w.Organization+w.Language+w.Arch+w.Workgroup+w.Join.Domain+w.Shell != "" || w.Logons > 0 || len(w.Remote) > 0, "windows")
		ignored(g.Answers == machine.CloudInit && len(g.Properties) > 0, "properties")
	}
	if len(lost) > 0 {
		why := "the answers of template %s have no place for these: %s"
		if g.Answers == machine.NoAnswers {
			why = "template %s takes no answers: its guest is not told these: %s"
		}
		b.warn("not-answered", o, fmt.Sprintf(why, src.template, strings.Join(lost, ", ")), "")
	}
	if g.Licence != "" && g.Answers != machine.Unattend && g.Answers != machine.OwnFiles {
		b.warn("not-answered", Origin{At: src.find("licence").At}, fmt.Sprintf("template %s has no use for a licence", src.template), "remove it")
	}
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// windowsLocale is a language tag (RFC 5646) as far as Windows' names go.
var windowsLocale = regexp.MustCompile(`^[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8})*$`)

// windowsGuest holds against Windows' own rules what is the same for all
// machines of a row.
func (b *builder) windowsGuest(src *source, g *machine.Guest) {
	if o := src.find("timezone"); o.Value != "" {
		if _, known := unattend.Zone(o.Value); !known {
			b.bad("bad-timezone", o, fmt.Sprintf("Windows has no time zone for %q", o.Value), "name a city of the zone, such as Europe/Oslo")
		}
	}
	if o := src.find("locale"); o.Value != "" && !windowsLocale.MatchString(answers.LanguageTag(o.Value)) {
		b.bad("bad-locale", o, fmt.Sprintf("%q is not a locale", o.Value), "such as nb-NO")
	}
	// Windows asks for the administrator's password at the console unless it is told one.
	if !strings.EqualFold(g.Login, unattend.AdministratorName) {
		logins := maps.Clone(g.Logins)
		if logins == nil {
			logins = map[string]machine.Login{}
		}
		own := logins[unattend.AdministratorName]
		if own.Password == "" || own.Password == machine.NoPassword {
			own.Password = machine.Generate
		}
		logins[unattend.AdministratorName] = own
		contents := *g.Firstboot
		contents.Logins = logins
		g.Firstboot = &contents
	}
	for _, a := range g.Accounts() {
		if a.Password == machine.NoPassword {
			at := src.find("password")
			b.bad("bad-password", Origin{At: at.At}, fmt.Sprintf("the Windows account %q has no password, and no other way in", a.User), "write generate or secret:NAME")
		}
	}
	if policy, err := secret.NewPolicy(b.setup.Secrets.Passwords.Length, b.setup.Secrets.Passwords.Classes); err == nil && !policy.Complex() {
		b.bad("bad-password", Origin{At: b.setup.Where("secrets", "passwords", "classes")}, "Windows wants characters of three classes in a password", "add classes, or leave them out")
	}
}
