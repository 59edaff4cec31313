package machine

import (
	"encoding/base64"
	"errors"
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
	Sources  []Source         `json:"package_sources,omitempty" key:"package_sources" doc:"where packages come from, besides what the template has"`
	Update   Switch           `json:"update_packages,omitempty" key:"update_packages" doc:"bring the installed packages up to date: on or off (the default)"`
	Early    []string         `json:"early_commands,omitempty" key:"early_commands" doc:"commands before anything else; linux: at every boot, windows: before the first logon"`
	Commands []string         `json:"commands,omitempty" key:"commands" doc:"commands at the end of the first boot; windows: at the first logon"`
	Stages   []Stage          `json:"stages,omitempty" key:"stages" doc:"what is done after that, one after the other, with restarts in between"`
	Files    []GuestFile      `json:"files,omitempty" key:"files" doc:"files to write"`
	Carry    []CarriedFile    `json:"carry,omitempty" key:"carry" doc:"paths of big files, relative to the setup, on an image of their own that is there for the first boot (label CARRY)"`
	Logins   map[string]Login `json:"logins,omitempty" key:"logins" doc:"further logins, and settings of the row's own, by name"`
	SSH      SSH              `json:"ssh,omitzero" key:"ssh" doc:"the SSH server: who may log in, and how"`
	Trust    Certificates     `json:"ca_certificates,omitempty" key:"ca_certificates" doc:"certificates of authorities that the guest trusts, in PEM; best as file:PATH"`
	Proxy    string           `json:"proxy,omitempty" key:"proxy" doc:"address of the proxy for packages and programs, write for example http://proxy.brackwater.example:3128"`
	NoProxy  []string         `json:"no_proxy,omitempty" key:"no_proxy" doc:"names and addresses to reach without the proxy"`
	NTP      []string         `json:"ntp,omitempty" key:"ntp" doc:"time servers"`
	Keyboard string           `json:"keyboard,omitempty" key:"keyboard" doc:"keyboard layout; linux: such as no, windows: such as nb-NO"`
	Swap     Size             `json:"swap,omitempty" key:"swap" doc:"size of a swap file"`
	Grow     Switch           `json:"grow_root,omitempty" key:"grow_root" doc:"grow the root file system to the whole disk: on (the default) or off"`
	Volumes  []Volume         `json:"volumes,omitempty" key:"volumes" doc:"file systems on the data disks"`
	End      EndAction        `json:"when_done,omitempty" key:"when_done" doc:"reboot or power-off at the end of the first boot"`
	Userdata []string         `json:"user_data,omitempty" key:"user_data" doc:"user data of your own for cloud-init, joined with the contents given here; best as file:PATH"`
	Wait     NetworkWait      `json:"wait_for_network,omitempty" key:"wait_for_network" doc:"whether a boot waits for the network: all (the default), first (adapter only) or none"`
	Windows  Windows          `json:"windows,omitzero" key:"windows" doc:"settings of Windows guests only"`

	Properties map[string]string `json:"properties,omitempty" key:"properties" doc:"properties for guests that read an OVF environment or answers of your own; may hold placeholders"`
}

// Stage is a part of what a guest does after its first boot.
type Stage struct {
	Name     string   `json:"name" key:"name" doc:"its name: letters, digits and hyphens"`
	Commands []string `json:"commands" key:"commands" doc:"commands, of which the first that fails ends the stage"`
	Restart  Switch   `json:"restart,omitempty" key:"restart" doc:"on: the guest is restarted after it"`
	As       StageAs  `json:"as,omitempty" key:"as" doc:"system (the default), or login: by the row's login; Windows logs it on for that"`
}

// Source is a place that packages come from.
type Source struct {
	Name string `json:"name" key:"name" doc:"its name in the guest"`
	Apt  string `json:"apt,omitempty" key:"apt" doc:"a line of sources.list, such as deb http://mirror.brackwater.example/debian bookworm main"`
	Yum  string `json:"yum,omitempty" key:"yum" doc:"the base URL of a yum repository"`
	Key  string `json:"key,omitempty" key:"key" doc:"the OpenPGP key that signs it, armored; best as file:PATH"`
}

