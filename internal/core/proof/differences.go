package proof

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"mintbatch/internal/core/machine"
)

// change is a value that differs. Some values are made with the clone itself,
// others are read by the guest on its first boot only; both need another clone.
type change struct {
	Reason
	again bool // cannot be had without cloning again once the guest has started
	clone bool // cannot be had without cloning again at all
	later bool // can be added in place to a machine that is made, but the guest is not told of it
}

type changes []change

func (cs changes) reasons() []Reason {
	var all []Reason
	for _, c := range cs {
		all = append(all, c.Reason)
	}
	return all
}

// differences lists what two specs do not agree in, in the order of the columns.
func differences(from, to machine.Spec) changes {
	if reflect.DeepEqual(from, to) { // as most are
		return nil
	}
	var cs changes
	diff := func(field string, a, b any, again, clone bool) {
		x, y := fmt.Sprint(a), fmt.Sprint(b)
		if x != y {
			cs = append(cs, change{Reason: Reason{Field: field, From: x, To: y}, again: again, clone: clone})
		}
	}
	inPlace := func(field string, a, b any) { diff(field, a, b, false, false) }
	atBoot := func(field string, a, b any) { diff(field, a, b, true, false) }
	atClone := func(field string, a, b any) { diff(field, a, b, true, true) }

	atClone("template", from.Clone.Template, to.Clone.Template)
	atClone("clone", from.Clone.Kind, to.Clone.Kind)
	atClone("host", from.Clone.Host, to.Clone.Host)
	atClone("store", from.Clone.Store, to.Clone.Store)
	atClone("folder", from.Clone.Folder, to.Clone.Folder)
	atClone("firmware", from.Clone.Firmware, to.Clone.Firmware)
	atClone("hardware", hardware(from.Clone.Hardware), hardware(to.Clone.Hardware))
	inPlace("cpus", number(from.Shape.CPUs), number(to.Shape.CPUs))
	inPlace("memory", size(from.Shape.Memory), size(to.Shape.Memory))
	shrinks := to.Shape.Disk < from.Shape.Disk
	diff("disk", size(from.Shape.Disk), size(to.Shape.Disk), shrinks, shrinks)
	gone := len(to.Shape.Disks) < len(from.Shape.Disks)
	for i := range min(len(to.Shape.Disks), len(from.Shape.Disks)) {
		a, b := from.Shape.Disks[i], to.Shape.Disks[i]
		gone = gone || b.Size < a.Size || b.Store != a.Store || b.Kind != a.Kind
	}
	diff("disks", list(from.Shape.Disks), list(to.Shape.Disks), gone, gone)
	for i := range max(len(from.Adapters), len(to.Adapters)) {
		a, b := adapter(from.Adapters, i), adapter(to.Adapters, i)
		n := ""
		if i > 0 {
			n = fmt.Sprintf(".%d", i+1)
		}
		if i >= len(from.Adapters) && b.Network != "" && b.Via == (machine.Via{}) {
			what := strings.TrimSpace(b.Network + " " + addresses(b))
			cs = append(cs, change{Reason: Reason{Field: "network" + n, To: what, Untold: true}, later: true})
			continue
		}
		atBoot("network"+n, a.Network, b.Network)
		atBoot("mac"+n, a.MAC, b.MAC)
		atBoot("vlan"+n, number(a.VLAN), number(b.VLAN))
		atBoot("model"+n, a.Model, b.Model)
		inPlace("wire"+n, wire(a), wire(b))
		atBoot("lease"+n, lease(a), lease(b))
		atBoot("address"+n, addresses(a), addresses(b))
		atBoot("gateway"+n, list(a.Gateways), list(b.Gateways))
		atBoot("dns"+n, list(a.DNS), list(b.DNS))
		atBoot("search"+n, list(a.Search), list(b.Search))
		atBoot("mtu"+n, number(a.MTU), number(b.MTU))
		atBoot("routes"+n, list(a.Routes), list(b.Routes))
		atBoot("ipv6"+n, off(a.NoIPv6), off(b.NoIPv6))
		atBoot("via"+n, a.Via, b.Via)
	}
	atBoot("answers", from.Guest.Answers, to.Guest.Answers)
	atBoot("hostname", from.Guest.Hostname, to.Guest.Hostname)
	atBoot("domain", from.Guest.Domain, to.Guest.Domain)
	atBoot("login", from.Guest.Login, to.Guest.Login)
	atBoot("password", from.Guest.Password, to.Guest.Password)
	atBoot("keys", list(from.Guest.Keys), list(to.Guest.Keys))
	atBoot("timezone", from.Guest.Timezone, to.Guest.Timezone)
	atBoot("locale", from.Guest.Locale, to.Guest.Locale)
	atBoot("licence", from.Guest.Licence, to.Guest.Licence)
	atBoot("hash", brief(from.Guest.Hash), brief(to.Guest.Hash))
	atBoot("own_answers", brief(from.Guest.Own), brief(to.Guest.Own))
	a, b := reflect.ValueOf(*from.Guest.Whole().Firstboot), reflect.ValueOf(*to.Guest.Whole().Firstboot)
	for i := range a.NumField() {
		atBoot(a.Type().Field(i).Tag.Get("key"), brief(a.Field(i).Interface()), brief(b.Field(i).Interface()))
	}
	inPlace("owner", from.Mark.Owner, to.Mark.Owner)
	inPlace("notes", from.Mark.Notes, to.Mark.Notes)
	inPlace("until", from.Mark.Until, to.Mark.Until)
	inPlace("labels", labels(from.Mark.Labels), labels(to.Mark.Labels))
	inPlace("power", from.Power, to.Power)
	inPlace("checkpoint", from.Checkpoint, to.Checkpoint)
	inPlace("preset", from.Preset, to.Preset)
	inPlace("seed", seed(from), seed(to))
	return cs
}

