// Package machine is what a machine is to this program: its name and key, its
// identity at a site, and everything that its row decides.
package machine

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// Machine is one machine as it is wanted: what its row, preset, template and
// reservations decide, and nothing else.
type Machine struct {
	Key
	Spec
}

// Spec is everything that decides what a machine is. Two machines of equal
// specs differ in nothing that this program has a say in.
type Spec struct {
	Preset string `json:"preset,omitempty"`
	// Template is what the setup calls the template; the site may call it otherwise.
	Template string    `json:"template,omitempty"`
	Clone    Clone     `json:"clone"`
	Shape    Shape     `json:"shape"`
	Adapters []Adapter `json:"adapters"`
	Guest    Guest     `json:"guest"`
	Info     Info      `json:"info"`
	Power    Power     `json:"power"`
	// Checkpoint are the checkpoints that are kept, as Checkpoints reads them.
	Checkpoint string `json:"checkpoint,omitempty"`
	// Media is an image, STORE/NAME, that is in a CD drive for the first boot.
	Media string `json:"media,omitempty"`
	// After are the words for the machines that it is started after.
	After []string `json:"after,omitempty"`
	// Enrol are the systems around it, by the setup's names, that the machine is entered in.
	Enrol []string `json:"enrol,omitempty"`
	// Aliases are further names of it, each with or without a domain.
	Aliases []string `json:"aliases,omitempty"`
	// DropSeed takes the seed away once the guest was confirmed.
	DropSeed bool `json:"drop_seed,omitempty"`
}

// CloneKind is `full` (an independent copy of the disk) or `linked` (a thin
// child that keeps only its differences).
type CloneKind string

// The kinds of clone.
const (
	Linked CloneKind = "linked"
	Full   CloneKind = "full"
)

// Clone is what decides how a machine comes into being. None of it can be
// changed afterwards without cloning again. An empty host, store or folder
// leaves the choice to the site.
type Clone struct {
	Template string    `json:"template"`
	Kind     CloneKind `json:"kind"`
	Host     string    `json:"host,omitempty"`
	Store    string    `json:"store,omitempty"`
	Folder   string    `json:"folder,omitempty"`
	// DiskKind is when the system disk takes its room; empty is as it is written to.
	DiskKind DiskKind `json:"disk_kind,omitempty"`
	Firmware Firmware `json:"firmware,omitempty"`
	// Hardware is what the setup says of the machine around the disk.
	Hardware *Hardware `json:"hardware,omitempty"`
}

// FromVolume reports whether the template is a bare volume, named store/volume,
// and not a machine.
func (c Clone) FromVolume() bool { return strings.Contains(c.Template, "/") }

// Firmware is what starts the machine; empty keeps the template's.
type Firmware string

// The kinds of firmware.
const (
	BIOS Firmware = "bios"
	UEFI Firmware = "uefi"
)

// Hardware describes a machine that is made around a bare volume, and the few
// things that may differ from a template machine's. Whatever is empty is the
// site's own choice, or the template's.
type Hardware struct {
	Emulator Emulator `json:"emulator,omitempty"` // kvm or qemu
	Arch     string   `json:"arch,omitempty"`     // such as x86_64
	Board    string   `json:"board,omitempty"`    // such as q35
	CPU      string   `json:"cpu,omitempty"`      // host-model, host-passthrough, maximum or a model's name
	Sockets  int      `json:"sockets,omitempty"`  // that the CPUs are spread over
	Bus      DiskBus  `json:"bus,omitempty"`      // of disks: virtio, scsi, sata
	// SecureBoot has UEFI firmware start only what is signed.
	SecureBoot Switch `json:"secure_boot,omitempty"`
	TPM        Switch `json:"tpm,omitempty"`
	Clock      Clock  `json:"clock,omitempty"`
	Display    Switch `json:"display,omitempty"` // on or off
	Console    Switch `json:"console,omitempty"` // on or off
	// Adapters says what becomes of adapters that the template has and no row speaks
	// of: they go, or are kept unplugged.
	Adapters ExtraAdapters `json:"adapters,omitempty"`
}

