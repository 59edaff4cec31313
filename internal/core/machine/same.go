package machine

import (
	"maps"
	"reflect"
	"slices"
)

// Same reports whether two specs are the same, whatever of them is empty or missing.
func Same(a, b *Spec) bool {
	return a.Preset == b.Preset && a.Template == b.Template && a.Clone.same(b.Clone) && a.Shape.same(b.Shape) &&
		slices.EqualFunc(a.Adapters, b.Adapters, Adapter.same) && a.Guest.same(b.Guest) && a.Info.same(b.Info) &&
		a.Power == b.Power && a.Checkpoint == b.Checkpoint && a.Media == b.Media &&
		slices.Equal(a.After, b.After) && slices.Equal(a.Enrol, b.Enrol) && slices.Equal(a.Aliases, b.Aliases) && a.DropSeed == b.DropSeed
}

func (c Clone) same(d Clone) bool {
	alike := c.Hardware == d.Hardware || c.Hardware != nil && d.Hardware != nil && *c.Hardware == *d.Hardware
	c.Hardware, d.Hardware = nil, nil
	return alike && c == d
}

func (s Shape) same(t Shape) bool {
	return s.CPUs == t.CPUs && s.Memory == t.Memory && s.Disk == t.Disk && slices.Equal(s.Disks, t.Disks)
}

func (a Adapter) same(b Adapter) bool {
	return a.Card == b.Card && a.Parent == b.Parent && a.MTU == b.MTU && a.NoIPv6 == b.NoIPv6 && a.Later == b.Later &&
		a.DHCP == b.DHCP && a.DHCP6 == b.DHCP6 && a.SLAAC == b.SLAAC && slices.Equal(a.Addresses, b.Addresses) && slices.Equal(a.Gateways, b.Gateways) &&
		slices.Equal(a.DNS, b.DNS) && slices.Equal(a.Search, b.Search) && slices.Equal(a.Routes, b.Routes)
}

func (g Guest) same(h Guest) bool {
	return g.Answers == h.Answers && g.Hostname == h.Hostname && g.Domain == h.Domain && g.Login == h.Login && g.Password == h.Password &&
		slices.Equal(g.Keys, h.Keys) && g.Timezone == h.Timezone && g.Locale == h.Locale && g.Licence == h.Licence &&
		g.Confirm == h.Confirm && g.Hash == h.Hash && g.Joins == h.Joins &&
		(g.Own == h.Own || reflect.DeepEqual(g.Own, h.Own)) && (g.Firstboot == h.Firstboot || reflect.DeepEqual(g.Firstboot, h.Firstboot))
}

func (i Info) same(j Info) bool {
	return i.Owner == j.Owner && i.Notes == j.Notes && i.Until == j.Until && i.Keep == j.Keep && i.Extended == j.Extended && maps.Equal(i.Labels, j.Labels)
}
