package sandbox

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

var done = contract.Task{State: contract.Done}

func (r *record) machine() contract.Machine {
	m := contract.Machine{ID: r.ID, Name: r.Name, Host: r.Host, Store: r.Store, Power: r.Power, Firmware: r.Firmware, Shape: r.Shape}
	if r.Mark.Key != "" {
		m.Mark = &r.Mark
	}
	for _, a := range r.Adapters {
		m.Adapters = append(m.Adapters, machine.Card{Network: a.Network, MAC: a.MAC, Unplugged: a.Unplugged})
	}
	return m
}

func (r *record) reports() bool { return r.Report != nil && time.Now().After(r.Booted) }

func (s *Sandbox) clone(c *call) (any, error) {
	id, err := c.id()
	if err != nil {
		return nil, err
	}
	var order contract.CloneOrder
	if err := c.read(&order); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.machines[id]; r != nil {
		if r.Kept {
			return nil, refuse(http.StatusConflict, "the disks of the machine that had this identity were kept: %s", strings.Join(r.files(), ", "))
		}
		if name, coming := s.coming[id]; coming {
			return s.tasks[name].Task, nil
		}
		return contract.Task{State: contract.Done, Host: r.Host, Store: r.Store}, nil
	}
	if s.inventories[c.site].names[strings.ToLower(order.Name)] != nil {
		return nil, refuse(http.StatusConflict, "another machine is named %s", order.Name)
	}
	t, source, err := s.toClone(c, order.Template)
	if err != nil {
		return nil, err
	}
	if order.Folder != "" && !c.plan.Places && !slices.Contains(c.plan.Folders, order.Folder) {
		return nil, refuse(http.StatusConflict, "no folder %q", order.Folder)
	}
	r := &record{Site: c.site, ID: id, Name: order.Name, Template: t.Name, Kind: order.Kind, Folder: order.Folder, Firmware: cmp.Or(order.Firmware, machine.BIOS), DiskKind: order.DiskKind, Mark: order.Mark,
		Source: source.id, At: source.checkpoint, Shape: machine.Shape{CPUs: t.CPUs, Memory: t.Memory, Disk: t.Disk, Disks: source.disks}, Power: machine.Off}
	if err := s.place(c, r, order, t); err != nil {
		return nil, err
	}
	s.add(r)
	end := func(done bool) error {
		delete(s.coming, id)
		if !done {
			s.drop(r)
			return nil
		}
		return s.disk.keep(r)
	}
	if r.Kind == machine.Full {
		end = s.counted(end, "copies", "copies at "+r.Store, "copies on "+r.Host)
	}
	task := s.startTask(s.cloneTime(c, r, t), end)
	task.Host, task.Store = r.Host, r.Store
	s.tasks[task.ID].Host, s.tasks[task.ID].Store = r.Host, r.Store
	if !task.Settled() {
		s.coming[id] = task.ID
	}
	return task, nil
}

// place chooses host and store where the order leaves it open: the ones with
// the most room.
func (s *Sandbox) place(c *call, r *record, o contract.CloneOrder, t TemplatePlan) error {
	view := s.capacity(c)
	needs := r.size(t)
	var best *contract.Store
	for i, store := range view.Stores {
		if o.Store != "" && store.Name != o.Store || o.Host != "" && !reaches(view.Hosts, o.Host, store.Name) {
			continue
		}
		if best == nil || store.Free > best.Free {
			best = &view.Stores[i]
		}
	}
	if best == nil {
		return refuse(http.StatusConflict, "no store %q that host %q reaches", o.Store, o.Host)
	}
	if best.Free < needs || s.options.Faults.strike("full") {
		return refuse(http.StatusInsufficientStorage, "store %q is full (needs %s, has %s)", best.Name, needs, best.Free)
	}
	var host *contract.Host
	for i, h := range view.Hosts {
		if (o.Host == "" || h.Name == o.Host) && slices.Contains(h.Stores, best.Name) && (host == nil || h.FreeMemory > host.FreeMemory) {
			host = &view.Hosts[i]
		}
	}
	if host == nil {
		return refuse(http.StatusConflict, "no host %q that reaches store %q", o.Host, best.Name)
	}
	r.Store, r.Host = best.Name, host.Name
	return nil
}

func reaches(hosts []contract.Host, host, store string) bool {
	return slices.ContainsFunc(hosts, func(h contract.Host) bool { return h.Name == host && slices.Contains(h.Stores, store) })
}