// Shape is the machine's virtual hardware; zero keeps the template's.
type Shape struct {
	CPUs   int  `json:"cpus,omitempty"`
	Memory Size `json:"memory,omitempty"`
	Disk   Size `json:"disk,omitempty"`
	// Disks are data disks, besides the template's own.
	Disks []Disk `json:"disks,omitempty"`
}

// IsZero reports whether nothing of the template's hardware is to change.
func (s Shape) IsZero() bool { return s.CPUs == 0 && s.Memory == 0 && s.Disk == 0 && len(s.Disks) == 0 }

// Disk is a data disk. An empty store is that of the machine.
type Disk struct {
	Size  Size     `json:"size"`
	Store string   `json:"store,omitempty"`
	Kind  DiskKind `json:"kind"`
}

// DiskKind says when a disk takes its room: `thin` as it is written to, `full`
// at once.
type DiskKind string

// The kinds of disk.
const (
	ThinDisk DiskKind = "thin"
	FullDisk DiskKind = "full"
)

// String writes the disk as it stands in a cell.
func (d Disk) String() string {
	return strings.TrimSuffix(d.Size.String()+":"+d.Store+":"+string(d.Kind), "::"+string(ThinDisk))
}

// Guest is what the guest makes of itself on its first boot.
type Guest struct {
	Answers  AnswersKind  `json:"answers"`
	Hostname string       `json:"hostname"`
	Domain   string       `json:"domain,omitempty"`
	Login    string       `json:"login,omitempty"`
	Password PasswordKind `json:"password"`
	Keys     PublicKeys   `json:"keys,omitempty"`
	Timezone string       `json:"timezone,omitempty"`
	Locale   string       `json:"locale,omitempty"`
	Licence  string       `json:"licence,omitempty"` // secret:NAME
	// Confirm says who reports how the guest is.
	Confirm Confirm `json:"confirm,omitempty"`
	// Hash is how passwords are hashed.
	Hash Hash `json:"hash,omitzero"`
	// Joins is the Windows domain that the guest joins with an account of its own that stands there already.
	Joins string `json:"joins,omitempty"`
	// Own are answers of the user's own, for the answers `files`.
	Own *OwnAnswers `json:"custom_answers,omitempty"`
	// The first-boot contents are shared by all machines that have the same; nil
	// stands for none.
	*Firstboot
}

// Confirm says how a guest is confirmed: its site asks it, or it calls home.
type Confirm string

// The ways to confirm a guest.
const (
	BySite   Confirm = ""
	CallHome Confirm = "call-home"
)

// Whole is the guest with contents that are not nil.
func (g Guest) Whole() Guest {
	if g.Firstboot == nil {
		g.Firstboot = &Firstboot{}
	}
	return g
}

// Hash is a way to hash passwords (crypt(5)); empty means SHA-512 with its
// usual rounds.
type Hash struct {
	Method HashMethod `json:"method,omitempty" key:"method" short:"yes" doc:"sha512 (the default) or yescrypt"`
	Rounds int        `json:"rounds,omitempty" key:"rounds" doc:"of sha512, 1000 to 9999999 (default 5000)"`
}

// OwnAnswers are the user's own templates of answers, and the seed they go on.
type OwnAnswers struct {
	Label string    `json:"label"`
	Kind  SeedImage `json:"kind"`
	Files []OwnFile `json:"files"`
}

// OwnFile is a template (text/template) of a file of the seed.
type OwnFile struct {
	Name string `json:"name" key:"name" doc:"the file's name on the seed"`
	Text string `json:"text" key:"text" doc:"its content: a Go template of the machine's values; best as file:PATH"`
}

