package answers

import (
	"reflect"
	"slices"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

// Kind describes one form of answers: who reads it, what its seed contains, and what it
// cannot express.
type Kind struct {
	Name machine.AnswersKind
	// Guests are the operating systems that read it.
	Guests []string
	// HostKey is set if the seed contains the private SSH host key that was made for the
	// guest.
	HostKey bool
	// Hashes and Clear say in which forms the seed may contain passwords. With both, which
	// of them it does is not known.
	Hashes, Clear bool
	// Licence is set if it can carry a product key.
	Licence bool
	// Accounts is set if it sets up the accounts of a Windows guest, by Windows' rules.
	Accounts bool
	// Stages is set if its guests do stages, and report of them.
	Stages bool
	// Joins is set if its guests join a Windows domain with their own account.
	Joins bool
	// Free is set if what its files say is the user's own: which seed a guest has read, and
	// which DNS servers it should ask, is not known.
	Free bool
	// Unsupported lists the settings of a guest that it cannot express; nil if it can
	// express all.
	Unsupported func(machine.Guest) []string
	// Limits lists, by adapter, what not every guest of the kind makes of it; nil for
	// nothing. Where it is set, every text that a cell can hold fits.
	Limits func([]machine.Adapter) map[int]string
	// Write writes the seed of a machine; nil for a guest that reads no answers.
	Write func(Input) (Seed, error)
}

// Reads reports whether guests of the kind read answers at all.
func (k Kind) Reads() bool { return k.Write != nil }

// InClear reports whether the seed of a guest contains secrets that are not hashed: what
// its kind cannot hash, the password with which it joins a domain, and what the setup itself puts there.
func (k Kind) InClear(g machine.Guest) bool {
	switch {
	case !k.Reads():
		return false
	case k.Clear && !k.Hashes, g.Joins != "":
		return true
	}
	passwords := map[string]bool{}
	for _, a := range g.Accounts() {
		name, shared := a.Password.Shared()
		passwords[name] = shared
		if k.Clear && a.Password != machine.NoPassword {
			return true
		}
	}
	return slices.ContainsFunc(g.Sealed(), func(name string) bool { return !passwords[name] })
}

// Seed is a machine's answers and the image that they are on.
type Seed struct {
	Files []File
	Label string
	Kind  media.Kind
}

// Image is the image of a seed. The same seed gives the same bytes.
func (s Seed) Image() ([]byte, error) { return media.Image(s.Kind, s.Label, s.files()) }

// Check returns why there can be no such image; nil if there can.
func (s Seed) Check() error { return media.Check(s.Kind, s.Label, s.files()) }

func (s Seed) files() []media.File {
	files := make([]media.File, len(s.Files))
	for i, f := range s.Files {
		files[i] = media.File(f)
	}
	return files
}

// OnlyWindows lists the settings that only a Windows guest has.
func OnlyWindows(g machine.Guest) []string {
	return If(!reflect.ValueOf(g.Windows).IsZero(), "windows")
}

// If lists a setting where a guest has it.
func If(is bool, setting string) []string {
	if is {
		return []string{setting}
	}
	return nil
}