func (r *record) size(t TemplatePlan) machine.Size {
	if r.Kind == machine.Linked {
		return linkedCloneSize
	}
	if r.DiskKind == machine.FullDisk {
		return max(t.Used, r.Shape.Disk)
	}
	return t.Used
}

func (s *Sandbox) cloneTime(c *call, r *record, t TemplatePlan) time.Duration {
	if r.Kind == machine.Linked {
		return linkedCloneTime
	}
	for _, store := range c.plan.Stores {
		if store.Name == r.Store && store.Speed > 0 {
			return time.Duration(float64(t.Used) / float64(store.Speed) * float64(time.Second))
		}
	}
	return linkedCloneTime
}

func (p SitePlan) template(name string) (TemplatePlan, bool) {
	for _, t := range p.Templates {
		if t.Name == name {
			return t, true
		}
	}
	return TemplatePlan{}, false
}

// files names the disks of a machine.
func (r *record) files() []string {
	var all []string
	if !r.OnlyData {
		all = append(all, fmt.Sprintf("%s/%s.%s.disk", r.Store, r.Name, r.ID))
	}
	for i, d := range r.Shape.Disks {
		all = append(all, fmt.Sprintf("%s/%s.%s.disk-%d", cmp.Or(d.Store, r.Store), r.Name, r.dataFrom(i), i+2))
	}
	return all
}

// there reports whether it is a machine, and not just disks that were kept.
func (r *record) there() bool { return !r.Kept && !r.OnlyData }

// dataFrom is the identity that a data disk was made for.
func (r *record) dataFrom(i int) uuid.UUID {
	if r.Mark.IsHandedOn(i) {
		return r.Mark.Data[i]
	}
	return r.ID
}

// hasData names the machine that has data disks which were made for another one that is gone.
func (s *Sandbox) hasData(of *record) string {
	if !of.OnlyData {
		return ""
	}
	for _, r := range s.machines {
		if r.there() && r.ID != of.ID && slices.Contains(r.Mark.Data[:min(len(r.Mark.Data), len(r.Shape.Disks))], of.ID) {
			return r.Name
		}
	}
	return ""
}

// keepData keeps also the data disks that a machine had from others.
func (s *Sandbox) keepData(of *record) (err error) {
	for _, id := range of.Mark.Data {
		if from := s.machines[id]; of.Kept && from != nil && from.OnlyData {
			from.Kept = true
			err = errors.Join(err, s.disk.keep(from))
		}
	}
	return err
}

func (s *Sandbox) remove(c *call) (any, error) {
	id, err := c.id()
	if err != nil {
		return nil, err
	}
	disks := contract.Disks(c.URL.Query().Get("disks"))
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.machines[id]
	_, coming := s.coming[id]
	switch {
	case r == nil || r.Site != c.site:
		return nil, refuse(http.StatusNotFound, "no machine %s", id)
	case coming:
		return nil, refuse(http.StatusConflict, "the machine is still being cloned")
	case disks == contract.KeepData && r.OnlyData, disks == contract.KeepDisks && r.Kept:
		return done, nil
	case disks == contract.KeepData && r.Power == machine.On:
		return nil, refuse(http.StatusConflict, "it is running; shut it down first")
	case disks == contract.KeepData || disks == contract.KeepDisks:
		s.drop(r)
		r.Kept, r.OnlyData = disks == contract.KeepDisks, r.OnlyData || disks == contract.KeepData
		r.Adapters, r.Power, r.Report, r.States = nil, machine.Off, nil, nil
		s.add(r)
		return done, errors.Join(s.disk.dropSeed(id), s.disk.keep(r), s.keepData(r))
	case s.dependant(r, "") != "":
		return nil, refuse(http.StatusConflict, "%s is a linked clone of it", s.dependant(r, ""))
	case s.hasData(r) != "":
		return nil, refuse(http.StatusConflict, "machine %s has its data disks", s.hasData(r))
	case r.Kept:
		return nil, refuse(http.StatusConflict, "its disks were kept and are never deleted: %s", strings.Join(r.files(), ", "))
	}
	s.drop(r)
	return done, s.disk.forget(r)
}

