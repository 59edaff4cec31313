package mint

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/place"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
)

// place gives the machines that are to be made their hosts and stores, at the
// sites that leave that to us. A batch that does not fit is refused whole.
func (s *Session) place(surveys map[string]*survey.Survey, known []ledger.Machine, p proof.Proof) error {
	found := finding.List{}
	for name, answer := range surveys {
		if !answer.Places {
			continue
		}
		if _, short := s.planned(name, answer, known, p); len(short) > 0 {
			found.Add(s.noRoom(name, short))
		}
	}
	if found.Failed() {
		return &Refused{append(s.Findings, found...).Sorted()}
	}
	return nil
}

// planned places a site's machines and tells what that leaves.
func (s *Session) planned(name string, answer *survey.Survey, known []ledger.Machine, p proof.Proof) (*place.Room, []place.Shortfall) {
	from := s.Setup.Sites[name]
	room := place.NewRoom(answer, spareOf(from), func(m survey.Machine) string {
		if m.Mark == nil || m.Mark.Spec == nil {
			return ""
		}
		return group(from, *m.Mark.Spec)
	})
	at := placer{site: from, templates: map[string]survey.Template{}, machines: byIdentity(answer), known: map[machine.Key]ledger.Machine{}}
	for _, t := range answer.Templates {
		at.templates[t.Name] = t
	}
	for _, k := range known {
		at.known[k.Key] = k
	}
	var orders []place.Order
	for _, w := range p.Works {
		if w.Site == name && w.Machine != nil && w.Word != proof.Same && w.Word != proof.Taken {
			orders = append(orders, at.order(w))
		}
	}
	places, short := room.Plan(orders)
	for i, w := range p.Works {
		if chosen, ok := places[w.Key]; ok {
			p.Works[i].Place = &chosen
		}
	}
	return room, short
}

// spareOf is what a site's setup wants to stay free.
func spareOf(from setup.Site) place.Spare {
	return place.Spare{Memory: cmp.Or(from.SpareMemory, machine.GiB), Disk: cmp.Or(from.SpareDisk, machine.GiB)}
}

// group is what a machine has in common with those that it is kept apart from.
func group(from setup.Site, spec machine.Spec) string {
	if from.Spread == "" || from.Spread == "preset" {
		return spec.Preset
	}
	return spec.Mark.Labels[from.Spread]
}

// placer turns work into the order of a place.
type placer struct {
	site      setup.Site
	templates map[string]survey.Template
	machines  map[uuid.UUID]survey.Machine // that the site has, by identity
	known     map[machine.Key]ledger.Machine
}

func (at placer) order(w proof.Work) place.Order {
	m := w.Machine
	o := place.Order{Key: w.Key, Host: m.Clone.Host, Store: m.Clone.Store, Kind: m.Clone.Kind, Template: at.templates[m.Clone.Template],
		Disks: m.Shape.Disks, Clone: true, Group: group(at.site, m.Spec)}
	for _, a := range m.Adapters {
		o.Networks = append(o.Networks, a.Network)
	}
	if m.Power.Starts() {
		o.Memory = cmp.Or(m.Shape.Memory, o.Template.Memory, machine.GiB)
	}
	here, there := at.machines[w.Identity]
	if old, ok := at.machines[w.Replaces]; ok {
		here = old // which goes before the new one comes
	}
	if here.Power == machine.On {
		o.Memory = max(o.Memory-here.Memory, 0)
	}
	// What was begun, or is there, stays where it is; so does what is remade.
	k, isKnown := at.known[w.Key]
	if isKnown && k.Host != "" && (w.Word != proof.New || k.Generation == w.Generation) {
		o.Host, o.Store = cmp.Or(o.Host, k.Host), cmp.Or(o.Store, k.Store)
	}
	if there {
		o.Host, o.Store, o.Clone = here.Host, here.Store, false
	}
	return o
}

// noRoom is the one finding for all machines that do not fit.
func (s *Session) noRoom(site string, short []place.Shortfall) finding.Finding {
	first := short[0]
	i := slices.IndexFunc(s.Wanted, func(w *batch.Wanted) bool { return w.Key == first.Key })
	at := s.Wanted[i].Origin(first.Column).At
	message := fmt.Sprintf("%s does not fit at site %s: %s", first.Name, site, first.Reason)
	if n := len(short); n > 1 {
		message = fmt.Sprintf("%d machines do not fit at site %s; the first, %s: %s", n, site, first.Name, first.Reason)
	}
	return finding.Finding{Code: "no-room", At: at, Message: message, Hint: "`mintbatch survey` shows how full each host and store is"}
}

// unusable tells of a template from which nothing can be cloned, and of what is
// to be said of the others.
func (s *Session) unusable(answer *survey.Survey, w *batch.Wanted, told map[finding.Position]bool, found *finding.List) {
	at := w.Origin("template").At
	for _, t := range answer.Templates {
		if t.Name != w.Clone.Template {
			continue
		}
		if disk := w.Origin("disk"); w.Shape.Disk > 0 && w.Shape.Disk < t.Disk && !told[disk.At] {
			told[disk.At] = true
			found.Add(finding.Finding{Code: "disk-too-small", At: disk.At, Value: disk.Value,
				Message: fmt.Sprintf("the disk of template %s has %s, and a disk never shrinks", t.Name, t.Disk), Hint: "leave it empty, or write more"})
		}
		if told[at] || t.Problem == "" && (t.Remark == "" || w.Clone.Kind != machine.Linked) {
			continue
		}
		told[at] = true
		if t.Problem != "" {
			found.Add(finding.Finding{Code: "bad-template", At: at, Value: t.Name, Message: fmt.Sprintf("nothing can be cloned from template %s: %s", t.Name, t.Problem)})
			continue
		}
		s.Warnings.Add(finding.Finding{Severity: finding.Warning, Code: "template-writable", At: at, Value: t.Name, Message: fmt.Sprintf("template %s: %s", t.Name, t.Remark)})
	}
}

// hidden lists the machines that are known to be on a host that is down: that
// they are not seen does not mean that they are gone.
func hidden(known []ledger.Machine, surveys map[string]*survey.Survey) map[machine.Key]bool {
	all := map[machine.Key]bool{}
	for _, k := range known {
		if answer := surveys[k.Site]; answer != nil {
			down := answer.Down()
			if slices.Contains(down, k.Host) || k.Host == "" && len(down) > 0 {
				all[k.Key] = true
			}
		}
	}
	return all
}

// warnOfHosts tells of the hosts that are down. They take no machines.
func (s *Session) warnOfHosts(surveys map[string]*survey.Survey) {
	for name, answer := range surveys {
		for _, h := range answer.Hosts {
			if h.Down != "" {
				s.Warnings.Add(finding.Finding{Severity: finding.Warning, Code: "host-down", At: s.Setup.Where("sites", name, "hosts", h.Name),
					Value: h.Name, Message: fmt.Sprintf("host %s of site %s is left out: %s", h.Name, name, h.Down)})
			}
		}
	}
}
