package plan

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/place"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/sites"
)

// place gives the machines that are to be made their hosts and stores, at the
// sites that leave that to us. A batch that does not fit is refused whole.
func (p *Planner) place(asked sites.Surveys, known []ledger.Machine, of proof.Proof) (proof.Proof, error) {
	found := finding.List{}
	for name, answer := range asked {
		if !answer.Places {
			found = append(found, p.roomForRemakes(name, answer, known, of)...)
			continue
		}
		placed, _, short := p.Place(name, answer, known, of)
		if of = placed; len(short) > 0 {
			found.Add(p.noRoom(name, short))
		}
	}
	return of, p.refuse(found, nil)
}

// roomForRemakes refuses, at a site that places machines itself, full clones for
// which an old one would be removed and whose store has no room for them even then.
func (p *Planner) roomForRemakes(site string, answer *contract.Survey, known []ledger.Machine, of proof.Proof) (found finding.List) {
	used, free, is := map[string]machine.Size{}, map[string]machine.Size{}, map[machine.Key]ledger.Machine{}
	for _, t := range answer.Templates {
		used[t.Name] = t.Used
	}
	for _, st := range answer.Stores {
		free[st.Name] = st.Free
	}
	for _, k := range known {
		is[k.Key] = k
	}
	for _, w := range of.Works {
		if w.Site != site || w.Word != proof.Remake || w.Replaces == uuid.Nil || w.Spec().Clone.Kind != machine.Full {
			continue
		}
		k := is[w.Key]
		store, old := cmp.Or(w.Spec().Clone.Store, k.Store), machine.Size(0)
		if k.Spec().Clone.Kind == machine.Full && store == k.Store {
			old = used[k.Spec().Clone.Template]
		}
		if left, told := free[store]; told && left+old < used[w.Spec().Clone.Template] {
			i := slices.IndexFunc(p.Wanted, func(wanted *batch.Wanted) bool { return wanted.Key == w.Key })
			found.Add(finding.Finding{Code: "no-room", At: p.Wanted[i].Origin("store").At, Value: store,
				Message: fmt.Sprintf("%s does not fit at site %s: store %s has %s free, its clone needs %s", w.Name, site, store, left+old, used[w.Spec().Clone.Template]),
				Hint:    "free space in the store, or name another one; the machine is left unchanged"})
		}
	}
	return found
}

// Place places a site's machines. It returns the proof with the places, what that
// leaves, and what does not fit.
func (p *Planner) Place(name string, answer *contract.Survey, known []ledger.Machine, of proof.Proof) (proof.Proof, *place.Room, []place.Shortfall) {
	from := p.Setup.Sites[name]
	room := place.NewRoom(answer, spareOf(from), func(m contract.Machine) string {
		if m.Mark == nil || m.Mark.Spec == nil {
			return ""
		}
		return group(from, *m.Mark.Spec)
	})
	at := placer{site: from, templates: map[string]contract.Template{}, machines: ByIdentity(answer), known: map[machine.Key]ledger.Machine{}}
	for _, t := range answer.Templates {
		at.templates[t.Name] = t
	}
	for _, k := range known {
		at.known[k.Key] = k
	}
	var orders []place.Order
	for _, w := range of.Works {
		if w.Site == name && w.Slim != nil && w.Word != proof.Same && w.Word != proof.Dated && w.Word != proof.Taken {
			orders = append(orders, at.order(w))
		}
	}
	places, short := room.Plan(orders)
	placed := proof.Proof{Works: slices.Clone(of.Works)}
	for i, w := range placed.Works {
		if chosen, ok := places[w.Key]; ok {
			placed.Works[i].Place = &chosen
		}
	}
	return placed, room, short
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
	return spec.Info.Labels[from.Spread]
}

// placer turns work into the order of a place.
type placer struct {
	site      setup.Site
	templates map[string]contract.Template
	machines  map[uuid.UUID]contract.Machine // that the site has, by identity
	known     map[machine.Key]ledger.Machine
}

