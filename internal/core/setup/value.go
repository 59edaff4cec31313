package setup

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/sheet"
)

// The values in this file are valid by construction: what is not is refused where
// it is read.

// SiteKind is how the machines of a site are managed.
type SiteKind string

// The kinds of site.
const (
	Gateway SiteKind = "gateway"
	Libvirt SiteKind = "libvirt"
	Folder  SiteKind = "folder"
)

// Words lists the kinds.
func (SiteKind) Words() []string { return []string{string(Gateway), string(Libvirt), string(Folder)} }

// DiskFormat is the format of the disks of a site that is a folder.
type DiskFormat string

// Words lists the formats.
func (DiskFormat) Words() []string { return formats.Names() }

// Description is a kind of file that is written beside the disks of a machine.
type Description string

// Words lists the kinds.
func (Description) Words() []string { return []string{"ovf", "libvirt"} }

// Guest is the operating system of a template.
type Guest string

// The guests.
const (
	Linux   Guest = "linux"
	Windows Guest = "windows"
)

// Words lists the guests.
func (Guest) Words() []string { return []string{string(Linux), string(Windows)} }

// Answers says what the guests of a template read on their first boot; empty is what
// their operating system usually reads.
type Answers machine.AnswersKind

// Words lists the kinds of answers.
func (Answers) Words() []string { return kinds.Names() }

// Kind returns the kind of answers that guests of a template read.
func (t Template) Kind() machine.AnswersKind {
	return cmp.Or(machine.AnswersKind(t.Answers), kinds.Usual(string(cmp.Or(t.Guest, Linux))))
}

// FetchWhen says what a mint fetches of a library by itself.
type FetchWhen string

// When it fetches.
const (
	OnDemand FetchWhen = "on-demand"
	FetchAll FetchWhen = "all"
	NoFetch  FetchWhen = "off"
)

// Words lists them.
func (FetchWhen) Words() []string {
	return []string{string(OnDemand), string(FetchAll), string(NoFetch)}
}

// SeedPolicy says what becomes of a seed once its guest is confirmed.
type SeedPolicy string

// The policies; empty leaves it to what the seed contains.
const (
	KeepSeed SeedPolicy = "keep"
	DropSeed SeedPolicy = "drop"
)

// Words lists the policies.
func (SeedPolicy) Words() []string { return []string{string(KeepSeed), string(DropSeed)} }

// Listen is an address with a port. The zero value is none.
type Listen struct{ netip.AddrPort }

// UnmarshalText reads 198.51.100.2:8700.
func (l *Listen) UnmarshalText(text []byte) (err error) {
	if l.AddrPort, err = netip.ParseAddrPort(string(text)); err == nil && l.Port() == 0 {
		err = errors.New("the port is missing")
	}
	return err
}

// Expects describes the value.
func (Listen) Expects() string { return "an address with a port, such as 198.51.100.2:8700" }

// HostnameRule says which host names a naming rule allows.
type HostnameRule string

// The rules; empty allows any.
const (
	SameHostname HostnameRule = "same" // as the machine's name
	AnyHostname  HostnameRule = "any"
)

// Words lists the rules.
func (HostnameRule) Words() []string { return []string{string(SameHostname), string(AnyHostname)} }

// Reference is a value that stands in the file or comes from elsewhere:
// `env:NAME`, `file:PATH`, `secret:NAME`. It is resolved only when it is needed;
// its zero value refers to nothing.
type Reference struct {
	Kind string // `env`, `file`, `secret`, or empty for a value that stands in the file
	Name string // or the value itself
}

// UnmarshalText reads a reference.
func (r *Reference) UnmarshalText(text []byte) error {
	kind, name, ok := strings.Cut(string(text), ":")
	if !ok || !slices.Contains([]string{"env", "file", "secret"}, kind) {
		kind, name = "", string(text)
	}
	*r = Reference{kind, name}
	return nil
}

