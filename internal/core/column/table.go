package column

import (
	"reflect"
	"slices"

	"mintbatch/internal/core/machine"
)

// table has the columns in the order in which they are shown, and the settings without
// a column where they belong.
var table = slices.Concat([]Column{
	{Name: "machine", inSheet: true, Headings: []string{"vm", "vm name", "name", "machine name", "server", "server name", "virtual machine", "guest", "guest name", "node name"}, Literal: true},
	field(Column{Name: "preset", Headings: []string{"role", "profile", "kind"}, Literal: true}, func(s *machine.Spec) *string { return &s.Preset }, plain),
	field(Column{Name: "template", Headings: []string{"image", "base image", "clone from", "master"}, Literal: true, Change: Cloned}, func(s *machine.Spec) *string { return &s.Clone.Template }, plain),
	{Name: "site", inSheet: true, Headings: []string{"location", "datacenter", "data center", "data centre"}, Literal: true},
	cell(Column{Name: "host", Stays: true, Headings: []string{"hypervisor", "hypervisor host", "host server"}, Clears: true, Change: Cloned, Visible: true}, func(s *machine.Spec) *string { return &s.Clone.Host }, plain, text),
	cell(Column{Name: "store", Stays: true, Headings: []string{"storage pool", "datastore"}, Clears: true, Change: Cloned, Visible: true}, func(s *machine.Spec) *string { return &s.Clone.Store }, plain, text),
	cell(Column{Name: "folder", Stays: true, Headings: []string{"group"}, Clears: true, Change: Cloned}, func(s *machine.Spec) *string { return &s.Clone.Folder }, plain, text),
	cell(Column{Name: "clone", Stays: true, Headings: []string{"clone type", "clone kind"}, Change: Cloned, grows: standsAlone}, func(s *machine.Spec) *machine.CloneKind { return &s.Clone.Kind }, plain, oneOf("clone", machine.Linked, machine.Full)),
	cell(Column{Name: "cpus", Stays: true, Headings: []string{"cpu", "vcpu", "vcpus", "cores", "cpu count", "cpu cores", "processors"}}, func(s *machine.Spec) *int { return &s.Shape.CPUs }, unlessZero, cpus),
	cell(Column{Name: "memory", Code: "bad-size", Stays: true, Headings: []string{"ram", "mem", "memory size"}}, func(s *machine.Spec) *machine.Size { return &s.Shape.Memory }, unlessZero, size("memory")),
	cell(Column{Name: "disk", Code: "bad-size", Stays: true, Headings: []string{"disk size", "system disk", "root disk", "hdd", "storage"},
		shrinks: func(from, to *machine.Spec) bool { return to.Shape.Disk < from.Shape.Disk }}, func(s *machine.Spec) *machine.Size { return &s.Shape.Disk }, unlessZero, systemDisk),
	field(Column{Name: "disk_kind", Change: NextClone}, func(s *machine.Spec) *machine.DiskKind { return &s.Clone.DiskKind }, plain).setting(),
	cell(Column{Name: "disks", Stays: true, Headings: []string{"data disks", "data disk", "extra disks", "further disks"}, Clears: true, shrinks: disksShrink},
		func(s *machine.Spec) *[]machine.Disk { return &s.Shape.Disks }, list, disks),
	cell(Column{Name: "firmware", Stays: true, Change: Cloned, Visible: true}, func(s *machine.Spec) *machine.Firmware { return &s.Clone.Firmware }, plain, oneOf("firmware", "", machine.BIOS, machine.UEFI)),
	field(Column{Name: "hardware", Change: NextClone}, func(s *machine.Spec) **machine.Hardware { return &s.Clone.Hardware }, hardware).setting(),

	perAdapter(Column{Name: "network", Headings: []string{"net", "network name", "lan", "subnet name"}, Change: Another, Visible: true}, func(a *machine.Adapter) *string { return &a.Network }, plain),
	address(Column{Name: "address", Headings: []string{"ip", "ip address", "ipv4", "ipv4 address", "ipv6", "ipv6 address", "addr", "addresses", "static ip"}, Change: Another, Visible: true}),
	perAdapter(Column{Name: "mac", Headings: []string{"mac address", "hardware address"}, Change: Another, Visible: true}, func(a *machine.Adapter) *string { return &a.MAC }, plain),
	perAdapter(Column{Name: "vlan", Change: Another, Visible: true}, func(a *machine.Adapter) *int { return &a.VLAN }, unlessZero).setting(),
	perAdapter(Column{Name: "model", Change: Another}, func(a *machine.Adapter) *string { return &a.Model }, plain).setting(),
	perAdapter(Column{Name: "link"}, func(a *machine.Adapter) *bool { return &a.Unplugged }, words("up", "down")),
	perAdapter(Column{Name: "lease", Change: Another, Visible: true}, leaseOf, ifValid).setting(),
	perAdapter(Column{Name: "gateway", Change: NextBoot}, gatewaysOf, list).setting(),
	perAdapter(Column{Name: "dns", Change: NextBoot, Visible: true}, dnsOf, list).setting(),
	perAdapter(Column{Name: "search", Change: NextBoot}, func(a *machine.Adapter) *[]string { return &a.Search }, list).setting(),
	perAdapter(Column{Name: "mtu", Change: NextBoot}, func(a *machine.Adapter) *int { return &a.MTU }, unlessZero).setting(),
	perAdapter(Column{Name: "routes", Change: NextBoot}, func(a *machine.Adapter) *[]machine.Route { return &a.Routes }, list).setting(),
	perAdapter(Column{Name: "ipv6", Change: NextBoot}, func(a *machine.Adapter) *bool { return &a.NoIPv6 }, words("", "off")).setting(),
	perAdapter(Column{Name: "parent", Change: Another, Visible: true}, func(a *machine.Adapter) *machine.Parent { return &a.Parent }, plain),

	field(Column{Name: "answers", Change: NextBoot}, func(s *machine.Spec) *machine.AnswersKind { return &s.Guest.Answers }, plain).setting(),
	field(Column{Name: "hostname", Stays: true, Headings: []string{"host name", "computer name"}, Change: Another, Visible: true}, func(s *machine.Spec) *string { return &s.Guest.Hostname }, plain),
	cell(Column{Name: "domain", Stays: true, Headings: []string{"dns domain", "domain name", "dns suffix"}, Clears: true, Change: Another, Visible: true}, func(s *machine.Spec) *string { return &s.Guest.Domain }, plain, domain),
	field(Column{Name: "login", Stays: true, Headings: []string{"user", "user name", "account", "admin user"}, Change: NextBoot, Visible: true}, func(s *machine.Spec) *string { return &s.Guest.Login }, plain),
	field(Column{Name: "password", Stays: true, Headings: []string{"pass", "passwd", "pwd"}, Literal: true, Secret: true, Change: NextBoot}, func(s *machine.Spec) *machine.PasswordKind { return &s.Guest.Password }, plain),
	field(Column{Name: "keys", Stays: true, Headings: []string{"ssh key", "ssh keys", "public key", "public keys", "authorized keys"}, Literal: true, Change: NextBoot}, func(s *machine.Spec) *machine.PublicKeys { return &s.Guest.Keys }, list),
	cell(Column{Name: "timezone", Stays: true, Headings: []string{"time zone", "tz"}, Change: NextBoot, Visible: true}, func(s *machine.Spec) *string { return &s.Guest.Timezone }, plain, text),
	cell(Column{Name: "locale", Stays: true, Headings: []string{"language"}, Change: NextBoot}, func(s *machine.Spec) *string { return &s.Guest.Locale }, plain, text),
	field(Column{Name: "licence", Stays: true, Headings: []string{"license", "licence key", "license key", "product key"}, Literal: true, Secret: true, Change: NextBoot}, func(s *machine.Spec) *string { return &s.Guest.Licence }, plain),
	field(Column{Name: "hash", Change: NextBoot}, func(s *machine.Spec) *machine.Hash { return &s.Guest.Hash }, brief).setting(),
	field(Column{Name: "custom_answers", Change: NextBoot}, func(s *machine.Spec) **machine.OwnAnswers { return &s.Guest.Own }, brief).setting(),
	field(Column{Name: "joins", Change: NextBoot}, func(s *machine.Spec) *string { return &s.Guest.Joins }, plain).setting(),
	{Name: "firstboot", inSheet: true, Headings: []string{"first boot"}},
}, contents(), []Column{
	cell(Column{Name: "power", Stays: true, Headings: []string{"power state"}}, func(s *machine.Spec) *machine.Power { return &s.Power }, plain, oneOf("power", machine.On, machine.StayOn, machine.Off, machine.ConfirmThenOff)),
	cell(Column{Name: "confirm", Stays: true, Clears: true, Change: NextBoot}, func(s *machine.Spec) *machine.Confirm { return &s.Guest.Confirm }, plain, oneOf("confirm", machine.BySite, machine.CallHome)),
	cell(Column{Name: "checkpoint", Stays: true, Headings: []string{"snapshot", "snapshots", "checkpoints"}, Clears: true}, func(s *machine.Spec) *string { return &s.Checkpoint }, plain, checkpoints),
	cell(Column{Name: "media", Stays: true, Headings: []string{"iso", "iso image", "cd", "dvd", "cd image"}, Clears: true, Change: NextBoot}, func(s *machine.Spec) *string { return &s.Media }, plain, image),
	cell(Column{Name: "after", Stays: true, Headings: []string{"start after", "starts after", "depends on"}, Clears: true}, func(s *machine.Spec) *[]string { return &s.After }, spaced, after),
	cell(Column{Name: "aliases", Stays: true, Headings: []string{"alias", "further names", "cname", "cnames"}, Clears: true}, func(s *machine.Spec) *[]string { return &s.Aliases }, spaced, aliases),
	cell(Column{Name: "enrol", Headings: []string{"enrol in"}}, func(s *machine.Spec) *[]string { return &s.Enrol }, spaced, systems),
	field(Column{Name: "seed"}, func(s *machine.Spec) *bool { return &s.DropSeed }, words("keep", "drop")).setting(),
	cell(Column{Name: "owner", Stays: true, Headings: []string{"contact", "responsible", "requested by", "requester"}, Prose: true, Clears: true}, func(s *machine.Spec) *string { return &s.Info.Owner }, plain, text),
	cell(Column{Name: "notes", Stays: true, Headings: []string{"note", "remark", "remarks", "comment", "comments", "description", "purpose"}, Prose: true, Clears: true}, func(s *machine.Spec) *string { return &s.Info.Notes }, plain, text),
	cell(Column{Name: "until", Code: "bad-date", Stays: true, Headings: []string{"expires", "expiry", "expiry date", "end date", "valid until", "due"}, Clears: true}, func(s *machine.Spec) *string { return &s.Info.Until }, plain, date),
	cell(Column{Name: "keep", Code: "bad-date", Stays: true, Headings: []string{"keep until", "disks until", "delete after", "retire after", "retire on"}, Clears: true}, func(s *machine.Spec) *string { return &s.Info.Keep }, plain, date),
	field(Column{Name: "extended"}, func(s *machine.Spec) *string { return &s.Info.Extended }, plain).setting(),
	cell(Column{Name: "labels", Stays: true, Headings: []string{"label", "tags"}, Clears: true}, func(s *machine.Spec) *map[string]string { return &s.Info.Labels }, labelWords, labels),
})

// contents are the settings of the first-boot contents, by the keys that presets and
// fragments have for them.
func contents() []Column {
	t := reflect.TypeFor[machine.Firstboot]()
	all := make([]Column, t.NumField())
	for i := range all {
		all[i] = Column{Name: t.Field(i).Tag.Get("key"), Change: NextBoot,
			show: func(s *machine.Spec, _ int) string {
				if s.Guest.Firstboot == nil {
					return ""
				}
				return brief(reflect.ValueOf(s.Guest.Firstboot).Elem().Field(i).Interface())
			},
			copy: func(into, from *machine.Spec, _ int) {
				own := *into.Guest.Whole().Firstboot // which others share
				reflect.ValueOf(&own).Elem().Field(i).Set(reflect.ValueOf(*from.Guest.Whole().Firstboot).Field(i))
				into.Guest.Firstboot = &own
			}}
	}
	return all
}
