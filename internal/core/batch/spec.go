package batch

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// spec reads what all machines of a row have in common.
func (b *builder) spec(src *source) machine.Spec {
	template := b.setup.Templates[src.template]
	spec := machine.Spec{}
	if len(src.presets) > 0 {
		spec.Preset = src.presets[0]
	}
	spec.Clone = machine.Clone{
		Template: b.setup.TemplateSource(src.template),
		Kind:     choice(b, src, "clone", machine.Linked, machine.Full),
		Host:     src.find("host").Value,
		Store:    src.find("store").Value,
		Folder:   src.find("folder").Value,
		Firmware: choice[machine.Firmware](b, src, "firmware", "", machine.BIOS, machine.UEFI),
	}
	spec.Shape = machine.Shape{CPUs: b.cpus(src), Memory: b.size(src, "memory"), Disk: b.size(src, "disk"), Disks: b.disks(src)}
	if h := machine.Hardware(template.Hardware); h != (machine.Hardware{}) {
		spec.Clone.Hardware = &h
		if h.Sockets > 0 && spec.Shape.CPUs%h.Sockets != 0 {
			b.bad("bad-cpus", src.find("cpus"), fmt.Sprintf("%d CPUs cannot be spread over %d sockets evenly", spec.Shape.CPUs, h.Sockets), "")
		}
	}
	spec.Adapters = b.adapters(src)
	spec.Guest = b.guest(src)
	b.suits(src, spec.Guest, len(spec.Shape.Disks))
	// A password in clear is not left lying about.
	spec.DropSeed = template.Seed == "drop" || template.Seed == "" && spec.Guest.InClear()
	spec.Mark = machine.Mark{Owner: src.find("owner").Value, Notes: src.find("notes").Value, Until: b.date(src), Labels: b.labels(src)}
	spec.Power = choice(b, src, "power", machine.On, machine.StayOn, machine.Off, machine.ConfirmThenOff)
	if o := src.find("checkpoint"); o.Value != "" && o.Value != "none" {
		spec.Checkpoint = o.Value
		if err := machine.CheckLabel(o.Value); err != nil {
			b.bad("bad-checkpoint", o, "a checkpoint's name is made like a host name", "such as fresh")
		}
	}
	return spec
}

// choice reads a column with few possible words, of which the first is the default.
func choice[T ~string](b *builder, src *source, column string, words ...T) T {
	o := src.find(column)
	if o.Value == "" {
		return words[0]
	}
	var known []string
	for _, w := range words {
		if strings.EqualFold(o.Value, string(w)) {
			return w
		}
		if w != "" {
			known = append(known, string(w))
		}
	}
	name, _, _ := strings.Cut(column, ".")
	b.bad("bad-"+name, o, fmt.Sprintf("%s must be %s, not %q", column, strings.Join(known, " or "), o.Value), "")
	return words[0]
}

// wire says whether an adapter's cable is plugged in.
type wire string

const (
	wireUp   wire = "up"
	wireDown wire = "down"
)

// wholeCount is a count as programs write it that know no whole numbers: 4.0.
var wholeCount = regexp.MustCompile(`^([0-9]+)\.0+$`)

func (b *builder) cpus(src *source) int {
	o := src.find("cpus")
	if o.Value == "" {
		return 0
	}
	n, err := strconv.Atoi(wholeCount.ReplaceAllString(o.Value, "$1"))
	if err != nil || n < 1 || n > 1024 {
		b.bad("bad-cpus", o, fmt.Sprintf("cpus must be a whole number from 1 to 1024, not %q", o.Value), "")
	}
	return n
}

func (b *builder) size(src *source, column string) machine.Size {
	o := src.find(column)
	if o.Value == "" {
		return 0
	}
	size, err := machine.ParseSize(o.Value)
	switch {
	case err != nil:
		b.bad("bad-size", o, fmt.Sprintf("%s %q: %s", column, o.Value, err), "")
	case size%machine.MiB != 0:
		b.bad("bad-size", o, fmt.Sprintf("%s %q is not a whole number of MiB", column, o.Value), "")
	}
	return size
}