func (s *Sandbox) shape(c *call, r *record, shape machine.Shape) (contract.Task, error) {
	next := r.Shape
	if shape.CPUs > 0 {
		next.CPUs = shape.CPUs
	}
	if shape.Memory > 0 {
		next.Memory = shape.Memory
	}
	if shape.Disk > 0 {
		next.Disk = shape.Disk
	}
	if shape.Disks != nil {
		next.Disks = shape.Disks
	}
	has := r.Shape.Disks
	for i := len(has); i < len(r.Mark.Data); i++ { // those that it is to have from others
		from := s.machines[r.dataFrom(i)]
		if from == nil || !from.OnlyData || i >= len(from.Shape.Disks) || s.hasData(from) != "" && s.hasData(from) != r.Name {
			return contract.Task{}, refuse(http.StatusConflict, "data disk %d, which was to be kept, is not there", i+1)
		}
		has = append(slices.Clone(has), from.Shape.Disks[i])
	}
	for i, d := range has {
		if i >= len(next.Disks) || next.Disks[i].Size < d.Size {
			return contract.Task{}, refuse(http.StatusConflict, "data disk %d cannot go or shrink", i+1)
		}
	}
	for _, d := range next.Disks {
		if d.Store != "" && !slices.ContainsFunc(c.plan.Stores, func(s StorePlan) bool { return s.Name == d.Store }) {
			return contract.Task{}, refuse(http.StatusConflict, "no store %q for a data disk", d.Store)
		}
	}
	if next.Disk < r.Shape.Disk {
		return contract.Task{}, refuse(http.StatusConflict, "the disk has %s and cannot shrink to %s", r.Shape.Disk, next.Disk)
	}
	if r.DiskKind == machine.FullDisk && next.Disk > r.Shape.Disk {
		for _, st := range s.capacity(c).Stores { // without the machine itself
			if t, _ := c.plan.template(r.Template); st.Name == r.Store && st.Free < max(t.Used, next.Disk) {
				return contract.Task{}, refuse(http.StatusInsufficientStorage, "store %q is full (needs %s, has %s)", st.Name, max(t.Used, next.Disk), st.Free)
			}
		}
	}
	if r.Power == machine.On && (next.CPUs != r.Shape.CPUs || next.Memory != r.Shape.Memory) {
		if c.URL.Query().Get("restart") == "no" {
			return contract.Task{}, refuse(http.StatusConflict, "it is running and must not be restarted to change CPUs or memory")
		}
		if err := s.ignoresShutdown(); err != nil {
			return contract.Task{}, err
		}
		r.Booted = time.Now().Add(s.stepTime(bootTime)) // it was started again
	}
	r.Shape = next
	return s.startTask(smallTaskTime, nil), nil
}

// detach makes a linked clone a full one: it takes as much time and room as a full clone.
func (s *Sandbox) detach(c *call, r *record, want struct{ Kind machine.CloneKind }) (contract.Task, error) {
	switch {
	case want.Kind != machine.Full:
		return contract.Task{}, refuse(http.StatusConflict, "a clone cannot become a %q one", want.Kind)
	case r.Kind == machine.Full:
		return done, nil
	case len(r.States) > 0:
		return contract.Task{}, refuse(http.StatusConflict, "its checkpoints need the template's disk: drop them first")
	}
	t, _ := c.plan.template(r.Template)
	for _, store := range s.capacity(c).Stores {
		if store.Name == r.Store && store.Free < t.Used {
			return contract.Task{}, refuse(http.StatusInsufficientStorage, "store %q is full (needs %s, has %s)", store.Name, t.Used, store.Free)
		}
	}
	full := *r
	full.Kind = machine.Full
	return s.startTask(s.cloneTime(c, &full, t), func(done bool) error {
		if !done {
			return nil
		}
		s.drop(r)
		r.Kind = machine.Full
		s.add(r)
		return s.disk.keep(r)
	}), nil
}

func (s *Sandbox) ignoresShutdown() error {
	if s.options.Faults.strike("no-shutdown") {
		return refuse(http.StatusLocked, "the guest did not shut down (simulated by --fault)")
	}
	return nil
}

func (s *Sandbox) wire(c *call, r *record, adapters []adapter) (contract.Task, error) {
	site := s.inventories[c.site] // without the machine itself
	for i, a := range adapters {
		network, ok := c.plan.network(a.Network)
		if !ok {
			return contract.Task{}, refuse(http.StatusConflict, "no network %q", a.Network)
		}
		if other := site.cards[a.MAC]; other != nil {
			return contract.Task{}, refuse(http.StatusConflict, "machine %s has the MAC address %s already", other.Name, a.MAC)
		}
		if asked := a.Lease; a.Unplugged && !asked.IsValid() {
			adapters[i].Lease = netip.Prefix{}
		} else if !asked.IsValid() {
			adapters[i].Lease = s.lease(c, r, network, adapters[:i])
		} else if !network.Leases.IsValid() {
			return contract.Task{}, refuse(http.StatusConflict, "network %q has no DHCP server", a.Network)
		} else if site.leases[lease{a.Network, asked.Addr()}] != nil {
			return contract.Task{}, refuse(http.StatusConflict, "network %q reserves %s for another machine", a.Network, asked.Addr())
		}
		if adapters[i].Advertised = network.Advertises; a.Unplugged {
			adapters[i].Advertised = netip.Prefix{}
		}
	}
	r.Adapters = adapters
	return done, nil
}

