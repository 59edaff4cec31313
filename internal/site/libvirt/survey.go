package libvirt

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// Survey implements site.Site. A host that cannot be asked is reported as down;
// only when all are is that an error.
func (s *Site) Survey(ctx context.Context) (*contract.Survey, error) {
	views, failures := make([]*view, len(s.hosts)), make([]error, len(s.hosts))
	var all sync.WaitGroup
	for i, h := range s.hosts {
		all.Go(func() { views[i], failures[i] = h.view(ctx, s.templates) })
	}
	all.Wait()
	answer := &contract.Survey{Places: true}
	stores := map[string]int{} // places in the answer, by what tells stores apart
	down := 0
	for i, h := range s.hosts {
		if failures[i] != nil {
			down++
			answer.Hosts = append(answer.Hosts, contract.Host{Name: h.name, Down: failures[i].Error()})
			continue
		}
		v := views[i]
		answer.Hosts = append(answer.Hosts, v.host)
		for _, n := range v.host.Networks {
			if !slices.Contains(answer.Networks, n) {
				answer.Networks = append(answer.Networks, n)
			}
		}
		for _, st := range v.stores {
			if i, ok := stores[st.id]; ok {
				answer.Stores[i].Hosts = append(answer.Stores[i].Hosts, h.name)
				continue
			}
			stores[st.id] = len(answer.Stores)
			answer.Stores = append(answer.Stores, st.Store)
		}
		answer.Machines = append(answer.Machines, v.machines...)
		answer.Kept = append(answer.Kept, v.kept...)
		answer.Inactive = append(answer.Inactive, v.inactive...)
		for _, m := range v.machines {
			if m.Mark != nil && m.Mark.Folder != "" && !slices.Contains(answer.Folders, m.Mark.Folder) {
				answer.Folders = append(answer.Folders, m.Mark.Folder)
			}
		}
	}
	if down == len(s.hosts) {
		return nil, errors.Join(failures...)
	}
	for _, v := range views {
		if v != nil {
			answer.Templates = v.addTemplates(answer.Templates, func(id string) []string { return answer.Stores[stores[id]].Hosts })
		}
	}
	slices.Sort(answer.Networks)
	slices.Sort(answer.Folders)
	answer.Machines = once(answer.Machines)
	return answer, nil
}

// once has each machine of ours once that several hosts define: as it is where it runs.
func once(all []contract.Machine) []contract.Machine {
	first := map[uuid.UUID]int{}
	some := all[:0]
	for _, m := range all {
		i, twice := first[m.ID]
		if !twice || m.Mark == nil {
			first[m.ID] = len(some)
			some = append(some, m)
			continue
		}
		why := definedOn(m.Name, some[i].Host, m.Host)
		if m.Power == machine.On {
			some[i] = m
		}
		some[i].Unclear = why
	}
	return some
}

// view is what one host has.
type view struct {
	host      contract.Host
	stores    []store
	templates []contract.Template
	machines  []contract.Machine
	kept      []contract.Kept
	inactive  []string
}

// store is a store with what tells it from others of its name.
type store struct {
	contract.Store
	id     string
	folder string // where its files are
}

// addTemplates adds a host's templates to those of the others. One that several
// hosts have is told once, with all of them; one whose store several hosts
// reach can have its linked clones at each.
func (v *view) addTemplates(all []contract.Template, reach func(id string) []string) []contract.Template {
	for _, t := range v.templates {
		i := slices.IndexFunc(all, func(known contract.Template) bool { return known.Name == t.Name })
		if i >= 0 {
			*all[i].Linked += *t.Linked
		} else {
			i, all = len(all), append(all, t)
		}
		for _, st := range v.stores {
			if st.Name == t.Store {
				all[i].Hosts = append(all[i].Hosts, reach(st.id)...)
			}
		}
		all[i].Hosts = append(all[i].Hosts, v.host.Name)
		slices.Sort(all[i].Hosts)
		all[i].Hosts = slices.Compact(all[i].Hosts)
	}
	return all
}

func (h *host) view(ctx context.Context, templates []string) (*view, error) {
	v := &view{host: contract.Host{Name: h.name}}
	caps, err := h.readCapabilities(ctx)
	if err != nil {
		return nil, err
	}
	v.host.Emulators, v.host.Firmware, v.host.Features = caps.emulators[caps.arch], caps.firmware, caps.features
	if err := h.measure(ctx, &v.host); err != nil {
		return nil, err
	}
	if v.host.Networks, err = h.networks(ctx); err != nil {
		return nil, err
	}
	if v.stores, err = h.stores(ctx); err != nil {
		return nil, err
	}
	if v.inactive, err = h.inactive(ctx); err != nil {
		return nil, err
	}
	for _, st := range v.stores {
		v.host.Stores = append(v.host.Stores, st.Name)
	}
	domains, err := h.domains(ctx)
	if err != nil {
		return nil, err
	}
	given, err := h.reservations(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range domains {
		m := d.machine(h.name, v.stores)
		m.Report, m.Leases = d.definition.reportOf(given), given.kept
		v.machines = append(v.machines, m)
		if m.Power == machine.On {
			v.host.Promised += m.Memory
		}
	}
	children := dependants(domains)
	if v.kept, err = h.kept(ctx, children); err != nil {
		return nil, err
	}
	names := slices.Concat(templates, versions(domains))
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		t, problem, err := h.templateAt(ctx, name)
		if errors.Is(err, site.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("template %s: %w", name, err)
		}
		v.templates = append(v.templates, t.describe(problem, children, v.stores))
	}
	return v, nil
}