// disks reads data disks: `20G, 100G:bulk:full` is size, store and kind each.
func (b *builder) disks(src *source) []machine.Disk {
	o := src.find("disks")
	var all []machine.Disk
	for _, word := range strings.FieldsFunc(o.Value, func(r rune) bool { return strings.ContainsRune(",;\n", r) }) {
		parts := strings.Split(strings.TrimSpace(word), ":")
		size, err := machine.ParseSize(parts[0])
		disk := machine.Disk{Size: size, Kind: machine.ThinDisk}
		if len(parts) > 1 {
			disk.Store = strings.TrimSpace(parts[1])
		}
		if len(parts) > 2 {
			disk.Kind = machine.DiskKind(strings.ToLower(strings.TrimSpace(parts[2])))
		}
		switch {
		case err != nil:
			b.bad("bad-disks", o, fmt.Sprintf("disk %q: %s", word, err), "write size:store:kind, such as 100G:bulk:full; store and kind may be left out")
		case size%machine.MiB != 0:
			b.bad("bad-disks", o, fmt.Sprintf("disk %q is not a whole number of MiB", word), "")
		case len(parts) > 3 || disk.Kind != machine.ThinDisk && disk.Kind != machine.FullDisk:
			b.bad("bad-disks", o, fmt.Sprintf("disk %q: a disk is size:store:kind, and its kind thin or full", word), "such as 100G:bulk:full")
		case len(all) == 16:
			b.bad("bad-disks", o, "more than 16 data disks", "")
		}
		all = append(all, disk)
	}
	return all
}

// secrets warns of what should not stand in a sheet at all.
func (b *builder) secrets(src *source) {
	for i, cell := range src.row.Cells {
		if b.table.Columns[i].Name == "password" || !finding.LooksLikeSecret(cell) {
			continue
		}
		o := Origin{At: b.table.Position(src.row, i)}
		if finding.LooksLikeLicence(cell) {
			b.warn("licence-in-clear", o, "a licence key stands here in clear", "seal it and write secret:NAME")
		} else {
			b.warn("secret-in-clear", o, "this looks like a secret in clear", "take it out of the sheet")
		}
	}
}

func (b *builder) adapters(src *source) []machine.Adapter {
	var all []machine.Adapter
	for n := 1; n <= b.most+1; n++ {
		o := src.find(sheet.ColumnID("network", n))
		if o.Value == "" {
			b.orphans(src, n)
			break
		}
		network, known := b.setup.Networks[o.Value]
		if !known {
			b.bad("unknown-network", o, fmt.Sprintf("unknown network %q", o.Value), finding.DidYouMean(o.Value, setup.Names(b.setup.Networks)))
		}
		a := machine.Adapter{Network: b.setup.NetworkSource(o.Value), VLAN: network.VLAN, Model: network.Model, MTU: network.MTU, NoIPv6: network.IPv6 == machine.SwitchOff}
		a.Via = b.via(src, n, all)
		a.Unplugged = choice(b, src, sheet.ColumnID("wire", n), wireUp, wireDown) == wireDown
		if mac := src.find(sheet.ColumnID("mac", n)); mac.Value != "" {
			var err error
			if a.MAC, err = machine.ParseMAC(mac.Value); err != nil {
				b.bad("bad-mac", mac, err.Error(), "such as 02:00:5e:10:00:01")
			} else if src.isRange() {
				b.bad("bad-mac", mac, "one MAC address for a range of machines", "leave it empty: each adapter gets its own")
			}
		}
		all = append(all, a)
	}
	return all
}

