package machine

import (
	"reflect"
	"slices"
)

// Share lets a spec that was just read have its texts in common with another one, where they
// are the same, and so what nobody changes in place.
func Share(s, with *Spec) {
	share(&s.Preset, with.Preset)
	share(&s.Template, with.Template)
	share(&s.Power, with.Power)
	share(&s.Checkpoint, with.Checkpoint)
	share(&s.Media, with.Media)

	c, like := &s.Clone, &with.Clone
	share(&c.Template, like.Template)
	share(&c.Kind, like.Kind)
	share(&c.Host, like.Host)
	share(&c.Store, like.Store)
	share(&c.Folder, like.Folder)
	share(&c.DiskKind, like.DiskKind)
	share(&c.Firmware, like.Firmware)

	shareGuest(&s.Guest, &with.Guest)
	share(&s.Info.Owner, with.Info.Owner)
	share(&s.Info.Until, with.Info.Until)
	share(&s.Info.Keep, with.Info.Keep)
	for i := range min(len(s.Adapters), len(with.Adapters)) {
		a, like := &s.Adapters[i], &with.Adapters[i]
		share(&a.Network, like.Network)
		share(&a.Model, like.Model)
		shareAll(&a.Gateways, like.Gateways)
		shareAll(&a.DNS, like.DNS)
		shareAll(&a.Search, like.Search)
		shareAll(&a.Routes, like.Routes)
	}
}

func shareGuest(g, with *Guest) {
	share(&g.Answers, with.Answers)
	share(&g.Domain, with.Domain)
	share(&g.Login, with.Login)
	share(&g.Password, with.Password)
	share(&g.Timezone, with.Timezone)
	share(&g.Locale, with.Locale)
	share(&g.Licence, with.Licence)
	share(&g.Joins, with.Joins)
	shareAll(&g.Keys, with.Keys)
	if g.Firstboot != nil && with.Firstboot != nil && reflect.DeepEqual(g.Firstboot, with.Firstboot) {
		g.Firstboot = with.Firstboot
	}
}

func share[T ~string](text *T, with T) {
	if *text == with {
		*text = with
	}
}

func shareAll[S ~[]T, T comparable](all *S, with S) {
	if slices.Equal(*all, with) {
		*all = with
	}
}