// FQDN is the host name with the domain, if there is one.
func (g Guest) FQDN() string {
	if g.Domain == "" {
		return g.Hostname
	}
	return g.Hostname + "." + g.Domain
}

// Account is a login of the guest with all that is known of it.
type Account struct {
	User string
	Login
	// Main is the row's own login.
	Main bool
}

// Accounts lists the guest's logins, that of the row first.
func (g Guest) Accounts() []Account {
	g = g.Whole()
	var all []Account
	if g.Login != "" {
		own := g.Logins[g.Login]
		own.Password = g.Password
		own.Keys = append(slices.Clone(g.Keys), own.Keys...)
		all = append(all, Account{g.Login, own, true})
	}
	if len(g.Logins) == 0 {
		return all
	}
	for _, user := range slices.Sorted(maps.Keys(g.Logins)) {
		if user != g.Login {
			l := g.Logins[user]
			if l.Password == "" {
				l.Password = NoPassword
			}
			all = append(all, Account{User: user, Login: l})
		}
	}
	return all
}

// AnswersKind says what the guest reads on its first boot; the package kinds lists the
// kinds.
type AnswersKind string

// NoAnswers is of a guest that reads none.
const NoAnswers AnswersKind = "none"

// PasswordKind says where the login's password comes from: `generate`, `none`
// or `secret:NAME`, a sealed value that several machines may share.
type PasswordKind string

// The kinds of password: one made for each machine and sealed, or none at all
// (keys only).
const (
	Generate   PasswordKind = "generate"
	NoPassword PasswordKind = "none"
)

// Shared returns the name of the sealed value that holds the password.
func (k PasswordKind) Shared() (name string, ok bool) {
	return strings.CutPrefix(string(k), "secret:")
}

// Info is what people want to know of a machine. The site stores it.
type Info struct {
	Owner string `json:"owner,omitempty"`
	Notes string `json:"notes,omitempty"`
	Until string `json:"until,omitempty"` // the last day on which it is needed
	Keep  string `json:"keep,omitempty"`  // the last day on which its disks are
	// Extended are the dates that its row had, as Dates writes them, when they were extended beyond it; empty if they were not.
	Extended string            `json:"extended,omitempty"`
	Labels   map[string]string `json:"labels,omitempty"`
}

// Dates writes both dates as one text.
func (i Info) Dates() string { return i.Until + "/" + i.Keep }

// AsExtended is what a row says, with the dates to which its machine was extended: they hold for as long as the row has the dates
// that it had then.
func (i Info) AsExtended(made Info) Info {
	if made.Extended != "" && made.Extended == i.Dates() {
		i.Until, i.Keep, i.Extended = made.Until, made.Keep, made.Extended
	}
	return i
}

// Ends is the last day before it may be retired: that of its disks, or its own if no other is named; empty if there is none.
func (i Info) Ends() string {
	if i.Keep != "" {
		return i.Keep
	}
	return i.Until
}

// Power is how a machine is left: `on`, `stay-on` when it may not be restarted
// either, `off` when it is to be made but not started, or `confirm-then-off`. At
// a site it is just on or off.
type Power string

// The power settings.
const (
	On             Power = "on"
	StayOn         Power = "stay-on"
	Off            Power = "off"
	ConfirmThenOff Power = "confirm-then-off"
	// Cut is no setting of a row: it takes the power away from a guest that does
	// not shut down when it is asked to.
	Cut Power = "cut"
)

// Starts reports whether the machine is started at all.
func (p Power) Starts() bool { return p != Off }

// Rests is how the machine is once all is done: on or off.
func (p Power) Rests() Power {
	if p == On || p == StayOn {
		return On
	}
	return Off
}

// Fingerprint is the same for equal specs and differs for all others.
func (s Spec) Fingerprint() string { return Digest(s) }

// Digest identifies any value by the SHA-256 of its JSON form.
func Digest(v any) string {
	b, err := json.Marshal(v)
	if err != nil { // only values of our own types, which marshal
		panic(err)
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}
