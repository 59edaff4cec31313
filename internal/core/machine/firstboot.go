package machine

import (
	"encoding/base64"
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// Firstboot is what a guest gets and does on its first boot, besides its name,
// addresses and the login of its row. Presets and fragments of the setup are
// such; `key` is a field's name there and `doc` explains it. A text that reads
// secret:NAME stands for the sealed value of that name, which only the seed gets.
type Firstboot struct {
	Packages []string         `json:"packages,omitempty" key:"packages" doc:"packages to install"`
	Sources  []Source         `json:"sources,omitempty" key:"sources" doc:"where packages come from, besides what the template has"`
	Update   Switch           `json:"update,omitempty" key:"update" doc:"bring the installed packages up to date: on or off (the default)"`
	Early    []string         `json:"early,omitempty" key:"early" doc:"commands before anything else; linux: at every boot, windows: before the first logon"`
	Commands []string         `json:"commands,omitempty" key:"commands" doc:"commands at the end of the first boot; windows: at the first logon"`
	Files    []GuestFile      `json:"files,omitempty" key:"files" doc:"files to write"`
	Logins   map[string]Login `json:"logins,omitempty" key:"logins" doc:"further logins, and more about the row's own, by name"`
	SSH      SSH              `json:"ssh,omitzero" key:"ssh" doc:"who may come in, and how"`
	Trust    []string         `json:"trust,omitempty" key:"trust" doc:"certificates of authorities that the guest is to trust, in PEM; best as file:PATH"`
	Proxy    string           `json:"proxy,omitempty" key:"proxy" doc:"address of the proxy for packages and programs, such as http://proxy.brackwater.example:3128"`
	NoProxy  []string         `json:"no_proxy,omitempty" key:"no_proxy" doc:"names and addresses that are reached without the proxy"`
	NTP      []string         `json:"ntp,omitempty" key:"ntp" doc:"time servers"`
	Keyboard string           `json:"keyboard,omitempty" key:"keyboard" doc:"keyboard layout; linux: such as no, windows: such as nb-NO"`
	Swap     Size             `json:"swap,omitempty" key:"swap" doc:"size of a swap file"`
	Grow     Switch           `json:"grow,omitempty" key:"grow" doc:"let the root file system take the whole disk: on (the default) or off"`
	Volumes  []Volume         `json:"volumes,omitempty" key:"volumes" doc:"what the guest makes of its data disks"`
	End      string           `json:"end,omitempty" key:"end" doc:"reboot or power-off once all is done"`
	Userdata []string         `json:"userdata,omitempty" key:"userdata" doc:"user data of your own for cloud-init, joined with what is written here; best as file:PATH"`
	Wait     string           `json:"wait,omitempty" key:"wait" doc:"whether a boot waits for the network: all (the default), first (adapter only) or none"`
	Windows  Windows          `json:"windows,omitzero" key:"windows" doc:"what only a Windows guest is told"`

	Properties map[string]string `json:"properties,omitempty" key:"properties" doc:"properties for guests that read an OVF environment or answers of your own; may hold placeholders"`
}

// Source is a place that packages come from.
type Source struct {
	Name string `json:"name" key:"name" doc:"what to call it in the guest"`
	Apt  string `json:"apt,omitempty" key:"apt" doc:"a line of sources.list, such as deb http://mirror.brackwater.example/debian bookworm main"`
	Yum  string `json:"yum,omitempty" key:"yum" doc:"the base URL of a yum repository"`
	Key  string `json:"key,omitempty" key:"key" doc:"the OpenPGP key that signs it, armored; best as file:PATH"`
}

// GuestFile is a file to write. Its content is one of three.
type GuestFile struct {
	Path   string `json:"path" key:"path" doc:"where it goes in the guest"`
	Text   string `json:"text,omitempty" key:"text" doc:"its content"`
	Base64 string `json:"base64,omitempty" key:"base64" doc:"its content, encoded"`
	From   Bytes  `json:"from,omitempty" key:"from" doc:"the file that holds its content, to the byte, relative to the setup"`
	Mode   string `json:"mode,omitempty" key:"mode" doc:"permissions, such as 0640"`
	Owner  string `json:"owner,omitempty" key:"owner" doc:"such as root:adm"`
}

// Bytes is the content of a file that was read when the setup was.
type Bytes []byte

// Content returns what is to be in the file.
func (f GuestFile) Content() ([]byte, error) {
	switch {
	case f.From != nil:
		return f.From, nil
	case f.Base64 != "":
		return base64.StdEncoding.DecodeString(strings.Join(strings.Fields(f.Base64), ""))
	}
	return []byte(f.Text), nil
}

// Login is an account of the guest.
type Login struct {
	Name     string       `json:"name,omitempty" key:"name" doc:"the person's name"`
	Groups   []string     `json:"groups,omitempty" key:"groups" doc:"further groups that it is in"`
	Sudo     string       `json:"sudo,omitempty" key:"sudo" doc:"linux: ask (for the password), free, none (the default), or a rule of sudoers"`
	Shell    string       `json:"shell,omitempty" key:"shell" doc:"linux: the login shell (default /bin/bash)"`
	Keys     []string     `json:"keys,omitempty" key:"keys" doc:"SSH public keys, a line each; best as file:PATH"`
	Password PasswordKind `json:"password,omitempty" key:"password" doc:"generate, none (the default) or secret:NAME"`
	Expire   Switch       `json:"expire,omitempty" key:"expire" doc:"the password must be changed at the first login: on or off (the default)"`
	Locked   Switch       `json:"locked,omitempty" key:"locked" doc:"no login by password: on or off"`
}

// SSH says who may come in.
type SSH struct {
	Root      string   `json:"root,omitempty" key:"root" doc:"whether root may log in: off (the default), keys or on"`
	Passwords Switch   `json:"passwords,omitempty" key:"passwords" doc:"login by password: on or off (default: on where the login has one)"`
	Authority []string `json:"authority,omitempty" key:"authority" doc:"public keys of the authorities whose certificates let users in"`
}

// Volume is what the guest makes of a data disk that has nothing on it yet.
type Volume struct {
	Disk       int    `json:"disk" key:"disk" doc:"which of the row's data disks, from 1"`
	Filesystem string `json:"filesystem,omitempty" key:"filesystem" doc:"ext4 (the default), xfs, btrfs or vfat; windows: ntfs or refs"`
	Label      string `json:"label,omitempty" key:"label" doc:"of the file system (default data1, data2, ...)"`
	Mount      string `json:"mount,omitempty" key:"mount" doc:"linux: where it is mounted"`
	Options    string `json:"options,omitempty" key:"options" doc:"linux: how it is mounted (default defaults,nofail)"`
	Letter     string `json:"letter,omitempty" key:"letter" doc:"windows: its drive letter"`
}

// Windows is what only a Windows guest is told.
type Windows struct {
	Owner        string   `json:"owner,omitempty" key:"owner" doc:"the registered owner"`
	Organization string   `json:"organization,omitempty" key:"organization" doc:"the registered organization"`
	Language     string   `json:"language,omitempty" key:"language" doc:"of menus and dialogs, such as en-US (default: the locale)"`
	Arch         string   `json:"arch,omitempty" key:"arch" doc:"amd64 (the default) or arm64"`
	Workgroup    string   `json:"workgroup,omitempty" key:"workgroup" doc:"the workgroup to join"`
	Join         Join     `json:"join,omitzero" key:"join" doc:"the domain to join"`
	Shell        string   `json:"shell,omitempty" key:"shell" doc:"of commands: cmd (the default) or powershell"`
	Logons       int      `json:"logons,omitempty" key:"logons" doc:"how often the first login is logged on by itself (default: once where there are commands)"`
	Remote       []string `json:"remote,omitempty" key:"remote" doc:"what to switch on, firewall included: desktop, management"`
}

// Join says how a Windows guest joins a domain.
type Join struct {
	Domain   string `json:"domain,omitempty" key:"domain" doc:"the domain's DNS name"`
	Account  string `json:"account,omitempty" key:"account" doc:"who may join machines to it"`
	Password string `json:"password,omitempty" key:"password" doc:"the account's, as secret:NAME"`
	Unit     string `json:"unit,omitempty" key:"unit" doc:"the organizational unit, such as OU=nodes,DC=brackwater,DC=example"`
}

// Switch is on, off, or left to what is usual.
type Switch string

// The states of a Switch.
const (
	SwitchOn  Switch = "on"
	SwitchOff Switch = "off"
)

// UnmarshalText reads what people write for on and off.
func (s *Switch) UnmarshalText(text []byte) error {
	switch strings.ToLower(string(text)) {
	case "on", "yes", "true":
		*s = SwitchOn
	case "off", "no", "false":
		*s = SwitchOff
	default:
		return fmt.Errorf("write on or off")
	}
	return nil
}

// Or returns the switch's state as a truth; usual stands for one that was not set.
func (s Switch) Or(usual bool) bool {
	if s == "" {
		return usual
	}
	return s == SwitchOn
}

// IsZero tells whether nothing is asked for.
func (f *Firstboot) IsZero() bool { return f == nil || reflect.ValueOf(*f).IsZero() }

// Over lays one set of contents over another: lists are joined, the one below
// first, maps and structures key by key, and any other value replaces the one
// below.
func (f Firstboot) Over(below Firstboot) Firstboot {
	lay(reflect.ValueOf(&below).Elem(), reflect.ValueOf(f))
	return below
}

func lay(below, above reflect.Value) {
	switch {
	case above.IsZero():
	case above.Kind() == reflect.Struct:
		for i := range above.NumField() {
			lay(below.Field(i), above.Field(i))
		}
	case above.Kind() == reflect.Slice && above.Type().Elem().Kind() != reflect.Uint8:
		joined := reflect.MakeSlice(above.Type(), 0, below.Len()+above.Len())
		below.Set(reflect.AppendSlice(reflect.AppendSlice(joined, below), above))
	case above.Kind() == reflect.Map:
		merged := reflect.MakeMap(above.Type())
		for _, m := range []reflect.Value{below, above} {
			for _, key := range m.MapKeys() {
				value := reflect.New(above.Type().Elem()).Elem()
				if old := merged.MapIndex(key); old.IsValid() {
					value.Set(old)
				}
				lay(value, m.MapIndex(key))
				merged.SetMapIndex(key, value)
			}
		}
		below.Set(merged)
	default:
		below.Set(above)
	}
}

// ContentsDigest identifies what a mark does not show of the guest.
func (g Guest) ContentsDigest() string { return Digest([]any{g.Whole().Firstboot, g.Own}) }

const sealedPrefix = "secret:"

// Sealed lists the names of the sealed values that the guest's contents refer
// to, passwords included.
func (g Guest) Sealed() []string {
	var names []string
	eachText(reflect.ValueOf(&g).Elem(), func(s string) {
		if name, ok := strings.CutPrefix(s, sealedPrefix); ok && !slices.Contains(names, name) {
			names = append(names, name)
		}
	})
	slices.Sort(names)
	return names
}

// eachText shows every text in a value.
func eachText(v reflect.Value, show func(string)) {
	switch v.Kind() {
	case reflect.String:
		show(v.String())
	case reflect.Pointer:
		if !v.IsNil() {
			eachText(v.Elem(), show)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			eachText(v.Field(i), show)
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() != reflect.Uint8 {
			for i := range v.Len() {
				eachText(v.Index(i), show)
			}
		}
	case reflect.Map:
		for i := v.MapRange(); i.Next(); {
			eachText(i.Value(), show)
		}
	}
}

// InClear tells whether the guest's seed carries secrets that are not hashed:
// what Windows is told, and what the setup itself puts there.
func (g Guest) InClear() bool {
	switch g.Answers {
	case NoAnswers:
		return false
	case Unattend:
		return true
	}
	passwords := map[string]bool{}
	for _, a := range g.Accounts() {
		name, shared := a.Password.Shared()
		passwords[name] = shared
		if g.Answers == OwnFiles && a.Password != NoPassword {
			return true
		}
	}
	return slices.ContainsFunc(g.Sealed(), func(name string) bool { return !passwords[name] })
}

// Unsealed returns the guest with each reference to a sealed value replaced by
// what open makes of its name. Passwords of logins stay references.
func (g Guest) Unsealed(open func(name string) (string, error)) (Guest, error) {
	if len(g.Sealed()) == 0 {
		return g, nil
	}
	var failed error
	out := retold(reflect.ValueOf(g), func(t reflect.Type, s string) string {
		name, ok := strings.CutPrefix(s, sealedPrefix)
		if !ok || t != reflect.TypeFor[string]() || failed != nil {
			return s
		}
		s, failed = open(name)
		return s
	})
	return out.Interface().(Guest), failed
}

// retold copies a value with every text in it replaced.
func retold(v reflect.Value, tell func(t reflect.Type, s string) string) reflect.Value {
	out := reflect.New(v.Type()).Elem()
	switch v.Kind() {
	case reflect.String:
		out.SetString(tell(v.Type(), v.String()))
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out.Set(reflect.New(v.Type().Elem()))
		out.Elem().Set(retold(v.Elem(), tell))
	case reflect.Struct:
		for i := range v.NumField() {
			out.Field(i).Set(retold(v.Field(i), tell))
		}
	case reflect.Slice:
		if v.IsNil() || v.Type().Elem().Kind() == reflect.Uint8 {
			return v
		}
		out.Set(reflect.MakeSlice(v.Type(), v.Len(), v.Len()))
		for i := range v.Len() {
			out.Index(i).Set(retold(v.Index(i), tell))
		}
	case reflect.Map:
		if v.IsNil() {
			return v
		}
		out.Set(reflect.MakeMap(v.Type()))
		for _, key := range v.MapKeys() {
			out.SetMapIndex(key, retold(v.MapIndex(key), tell))
		}
	default:
		return v
	}
	return out
}