// via reads how an adapter is reached that is no card of its own in the guest:
// `1:30` is the tagged network 30 on adapter 1, `bond:1` a second card for it.
func (b *builder) via(src *source, n int, before []machine.Adapter) machine.Via {
	o := src.find(sheet.ColumnID("via", n))
	if o.Value == "" {
		return machine.Via{}
	}
	bad := func(message string) machine.Via {
		b.bad("bad-via", o, message, "write 1:30 for the tagged network 30 on adapter 1, or bond:1 for a second card that backs it up")
		return machine.Via{}
	}
	first, second, _ := strings.Cut(o.Value, ":")
	var v machine.Via
	var err error
	if strings.EqualFold(first, "bond") {
		v.Adapter, err = strconv.Atoi(second)
	} else if v.Adapter, err = strconv.Atoi(first); err == nil {
		v.Tag, err = strconv.Atoi(second)
		if v.Tag < 1 || v.Tag > 4094 {
			return bad("a tag is from 1 to 4094")
		}
	}
	switch {
	case err != nil:
		return bad(fmt.Sprintf("%q does not say by way of which adapter", o.Value))
	case v.Adapter < 1 || v.Adapter >= n:
		return bad(fmt.Sprintf("adapter %d is reached by way of one before it", n))
	case v.Adapter > len(before):
		return v // that one is missing, which is told
	case before[v.Adapter-1].Via != machine.Via{}:
		return bad(fmt.Sprintf("adapter %d is itself reached by way of another", v.Adapter))
	case v.Bonded() && slices.ContainsFunc(before, func(a machine.Adapter) bool { return a.Via.Bonded() && a.Via.Adapter == v.Adapter }):
		return bad(fmt.Sprintf("adapter %d has a second card already", v.Adapter))
	case b.setup.Templates[src.template].Guest == "windows":
		return bad("a Windows guest is told nothing of tags and bonds")
	}
	return v
}

// orphans tells of an address or MAC that belongs to no adapter, and of
// adapters left out in the count.
func (b *builder) orphans(src *source, missing int) {
	if len(src.presets) == 0 && src.find("preset").Value != "" {
		return // the preset, had it been found, may name the network
	}
	for n := missing; n <= b.most; n++ {
		for _, column := range []string{"network", "address", "mac", "wire", "via"} {
			o := src.find(sheet.ColumnID(column, n))
			if o.Value == "" || o.From != "row" && n == missing && missing == 1 {
				continue
			}
			id := sheet.ColumnID("network", missing)
			b.bad("missing-network", o, fmt.Sprintf("%s is given but %s is not", sheet.ColumnID(column, n), id), "name the network in the column "+id)
		}
	}
}

func (b *builder) guest(src *source) machine.Guest {
	template := b.setup.Templates[src.template]
	g := machine.Guest{
		Answers:  machine.AnswersKind(cmp.Or(template.Answers, map[bool]string{true: "unattend", false: "cloud-init"}[template.Guest == "windows"])),
		Domain:   strings.ToLower(src.find("domain").Value),
		Login:    src.find("login").Value,
		Password: b.password(src),
		Keys:     b.sshKeys(src),
		Timezone: b.timezone(src),
		Locale:   src.find("locale").Value,
		Licence:  b.licence(src),
	}
	g.Firstboot = b.contents(src)
	for _, p := range src.presets {
		if g.Hash == (machine.Hash{}) {
			g.Hash = b.setup.Presets[p].Hash
		}
	}
	if g.Answers == machine.OwnFiles {
		g.Own = &machine.OwnAnswers{Label: template.Own.Label, Kind: cmp.Or(template.Own.Kind, "iso"), Files: template.Own.Files}
	}
	if g.Domain != "" {
		if err := machine.CheckDomain(g.Domain); err != nil {
			b.bad("bad-domain", src.find("domain"), err.Error(), "")
		}
	}
	windows := template.Guest == "windows"
	if g.Login != "" {
		check := machine.CheckLogin
		if windows {
			check = machine.CheckAccount
		}
		if err := check(g.Login); err != nil {
			b.bad("bad-login", src.find("login"), err.Error(), "")
		}
	} else if len(g.Keys) > 0 {
		b.bad("missing-login", src.find("keys"), "keys are given but no login to use them", "name the login in the row, its preset or the defaults")
	}
	if windows && g.Answers == machine.Unattend {
		b.windowsGuest(src, &g)
	}
	for _, a := range g.Accounts() {
		if a.Password == machine.Generate {
			b.needsRecipients()
		}
	}
	return g
}