// IsZero reports whether nothing is referred to.
func (r Reference) IsZero() bool { return r == Reference{} }

// File returns the path of the file that is referred to.
func (r Reference) File() (path string, ok bool) { return r.Name, r.Kind == "file" }

// Pattern is a regular expression (RE2) that a whole name has to match; its zero value
// matches every name.
type Pattern struct {
	text string
	re   *regexp.Regexp
}

// UnmarshalText compiles a pattern.
func (p *Pattern) UnmarshalText(text []byte) (err error) {
	p.text = string(text)
	p.re, err = regexp.Compile("^(?:" + p.text + ")$")
	return err
}

// Expects describes a pattern.
func (Pattern) Expects() string { return "a regular expression" }

// Matches reports whether the pattern matches a name.
func (p Pattern) Matches(name string) bool { return p.re == nil || p.re.MatchString(name) }

// String returns the pattern as it was written.
func (p Pattern) String() string { return p.text }

// URL is the address of a manager or a host; its zero value is none.
type URL struct{ *url.URL }

// UnmarshalText reads an absolute URL without a password.
func (u *URL) UnmarshalText(text []byte) error {
	parsed, err := url.Parse(string(text))
	switch {
	case err != nil:
		return errors.New("it is not a URL")
	case parsed.Scheme == "":
		return errors.New("it has no scheme")
	}
	if _, has := parsed.User.Password(); has {
		return errors.New("a URL must not contain a password; write it as password: file:PATH next to url")
	}
	u.URL = parsed
	return nil
}

// Expects describes a URL.
func (URL) Expects() string {
	return "a URL such as https://gateway.brackwater.example/quay or qemu:///system"
}

// IsZero reports whether there is no URL.
func (u URL) IsZero() bool { return u.URL == nil }

// String returns the URL; empty if there is none.
func (u URL) String() string {
	if u.URL == nil {
		return ""
	}
	return u.URL.String()
}

// Port is a TCP port.
type Port uint16

// UnmarshalText reads a port from 1 to 65535.
func (p *Port) UnmarshalText(text []byte) error {
	n, err := strconv.ParseUint(string(text), 10, 16)
	if err != nil || n == 0 {
		return errors.New("write a number from 1 to 65535")
	}
	*p = Port(n)
	return nil
}

// Expects describes a port.
func (Port) Expects() string { return "a TCP port" }

// String writes the port's number.
func (p Port) String() string { return strconv.Itoa(int(p)) }

// Percent is a share from 0% to 100%; its zero value is not set.
type Percent struct {
	set   bool
	share int
}

// UnmarshalText reads a share such as 25%.
func (p *Percent) UnmarshalText(text []byte) error {
	n, err := strconv.Atoi(strings.TrimSuffix(string(text), "%"))
	if err != nil || n < 0 || n > 100 {
		return errors.New("write a number from 0 to 100, with or without %")
	}
	*p = Percent{true, n}
	return nil
}

// Expects describes a share.
func (Percent) Expects() string { return "a percentage such as 25%" }

// Or returns the share in percent, or usual if it is not set.
func (p Percent) Or(usual int) int {
	if !p.set {
		return usual
	}
	return p.share
}

// Target is what a heading of a sheet means: one of our columns, or nothing.
type Target struct {
	Column sheet.Column
	Ignore bool
}

// UnmarshalText reads a column's name or `ignore`.
func (t *Target) UnmarshalText(text []byte) error {
	if string(text) == "ignore" {
		*t = Target{Ignore: true}
		return nil
	}
	c, known := sheet.ParseColumn(string(text))
	if !known {
		return fmt.Errorf("unknown column %q (%s)", text, finding.DidYouMean(string(text), append(column.Names(), "ignore")))
	}
	*t = Target{Column: c}
	return nil
}

// Expects describes a target.
func (Target) Expects() string { return "a column, or ignore" }