func (p SitePlan) network(name string) (NetworkPlan, bool) {
	for _, n := range p.Networks {
		if n.Name == name {
			return n, true
		}
	}
	return NetworkPlan{}, false
}

// lease is what the network's DHCP server would give an adapter: the one it
// has, else the first that is free.
func (s *Sandbox) lease(c *call, r *record, n NetworkPlan, before []adapter) netip.Prefix {
	if !n.Leases.IsValid() {
		return netip.Prefix{}
	}
	if i := len(before); i < len(r.Adapters) && r.Adapters[i].Network == n.Name {
		return r.Adapters[i].Lease
	}
	return s.inventories[c.site].lease(n, before)
}

func (s *Sandbox) record(_ *call, r *record, mark contract.Mark) (contract.Task, error) {
	r.Mark = mark
	return done, nil
}

func (s *Sandbox) power(c *call, r *record, want struct{ Power machine.Power }) (contract.Task, error) {
	if want.Power == machine.Cut {
		r.Power = machine.Off
		return done, nil
	}
	if want.Power == r.Power {
		return done, nil
	}
	if want.Power == machine.Off {
		if err := s.ignoresShutdown(); err != nil {
			return contract.Task{}, err
		}
	}
	if want.Power == machine.On {
		for _, h := range s.capacity(c).Hosts {
			if h.Name == r.Host && h.FreeMemory < r.Shape.Memory {
				return contract.Task{}, refuse(http.StatusConflict, "host %q has not enough memory (needs %s, has %s)", h.Name, r.Shape.Memory, h.FreeMemory)
			}
		}
		t, _ := c.plan.template(r.Template)
		seed := s.disk.readSeed(r.ID)
		report, instance, has, g := boot(t, r.Adapters, seed)
		if r.Report == nil || len(seed) > 0 && instance != r.Instance { // else it has done its first boot before
			r.Report, r.Instance, r.Has, r.Stages, r.FirstBoot = &report, instance, has, g.stages, time.Now().Add(s.stepTime(bootTime))
		} else {
			g.home = ""
		}
		r.Booted = time.Now().Add(s.stepTime(bootTime))
		if g.cleans {
			time.AfterFunc(s.stepTime(bootTime), func() { s.cleaned(r.ID) })
		}
		if g.home != "" {
			report.Instance, report.MachineID = instance, strings.ReplaceAll(r.ID.String(), "-", "")
			go s.callHome(g.home, report, r.Stages, r.Booted)
		}
	}
	r.Power = want.Power
	if want.Power == machine.Off {
		return s.startTask(smallTaskTime, nil), nil
	}
	return s.startTask(smallTaskTime, s.counted(nil, "starts", "starts on "+r.Host)), nil
}

// cleaned switches a machine off whose guest was cleaned.
func (s *Sandbox) cleaned(id uuid.UUID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.machines[id]; r != nil && r.Power == machine.On {
		s.drop(r)
		r.Power, r.Cleaned = machine.Off, true
		s.add(r)
		_ = s.disk.keep(r) // what cannot be written now is asked for again
	}
}

// capacity reports how full hosts and stores are.
func (s *Sandbox) capacity(c *call) contract.Survey {
	site := s.inventories[c.site]
	v := contract.Survey{Hosts: []contract.Host{}, Stores: []contract.Store{}}
	for _, h := range c.plan.Hosts {
		if h.Down != "" {
			v.Hosts = append(v.Hosts, contract.Host{Name: h.Name, Down: h.Down, Stores: []string{}})
			continue
		}
		v.Hosts = append(v.Hosts, contract.Host{Name: h.Name, CPUs: h.CPUs, Memory: h.Memory, FreeMemory: max(0, h.Memory-site.memory[h.Name]), Stores: h.Stores})
	}
	for _, st := range c.plan.Stores {
		v.Stores = append(v.Stores, contract.Store{Name: st.Name, Capacity: st.Capacity, Free: max(0, st.Capacity-site.used[st.Name])})
	}
	return v
}