// measure asks for the host's own size.
func (h *host) measure(ctx context.Context, into *contract.Host) error {
	return h.call(ctx, func(l daemon) error {
		_, _, cpus, _, _, _, _, _, err := l.NodeGetInfo()
		if err != nil {
			return err
		}
		into.CPUs = int(cpus)
		// What the host would give back counts as free. -1 asks for all of its cells.
		_, n, err := l.NodeGetMemoryStats(0, -1, 0)
		if err != nil {
			return err
		}
		stats, _, err := l.NodeGetMemoryStats(n, -1, 0)
		for _, s := range stats {
			switch s.Field {
			case "total":
				into.Memory = machine.Size(s.Value) * machine.KiB
			case "free", "cached", "buffers":
				into.FreeMemory += machine.Size(s.Value) * machine.KiB
			}
		}
		return err
	})
}

// networks lists what adapters can be connected to: libvirt's networks that are
// active, and the host's bridges.
func (h *host) networks(ctx context.Context) ([]string, error) {
	var all []string
	err := h.call(ctx, func(l daemon) error {
		nets, _, err := l.ConnectListAllNetworks(1, rpc.ConnectListNetworksActive)
		if err != nil {
			return err
		}
		for _, n := range nets {
			all = append(all, n.Name)
		}
		interfaces, _, err := l.ConnectListAllInterfaces(1, rpc.ConnectListInterfacesActive)
		if err != nil {
			return nil // a daemon that knows no interfaces has its networks all the same
		}
		for _, i := range interfaces {
			xml, err := l.InterfaceGetXMLDesc(i, 0)
			if err == nil && strings.HasPrefix(xml, "<interface type='bridge'") {
				all = append(all, contract.BridgePrefix+i.Name)
			}
		}
		return nil
	})
	return all, err
}

// inactive names the networks and stores that are defined and not started.
func (h *host) inactive(ctx context.Context) ([]string, error) {
	var all []string
	err := h.call(ctx, func(l daemon) error {
		nets, _, err := l.ConnectListAllNetworks(1, rpc.ConnectListNetworksInactive)
		if err != nil {
			return err
		}
		for _, n := range nets {
			all = append(all, "network "+n.Name)
		}
		pools, _, err := l.ConnectListAllStoragePools(1, rpc.ConnectListStoragePoolsInactive)
		for _, p := range pools {
			all = append(all, "store "+p.Name)
		}
		return err
	})
	return all, err
}

// stores lists the pools whose volumes are files.
func (h *host) stores(ctx context.Context) ([]store, error) {
	var all []store
	err := h.call(ctx, func(l daemon) error {
		pools, err := activeStores(l)
		if err != nil {
			return err
		}
		for _, p := range pools {
			root, err := describeStore(l, p)
			if err != nil {
				return err
			}
			st := store{folder: storeFolder(root)}
			st.Name, st.Kind, st.Hosts = p.Name, root.SelectAttrValue("type", ""), []string{h.name}
			if !slices.Contains(fileStores, st.Kind) {
				continue
			}
			st.Capacity, st.Free = sizeOf(root.FindElement("./capacity")), sizeOf(root.FindElement("./available"))
			// What comes from another place over a network is one store to all
			// hosts; a folder of a host is its own.
			st.id = h.name + "\x00" + p.Name
			if server := attr(root, "./source/host", "name"); server != "" {
				st.id = st.Kind + "\x00" + server + "\x00" + attr(root, "./source/dir", "path")
			}
			all = append(all, st)
		}
		return nil
	})
	return all, err
}

// seenDomain is a machine of a host as one look shows it.
type seenDomain struct {
	dom        rpc.Domain
	definition *definition
	mark       *contract.Mark
	parent     parent
	on         bool
	used       machine.Size
	disk       machine.Size // the first one, as the guest sees it
	promised   map[string]machine.Size
}