// GuestFile is a file to write. Its content is one of three.
type GuestFile struct {
	Path   string `json:"path" key:"path" doc:"its path in the guest"`
	Text   string `json:"content,omitempty" key:"content" doc:"its content"`
	Base64 Base64 `json:"base64,omitempty" key:"base64" doc:"its content, encoded"`
	From   Bytes  `json:"from,omitempty" key:"from" doc:"the file that holds its content, to the byte, relative to the setup"`
	Mode   string `json:"mode,omitempty" key:"mode" doc:"permissions, such as 0640"`
	Owner  string `json:"owner,omitempty" key:"owner" doc:"write for example root:adm"`
}

// CarriedFile is a big file that a guest gets on an image of its own. It is told from another
// by its name, its size, and when it was last changed.
type CarriedFile struct {
	Name     string `json:"name"`
	Size     int64  `json:"size"`
	Modified string `json:"modified"` // RFC 3339
	Path     string `json:"-"`        // where it is at this computer
}

// Bytes is the content of a file that was read when the setup was.
type Bytes []byte

// Base64 is content in base64 (RFC 4648), or a reference to a sealed one.
type Base64 string

// UnmarshalText reads base64, lines and blanks in it included.
func (b *Base64) UnmarshalText(text []byte) error {
	*b = Base64(strings.Join(strings.Fields(string(text)), ""))
	if _, err := base64.StdEncoding.DecodeString(string(*b)); err != nil && !IsSealed(string(text)) {
		return errors.New("name the file with from: PATH instead")
	}
	return nil
}

// Expects describes the content.
func (Base64) Expects() string { return "base64" }

// Content returns what is to be in the file.
func (f GuestFile) Content() []byte {
	switch {
	case f.From != nil:
		return f.From
	case f.Base64 != "":
		content, _ := base64.StdEncoding.DecodeString(string(f.Base64))
		return content
	}
	return []byte(f.Text)
}

// Login is an account of the guest.
type Login struct {
	Name     string       `json:"full_name,omitempty" key:"full_name" doc:"the person's name"`
	Groups   []string     `json:"groups,omitempty" key:"groups" doc:"further groups of the login"`
	Sudo     string       `json:"sudo,omitempty" key:"sudo" doc:"linux: password (asks for it), nopasswd, none (the default), or a rule of sudoers"`
	Shell    string       `json:"shell,omitempty" key:"shell" doc:"linux: the login shell (default /bin/bash)"`
	Keys     PublicKeys   `json:"keys,omitempty" key:"keys" doc:"SSH public keys, a line each; best as file:PATH"`
	Password PasswordKind `json:"password,omitempty" key:"password" doc:"generate, none (the default) or secret:NAME"`
	Expire   Switch       `json:"expire_password,omitempty" key:"expire_password" doc:"the password must be changed at the first login: on or off (the default)"`
	Locked   Switch       `json:"lock_password,omitempty" key:"lock_password" doc:"no login by password: on or off"`
}

// SSH says who may come in.
type SSH struct {
	Root      RootLogin  `json:"root_login,omitempty" key:"root_login" doc:"whether root may log in: off (the default), keys or on"`
	Passwords Switch     `json:"password_login,omitempty" key:"password_login" doc:"login by password: on or off (default: on where the login has one)"`
	Authority PublicKeys `json:"user_ca,omitempty" key:"user_ca" doc:"public keys of the authorities whose certificates let users in"`
}

// Volume is what the guest makes of a data disk that has nothing on it yet.
type Volume struct {
	Disk       int        `json:"disk" key:"disk" doc:"number of the row's data disk, from 1"`
	Filesystem Filesystem `json:"filesystem,omitempty" key:"filesystem" doc:"ext4 (the default), xfs, btrfs or vfat; windows: ntfs or refs"`
	Label      string     `json:"label,omitempty" key:"label" doc:"of the file system (default data1, data2, ...)"`
	Mount      string     `json:"mount,omitempty" key:"mount" doc:"linux: where it is mounted"`
	Options    string     `json:"mount_options,omitempty" key:"mount_options" doc:"linux: how it is mounted (default defaults,nofail)"`
	Letter     string     `json:"drive_letter,omitempty" key:"drive_letter" doc:"windows: its drive letter"`
}