// brief tells a value in few words; of one that is long, that it is, and which.
func brief(v any) string {
	if words, ok := v.([]string); ok {
		v = list(words)
	}
	if reflect.ValueOf(v).IsZero() {
		return ""
	}
	text, ok := v.(string)
	if !ok {
		b, err := json.Marshal(v)
		if err != nil { // only values of our own types, which marshal
			panic(err)
		}
		text = string(b)
	}
	if len(text) > 400 {
		text = fmt.Sprintf("%s... (%d characters, digest %.12s)", strings.ToValidUTF8(text[:60], ""), len(text), machine.Digest(v))
	}
	return text
}

func off(is bool) string {
	if is {
		return "off"
	}
	return ""
}

func adapter(all []machine.Adapter, i int) machine.Adapter {
	if i < len(all) {
		return all[i]
	}
	return machine.Adapter{}
}

func addresses(a machine.Adapter) string {
	return strings.TrimSpace(strings.Join(a.Ways(), " ") + " " + list(a.Addresses))
}

func lease(a machine.Adapter) string {
	if !a.Lease.IsValid() {
		return ""
	}
	return a.Lease.String()
}

func wire(a machine.Adapter) string {
	if a.Unplugged {
		return "down"
	}
	return "up"
}

func seed(s machine.Spec) string {
	if s.DropSeed {
		return "drop"
	}
	return "keep"
}

func hardware(h *machine.Hardware) string {
	if h == nil {
		return ""
	}
	var words []string
	for _, part := range [][2]string{{"emulator", h.Emulator}, {"arch", h.Arch}, {"board", h.Board}, {"cpu", h.CPU},
		{"sockets", number(h.Sockets)}, {"bus", h.Bus}, {"display", h.Display}, {"console", h.Console}} {
		if part[1] != "" {
			words = append(words, part[0]+" "+part[1])
		}
	}
	return strings.Join(words, ", ")
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func size(s machine.Size) string {
	if s == 0 {
		return ""
	}
	return s.String()
}

// list joins so that two lists that differ also read differently.
func list[T any](all []T) string {
	words := make([]string, len(all))
	for i, v := range all {
		if words[i] = fmt.Sprint(v); strings.ContainsAny(words[i], `,"`) {
			words[i] = strconv.Quote(words[i])
		}
	}
	return strings.Join(words, ", ")
}

func labels(m map[string]string) string {
	var words []string
	for _, k := range slices.Sorted(maps.Keys(m)) {
		words = append(words, k+"="+m[k])
	}
	return strings.Join(words, " ")
}