func (s *Sandbox) survey(c *call) (any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	v := s.capacity(c)
	v.Machines, v.Places, v.SideBySide = []contract.Machine{}, c.plan.Places, true
	v.Networks, v.Folders, v.Templates = []string{}, append([]string{}, c.plan.Folders...), []contract.Template{}
	for _, n := range c.plan.Networks {
		v.Networks = append(v.Networks, n.Name)
	}
	linked, brief := map[string]*int{}, c.URL.Query().Get("specs") == "no"
	for _, t := range c.plan.Templates {
		linked[t.Name] = new(int)
		changed := diskChanged
		if t.Version != nil {
			changed = t.Changed
		}
		v.Templates = append(v.Templates, contract.Template{Name: t.Name, Linked: linked[t.Name], CPUs: t.CPUs, Memory: t.Memory, Disk: t.Disk, Used: t.Used, Problem: t.Problem, Remark: t.Remark,
			Store: t.Store, Version: t.Version, Changed: changed.Format(http.TimeFormat)})
	}
	for _, r := range s.machines {
		if _, coming := s.coming[r.ID]; r.Site == c.site && !coming && r.there() && !c.plan.down(r.Host) {
			m := r.machine()
			if m.Mark != nil && brief {
				mark := *m.Mark
				mark.Spec, m.Mark = nil, &mark
			}
			v.Machines = append(v.Machines, m)
		}
		if n := linked[r.Template]; n != nil && r.Site == c.site && r.Kind == machine.Linked && !r.OnlyData {
			*n++
		}
		if r.Kept && r.Site == c.site {
			v.Kept = append(v.Kept, contract.Kept{ID: r.ID, Name: r.Name, Files: r.files()})
		}
	}
	slices.SortFunc(v.Machines, func(a, b contract.Machine) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(v.Kept, func(a, b contract.Kept) int { return strings.Compare(a.ID.String(), b.ID.String()) })
	return v, nil
}

// specs answers with what a brief survey has left out.
func (s *Sandbox) specs(c *call) (any, error) {
	var ids []uuid.UUID
	if err := c.read(&ids); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	all := map[uuid.UUID]*machine.Spec{}
	for _, id := range ids {
		if r := s.machines[id]; r != nil && r.Site == c.site && r.Mark.Spec != nil {
			all[id] = r.Mark.Spec
		}
	}
	return all, nil
}

func (p SitePlan) down(host string) bool {
	return slices.ContainsFunc(p.Hosts, func(h HostPlan) bool { return h.Name == host && h.Down != "" })
}

// task is a task with the times between which it runs.
type task struct {
	contract.Task
	from, to time.Time
	settled  chan struct{} // closed once it is
}

func (s *Sandbox) stepTime(d time.Duration) time.Duration {
	return time.Duration(float64(d) / s.options.Speed)
}

// noTime is so little that a task is settled by the time that it is answered for.
const noTime = 100 * time.Microsecond

// startTask makes a task that takes a while; end is called with the lock held and
// told whether the task was done or failed.
func (s *Sandbox) startTask(d time.Duration, end func(done bool) error) contract.Task {
	if end == nil {
		end = func(bool) error { return nil }
	}
	if s.options.Faults.strike("slow") {
		d *= 10
	}
	d = s.stepTime(d)
	fails := s.options.Faults.strike("fail")
	if fails {
		d /= 2
	}
	t := &task{Task: contract.Task{ID: uuid.NewString(), State: contract.Running}, from: time.Now(), to: time.Now().Add(d), settled: make(chan struct{})}
	s.tasks[t.ID] = t
	settle := func() {
		err := end(!fails)
		switch t.State = contract.Done; {
		case fails:
			t.State, t.Error = contract.Failed, "failed half-way (simulated by --fault)"
		case err != nil:
			fail(&t.Task, err)
		}
		close(t.settled)
	}
	if d < noTime {
		settle()
		return t.Task
	}
	time.AfterFunc(d, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		settle()
	})
	return t.Task
}

func (s *Sandbox) task(c *call) (any, error) { return s.stateOf(c.PathValue("task")) }

// stateOf is how far a task is.
func (s *Sandbox) stateOf(id string) (any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := s.tasks[id]
	if t == nil {
		return nil, refuse(http.StatusNotFound, "no task %q", id)
	}
	now := t.Task
	if !now.Settled() {
		now.Share = math.Min(1, time.Since(t.from).Seconds()/max(t.to.Sub(t.from).Seconds(), 0.001))
	}
	return now, nil
}