func (at placer) order(w proof.Work) place.Order {
	m := w.Machine()
	o := place.Order{Key: w.Key, Host: m.Clone.Host, Store: m.Clone.Store, Kind: m.Clone.Kind, Template: at.templates[m.Clone.Template],
		Disks: m.Shape.Disks, Clone: true, Needs: contract.Needs(m.Clone.Hardware), Group: group(at.site, m.Spec)}
	if m.Clone.DiskKind == machine.FullDisk {
		o.Whole = max(o.Template.Disk, m.Shape.Disk)
	}
	for _, a := range m.Adapters {
		o.Networks = append(o.Networks, a.Network)
	}
	if m.Power.Starts() {
		o.Memory = cmp.Or(m.Shape.Memory, o.Template.Memory, machine.GiB)
	}
	here, there := at.machines[w.Identity]
	if old, ok := at.machines[w.Replaces]; ok {
		here, o.Frees = old, old.Used // which goes before the new one comes
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
func (p *Planner) noRoom(site string, short []place.Shortfall) finding.Finding {
	first := short[0]
	i := slices.IndexFunc(p.Wanted, func(w *batch.Wanted) bool { return w.Key == first.Key })
	at := p.Wanted[i].Origin(first.Column).At
	message := fmt.Sprintf("%s does not fit at site %s: %s", first.Name, site, first.Reason)
	if n := len(short); n > 1 {
		message = fmt.Sprintf("%d machines do not fit at site %s; the first, %s: %s", n, site, first.Name, first.Reason)
	}
	return finding.Finding{Code: "no-room", At: at, Message: message, Hint: "`mintbatch survey` shows how full each host and store is"}
}

// unusable reports a template from which nothing can be cloned, and what is
// to be said of the others.
func unusable(answer *contract.Survey, w *batch.Wanted, told map[finding.Position]bool) (found, remarks finding.List) {
	at, spec := w.Origin("template").At, w.Spec()
	for _, t := range answer.Templates {
		if t.Name != spec.Clone.Template {
			continue
		}
		if disk := w.Origin("disk"); spec.Shape.Disk > 0 && spec.Shape.Disk < t.Disk && !told[disk.At] {
			told[disk.At] = true
			found.Add(finding.Finding{Code: "disk-too-small", At: disk.At, Value: disk.Value,
				Message: fmt.Sprintf("the disk of template %s has %s, and a disk cannot shrink", t.Name, t.Disk), Hint: "leave it empty, or write a larger size"})
		}
		if told[at] {
			continue
		}
		if source, is := machine.SourceOf(t.Name); is && t.Problem == "" {
			told[at] = true
			remarks.Add(finding.Finding{Severity: finding.Warning, Code: "template-in-use", At: at, Value: t.Name,
				Message: fmt.Sprintf("%s was in use and is not sealed: its clones share what it has got, such as logins with their passwords, keys, DHCP leases and logs; their answers replace host name, addresses, host keys and machine id", source.Name),
				Hint:    "for machines of different owners, prepare a template instead"})
		}
		for _, remark := range t.Remarks {
			told[at] = true
			remarks.Add(finding.Finding{Severity: finding.Warning, Code: "template-hardware", At: at, Value: t.Name, Message: fmt.Sprintf("template %s: %s", t.Name, remark)})
		}
		if t.Problem == "" && (t.Remark == "" || spec.Clone.Kind != machine.Linked) {
			continue
		}
		told[at] = true
		if t.Problem != "" {
			found.Add(finding.Finding{Code: "bad-template", At: at, Value: t.Name, Message: fmt.Sprintf("template %s cannot be cloned: %s", t.Name, t.Problem)})
			continue
		}
		remarks.Add(finding.Finding{Severity: finding.Warning, Code: "template-writable", At: at, Value: t.Name, Message: fmt.Sprintf("template %s: %s", t.Name, t.Remark)})
	}
	return found, remarks
}

// Hidden lists the machines that are known to be on a host that is down: that
// they are not seen does not mean that they are gone.
func Hidden(known []ledger.Machine, asked sites.Surveys) map[machine.Key]bool {
	down := make(map[string][]string, len(asked))
	for name, answer := range asked {
		down[name] = answer.Down()
	}
	all := map[machine.Key]bool{}
	for _, k := range known {
		if at := down[k.Site]; slices.Contains(at, k.Host) || k.Host == "" && len(at) > 0 {
			all[k.Key] = true
		}
	}
	return all
}

// HostsDown warns of hosts that are not available.
func (p *Planner) HostsDown(asked sites.Surveys) (found finding.List) {
	for name, answer := range asked {
		for _, h := range answer.Hosts {
			if h.Down != "" {
				found.Add(finding.Finding{Severity: finding.Warning, Code: "host-down", At: p.Setup.Where("sites", name, "hosts", h.Name),
					Value: h.Name, Message: fmt.Sprintf("host %s of site %s is not available: %s", h.Name, name, h.Down)})
			}
		}
	}
	return found
}