// Windows has the settings of Windows guests only.
type Windows struct {
	Owner        string         `json:"registered_owner,omitempty" key:"registered_owner" doc:"the registered owner"`
	Organization string         `json:"registered_organization,omitempty" key:"registered_organization" doc:"the registered organization"`
	Language     string         `json:"ui_language,omitempty" key:"ui_language" doc:"of menus and dialogs, such as en-US (default: the locale)"`
	Arch         WindowsArch    `json:"arch,omitempty" key:"arch" doc:"amd64 (the default) or arm64"`
	Workgroup    string         `json:"workgroup,omitempty" key:"workgroup" doc:"the workgroup to join"`
	Join         Join           `json:"join_domain,omitzero" key:"join_domain" doc:"the domain to join"`
	Shell        WindowsShell   `json:"shell,omitempty" key:"shell" doc:"of commands: cmd (the default) or powershell"`
	Logons       int            `json:"auto_logons,omitempty" key:"auto_logons" doc:"how many times the first login is logged on automatically (default: once where there are commands)"`
	Remote       []RemoteAccess `json:"remote_access,omitempty" key:"remote_access" doc:"remote access to enable, firewall included: desktop, management"`
}

// Join says how a Windows guest joins a domain.
type Join struct {
	Domain   string `json:"domain,omitempty" key:"domain" doc:"the domain's DNS name"`
	Account  string `json:"account,omitempty" key:"account" doc:"the account that joins machines to it"`
	Password string `json:"password,omitempty" key:"password" doc:"the account's, as secret:NAME"`
	Unit     string `json:"ou,omitempty" key:"ou" doc:"the organizational unit, such as OU=nodes,DC=brackwater,DC=example"`
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

// IsZero reports whether nothing is asked for.
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

// IsSealed reports whether a text refers to a sealed value.
func IsSealed(text string) bool { return strings.HasPrefix(text, sealedPrefix) }

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

// Unsealed returns the guest with each reference to a sealed value replaced by
// what open makes of its name. Passwords of logins stay references.
func (g Guest) Unsealed(open func(name string) (string, error)) (Guest, error) {
	if len(g.Sealed()) == 0 {
		return g, nil
	}
	var failed error
	out := reformat(reflect.ValueOf(g), func(t reflect.Type, s string) string {
		name, ok := strings.CutPrefix(s, sealedPrefix)
		encoded := t == reflect.TypeFor[Base64]()
		if !ok || t != reflect.TypeFor[string]() && !encoded || failed != nil {
			return s
		}
		s, failed = open(name)
		if content := new(Base64); encoded && failed == nil {
			if failed = content.UnmarshalText([]byte(s)); failed != nil {
				failed = fmt.Errorf("the sealed value %s is not base64", name)
			}
		}
		return s
	})
	return out.Interface().(Guest), failed
}

// reformat copies a value with every text in it replaced.
func reformat(v reflect.Value, tell func(t reflect.Type, s string) string) reflect.Value {
	out := reflect.New(v.Type()).Elem()
	switch v.Kind() {
	case reflect.String:
		out.SetString(tell(v.Type(), v.String()))
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out.Set(reflect.New(v.Type().Elem()))
		out.Elem().Set(reformat(v.Elem(), tell))
	case reflect.Struct:
		for i := range v.NumField() {
			out.Field(i).Set(reformat(v.Field(i), tell))
		}
	case reflect.Slice:
		if v.IsNil() || v.Type().Elem().Kind() == reflect.Uint8 {
			return v
		}
		out.Set(reflect.MakeSlice(v.Type(), v.Len(), v.Len()))
		for i := range v.Len() {
			out.Index(i).Set(reformat(v.Index(i), tell))
		}
	case reflect.Map:
		if v.IsNil() {
			return v
		}
		out.Set(reflect.MakeMap(v.Type()))
		for _, key := range v.MapKeys() {
			out.SetMapIndex(key, reformat(v.MapIndex(key), tell))
		}
	default:
		return v
	}
	return out
}