// licence is never more than a reference: a key is not for everybody's eyes.
func (b *builder) licence(src *source) string {
	o := src.find("licence")
	if name, ok := machine.PasswordKind(o.Value).Shared(); o.Value == "" || ok && machine.CheckLabel(name) == nil {
		return o.Value
	}
	b.add(finding.Finding{Code: "literal-licence", At: o.At, Message: "a licence key must not stand in a cell", Hint: "seal it with `mintbatch secret set NAME` and write secret:NAME"})
	return ""
}

// needsRecipients tells that nobody could read what is to be generated.
func (b *builder) needsRecipients() {
	if len(b.setup.Secrets.Recipients) > 0 {
		return
	}
	at := b.setup.Where("secrets")
	if at.IsZero() {
		at = b.setup.Where()
	}
	b.add(finding.Finding{Code: "no-recipients", At: at,
		Message: "passwords are to be generated, but the setup names nobody who may read them",
		Hint:    "make a key with `mintbatch secret keygen FILE` and name it under secrets: recipients, or write password: none"})
}

// password never repeats what stands in the cell: it may be one.
func (b *builder) password(src *source) machine.PasswordKind {
	o := src.find("password")
	switch kind := machine.PasswordKind(strings.ToLower(o.Value)); kind {
	case machine.Generate, "":
		if src.find("login").Value == "" {
			return machine.NoPassword
		}
		return machine.Generate
	case machine.NoPassword:
		return kind
	}
	if name, ok := machine.PasswordKind(o.Value).Shared(); ok && machine.CheckLabel(name) == nil {
		return machine.PasswordKind(o.Value)
	}
	b.add(finding.Finding{Code: "literal-password", At: o.At, Message: "a password must not stand in a cell", Hint: "write generate, none or secret:NAME"})
	return machine.NoPassword
}

func (b *builder) sshKeys(src *source) []string {
	o := src.find("keys")
	text := o.Value
	if path, ok := strings.CutPrefix(text, "file:"); ok {
		var err error
		if text, err = b.setup.File(path); err != nil {
			b.bad("bad-key", o, err.Error(), "file:PATH names a .pub or authorized_keys file, relative to the setup")
		}
	}
	var keys []string
	for _, key := range strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == ';' }) {
		key = strings.TrimSpace(key)
		if key == "" || strings.HasPrefix(key, "#") {
			continue
		}
		if err := b.once(key, secret.CheckPublicKey); err != nil {
			b.bad("bad-key", o, err.Error(), "paste the line of a .pub file; separate several by line breaks or semicolons")
			continue
		}
		keys = append(keys, key)
	}
	return keys
}

func (b *builder) timezone(src *source) string {
	o := src.find("timezone")
	if b.once(o.Value, checkZone) != nil {
		b.bad("bad-timezone", o, fmt.Sprintf("unknown time zone %q", o.Value), "write it as in the IANA database: Europe/Oslo, UTC")
	}
	return o.Value
}

func checkZone(name string) error {
	if name == "Local" {
		return errors.New("not a name of the IANA database")
	}
	_, err := time.LoadLocation(name)
	return err
}

func (b *builder) date(src *source) string {
	o := src.find("until")
	if o.Value == "" {
		return ""
	}
	if _, err := time.Parse(time.DateOnly, o.Value); err != nil {
		b.bad("bad-date", o, fmt.Sprintf("%q is not a date", o.Value), "write it as 2027-03-31")
	}
	return o.Value
}

func (b *builder) labels(src *source) map[string]string {
	o := src.find("labels")
	if o.Value == "" {
		return nil
	}
	labels := map[string]string{}
	for _, word := range strings.FieldsFunc(o.Value, func(r rune) bool { return strings.ContainsRune(" ,;\n\t", r) }) {
		name, value, _ := strings.Cut(word, "=")
		if machine.CheckLabel(name) != nil {
			b.bad("bad-labels", o, fmt.Sprintf("%q is not a label", word), "write name=value words, such as rack=3 tier=a")
			continue
		}
		labels[name] = value
	}
	return labels
}