// domains looks at all machines of a host: one call for their states, and one
// for each that is read side by side with others.
func (h *host) domains(ctx context.Context) ([]seenDomain, error) {
	var stats []rpc.DomainStatsRecord
	err := h.call(ctx, func(l daemon) (err error) {
		stats, err = l.ConnectGetAllDomainStats(nil, uint32(rpc.DomainStatsState|rpc.DomainStatsBlock), uint32(rpc.ConnectGetAllDomainsStatsNowait))
		return err
	})
	if err != nil {
		return nil, err
	}
	all := make([]seenDomain, len(stats))
	failures := make([]error, len(stats))
	next := make(chan int)
	var workers sync.WaitGroup
	for range min(4, len(stats)) { // a daemon works on five calls of a connection at a time
		workers.Go(func() {
			for i := range next {
				all[i], failures[i] = h.readDomain(ctx, stats[i])
			}
		})
	}
	for i := range stats {
		next <- i
	}
	close(next)
	workers.Wait()
	for i := len(all) - 1; i >= 0; i-- {
		if errors.Is(failures[i], site.ErrNotFound) { // it has gone in the meantime
			all, failures = slices.Delete(all, i, i+1), slices.Delete(failures, i, i+1)
		}
	}
	return all, errors.Join(failures...)
}

func (h *host) readDomain(ctx context.Context, stats rpc.DomainStatsRecord) (seenDomain, error) {
	d := seenDomain{dom: stats.Dom, promised: map[string]machine.Size{}}
	var text string
	err := h.call(ctx, func(l daemon) (err error) {
		text, err = l.DomainGetXMLDesc(stats.Dom, rpc.DomainXMLInactive)
		return err
	})
	if err != nil {
		return d, err
	}
	if d.definition, err = parseDefinition(text); err != nil {
		return d, err
	}
	d.mark, d.parent = d.definition.mark()
	blocks := map[string]map[string]any{}
	for _, p := range stats.Params {
		if p.Field == "state.state" {
			state, _ := p.Value.I.(int32)
			d.on = runs(state)
		}
		block, isBlock := strings.CutPrefix(p.Field, "block.")
		if n, field, ok := strings.Cut(block, "."); isBlock && ok {
			if blocks[n] == nil {
				blocks[n] = map[string]any{}
			}
			blocks[n][field] = p.Value.I
		}
	}
	own := ""
	if disks := d.definition.disks(); len(disks) > 0 {
		own, _ = diskFile(disks[0])
	}
	for _, b := range blocks {
		file, _ := b["path"].(string)
		capacity, _ := b["capacity"].(uint64)
		// What a file takes; `allocation` is how far it was written to.
		used, _ := b["physical"].(uint64)
		if file != "" && file == own {
			d.disk = machine.Size(capacity)
		}
		if file == "" || strings.HasSuffix(file, ".iso") {
			continue
		}
		d.used += machine.Size(used)
		if capacity > used {
			d.promised[path.Dir(file)] += machine.Size(capacity - used)
		}
	}
	return d, nil
}

// machine reports it in the site's words, and adds to the stores what its
// disks may still grow by.
func (d seenDomain) machine(host string, stores []store) contract.Machine {
	m := contract.Machine{ID: uuid.UUID(d.dom.UUID), Name: d.dom.Name, Mark: d.mark, Host: host, Power: machine.Off, Used: d.used, Saved: d.parent.size}
	m.Firmware = d.definition.firmware()
	m.Shape = machine.Shape{CPUs: d.definition.cpus(), Memory: d.definition.memory(), Disk: d.disk}
	for _, e := range d.definition.adapters() {
		m.Adapters = append(m.Adapters, machine.Card{Network: networkOf(e), MAC: strings.ToLower(attr(e, "./mac", "address")), Unplugged: attr(e, "./link", "state") == "down"})
	}
	if d.on {
		m.Power = machine.On
	}
	if disks := d.definition.disks(); len(disks) > 0 {
		file, _ := diskFile(disks[0])
		m.Store = storeOf(stores, file)
	}
	for i := range stores {
		stores[i].Promised += d.promised[stores[i].folder]
	}
	return m
}

// storeOf names the store that has a file; empty if none has.
func storeOf(stores []store, file string) string {
	name := ""
	for _, st := range stores {
		if path.Dir(file) == st.folder {
			name = st.Name
		}
	}
	return name
}

// describe reports a template in the site's words.
func (t *template) describe(problem error, children map[string][]dependant, stores []store) contract.Template {
	told := contract.Template{Name: t.name, Host: t.host.name, Linked: new(int)}
	if t.definition != nil {
		told.CPUs, told.Memory, told.Firmware = t.definition.cpus(), t.definition.memory(), t.definition.firmware()
		told.Notes = textAt(t.definition.root, "./description")
		told.Version = t.definition.version()
		told.Remarks = t.definition.remarks()
	}
	for i, v := range t.disks {
		told.Used += (v.used + machine.MiB - 1) / machine.MiB * machine.MiB
		*told.Linked += len(children[v.path])
		if i == 0 {
			told.Disk, told.Format, told.Store, told.Changed = v.capacity, v.format, storeOf(stores, v.path), v.changed
		}
		if v.writable {
			told.Remark = "its disk is writable, and a change would damage its linked clones; run chmod a-w " + v.path
		}
	}
	if problem == nil {
		problem = t.changedSince(children)
	}
	if problem != nil {
		told.Problem = problem.Error()
	}
	return told
}
