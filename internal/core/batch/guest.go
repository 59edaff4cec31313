package batch

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/answers/unattend"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
)

// guest fills in what the guest of a row's machines makes of itself.
func (b *builder) guest(r *row) {
	template := b.setup.Templates[r.template]
	g := &r.spec.Guest
	g.Answers = template.Kind()
	g.Login = r.text("login")
	g.Password = b.password(r)
	g.Keys = b.keys(r)
	g.Licence = b.licence(r)
	g.Firstboot = b.contents(r)
	for _, p := range r.presets {
		if g.Hash == (machine.Hash{}) {
			g.Hash = b.setup.Presets[p].Hash
		}
	}
	if kinds.Of(*g).Free {
		g.Own = &machine.OwnAnswers{Label: template.Own.Label, Kind: cmp.Or(template.Own.Kind, "iso"), Files: template.Own.Files}
	}
	if kinds.Of(*g).Accounts && !strings.EqualFold(g.Login, unattend.AdministratorName) {
		withAdministrator(g)
	}
}

// withAdministrator gives the administrator of a Windows guest a password: Windows asks
// for one at the console unless it is given one.
func withAdministrator(g *machine.Guest) {
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

// password never repeats what is in the cell: it may be one.
func (b *builder) password(r *row) machine.PasswordKind {
	text := r.text("password")
	switch kind := machine.PasswordKind(strings.ToLower(text)); kind {
	case machine.Generate, "":
		if r.text("login") == "" {
			return machine.NoPassword
		}
		return machine.Generate
	case machine.NoPassword:
		return kind
	}
	if name, ok := machine.PasswordKind(text).Shared(); ok && machine.CheckLabel(name) == nil {
		return machine.PasswordKind(text)
	}
	b.add(finding.Finding{Code: "literal-password", At: r.cell("password").At, Message: "a password must not stand in a cell", Hint: "write generate, none or secret:NAME"})
	return machine.NoPassword
}

// licence is never more than a reference: a key is not for everybody's eyes.
func (b *builder) licence(r *row) string {
	text := r.text("licence")
	if name, ok := machine.PasswordKind(text).Shared(); text == "" || ok && machine.CheckLabel(name) == nil {
		return text
	}
	b.add(finding.Finding{Code: "literal-licence", At: r.cell("licence").At, Message: "a licence key must not stand in a cell", Hint: "seal it with `mintbatch secret set NAME` and write secret:NAME"})
	return ""
}

func (b *builder) keys(r *row) machine.PublicKeys {
	text := r.text("keys")
	if text == "" {
		return nil
	}
	o := r.cell("keys")
	if path, ok := strings.CutPrefix(text, "file:"); ok {
		var err error
		if text, err = b.setup.File(path); err != nil {
			b.bad("bad-key", o, err.Error(), "write file:PATH, a .pub or authorized_keys file relative to the setup")
		}
	}
	var keys machine.PublicKeys
	for _, key := range strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == ';' }) {
		key = strings.TrimSpace(key)
		if key == "" || strings.HasPrefix(key, "#") {
			continue
		}
		if err := b.once("key", key, machine.CheckPublicKey); err != nil {
			b.bad("bad-key", o, err.Error(), "paste the line of a .pub file; separate several with line breaks or semicolons")
			continue
		}
		keys = append(keys, key)
	}
	return keys
}

// checkGuest holds the guest's settings against each other and against what its system
// allows.
func (b *builder) checkGuest(r *row) {
	g := &r.spec.Guest
	windows := r.guest() == setup.Windows
	if g.Login != "" {
		check := machine.CheckLogin
		if windows {
			check = machine.CheckAccount
		}
		if err := check(g.Login); err != nil && !strings.EqualFold(g.Login, unattend.AdministratorName) {
			b.bad("bad-login", r.cell("login"), err.Error(), "")
		}
		if !windows && machine.OfSystem(g.Login) {
			b.warn("system-login", r.cell("login"), fmt.Sprintf("most Linux systems have a user or group named %s, so that no login can be created", g.Login), "choose another name")
		}
	} else if len(g.Keys) > 0 {
		b.bad("missing-login", r.cell("keys"), "keys are given without a login", "name the login in the row, its preset or the defaults")
	}
	if zone := r.text("timezone"); b.once("timezone", zone, checkZone) != nil {
		b.bad("bad-timezone", r.cell("timezone"), fmt.Sprintf("unknown time zone %q", zone), "write a name of the IANA database, such as Europe/Oslo or UTC")
	}
	if kinds.Of(*g).Accounts {
		b.checkWindows(r)
	} else if locale := r.text("locale"); locale != "" && !windows {
		if err := b.once("locale", locale, machine.CheckLocale); err != nil {
			b.bad("bad-locale", r.cell("locale"), err.Error(), "write for example nb_NO.UTF-8")
		}
	}
	if len(b.setup.Secrets.Recipients) == 0 && slices.ContainsFunc(g.Accounts(), func(a machine.Account) bool { return a.Password == machine.Generate }) {
		b.needsRecipients()
	}
}

func checkZone(name string) error {
	if name == "Local" {
		return errors.New("not a name of the IANA database")
	}
	_, err := time.LoadLocation(name)
	return err
}

// needsRecipients reports that nobody could read what is to be generated.
func (b *builder) needsRecipients() {
	at := b.setup.Where("secrets")
	if at.IsZero() {
		at = b.setup.Where()
	}
	b.add(finding.Finding{Code: "no-recipients", At: at,
		Message: "passwords cannot be generated: the setup names no recipients who may read them",
		Hint:    "make a key with `mintbatch secret keygen FILE` and name it under secrets: recipients, or write password: none"})
}

// checkWindows holds a guest against Windows' own rules.
func (b *builder) checkWindows(r *row) {
	g := r.spec.Guest
	if zone := r.text("timezone"); zone != "" {
		if _, known := unattend.Zone(zone); !known {
			b.bad("bad-timezone", r.cell("timezone"), fmt.Sprintf("Windows has no time zone for %q", zone), "name a city in the zone, such as Europe/Oslo")
		}
	}
	if locale := r.text("locale"); locale != "" && b.once("language", machine.LanguageTag(locale), machine.CheckLanguageTag) != nil {
		b.bad("bad-locale", r.cell("locale"), fmt.Sprintf("%q is not a locale", locale), "write for example nb-NO")
	}
	contents := b.contentsAt(r)
	if err := b.once("keyboard", g.Keyboard, machine.CheckKeyboard); g.Keyboard != "" && err != nil {
		b.bad("bad-locale", contents, err.Error(), "")
	}
	accounts := map[string]string{}
	for _, a := range g.Accounts() {
		if err := machine.CheckAccount(a.User); err != nil && a.User != g.Login && !strings.EqualFold(a.User, unattend.AdministratorName) {
			b.bad("bad-login", contents, err.Error(), "")
		}
		if other, twice := accounts[strings.ToLower(a.User)]; twice {
			b.bad("bad-login", contents, fmt.Sprintf("Windows treats the accounts %s and %s as the same", other, a.User), "rename one: Windows ignores letter case in names")
		}
		accounts[strings.ToLower(a.User)] = a.User
		if a.Password == machine.NoPassword {
			b.bad("bad-password", Origin{At: r.cell("password").At}, fmt.Sprintf("the Windows account %q has no password, and nobody could log in", a.User), "write generate or secret:NAME")
		}
	}
	if !b.setup.Secrets.Passwords.Complex() {
		b.bad("bad-password", Origin{At: b.setup.Where("secrets", "passwords", "classes")}, "a Windows password needs characters of three classes", "add classes, or remove the key")
	}
}
