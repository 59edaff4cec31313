package libvirt

import (
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
)

// fake is a daemon in memory: machines, stores of volumes, and networks. What it is
// not asked for panics, since it has no daemon behind it.
type fake struct {
	daemon

	mu       sync.Mutex
	domains  map[rpc.UUID]*fakeDomain
	volumes  map[string]*fakeVolume // by path
	networks map[string]*fakeNetwork
	free     int64 // of every store
	// fail makes a call fail, by its name.
	fail map[string]error
	// said lists the calls.
	said []string
}

type fakeDomain struct {
	dom rpc.Domain
	xml string
	on  bool
}

type fakeVolume struct{ pool, name, xml string }

type fakeNetwork struct {
	active, persistent bool
	hosts              map[rpc.NetworkUpdateFlags]map[string]bool // by half
}

// german is an error in the words of a daemon that speaks another language.
func german(code rpc.ErrorNumber, words string) error {
	return rpc.Error{Code: uint32(code), Message: words}
}

func newFake() *fake {
	return &fake{domains: map[rpc.UUID]*fakeDomain{}, volumes: map[string]*fakeVolume{}, networks: map[string]*fakeNetwork{}, free: 1 << 40, fail: map[string]error{}}
}

// called notes a call and says whether it is to fail.
func (f *fake) called(name string, about ...any) error {
	f.said = append(f.said, strings.TrimSpace(name+" "+strings.TrimSuffix(fmt.Sprintln(about...), "\n")))
	return f.fail[name]
}

func (f *fake) IsConnected() bool { return true }
func (f *fake) Disconnect() error { return nil }

func (f *fake) define(xml string, on bool) rpc.Domain {
	d, err := parseDefinition(xml)
	if err != nil {
		panic(err)
	}
	dom := rpc.Domain{Name: textAt(d.root, "./name"), UUID: rpc.UUID(uuid.MustParse(textAt(d.root, "./uuid")))}
	if was := f.domains[dom.UUID]; was != nil {
		on = was.on
	}
	f.domains[dom.UUID] = &fakeDomain{dom, xml, on}
	return dom
}

func (f *fake) DomainDefineXMLFlags(xml string, _ rpc.DomainDefineFlags) (rpc.Domain, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := f.called("define"); err != nil {
		return rpc.Domain{}, err
	}
	return f.define(xml, false), nil
}

func (f *fake) find(is func(*fakeDomain) bool) (rpc.Domain, error) {
	for _, d := range f.domains {
		if is(d) {
			return d.dom, nil
		}
	}
	return rpc.Domain{}, german(rpc.ErrNoDomain, "Domain nicht gefunden")
}

func (f *fake) DomainLookupByName(name string) (rpc.Domain, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.find(func(d *fakeDomain) bool { return d.dom.Name == name })
}

func (f *fake) DomainLookupByUUID(id rpc.UUID) (rpc.Domain, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.find(func(d *fakeDomain) bool { return d.dom.UUID == id })
}

func (f *fake) DomainGetXMLDesc(dom rpc.Domain, _ rpc.DomainXMLFlags) (string, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.domains[dom.UUID].xml, nil
}

func (f *fake) DomainGetState(dom rpc.Domain, _ uint32) (int32, int32, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.domains[dom.UUID].on {
		return int32(rpc.DomainRunning), 0, nil
	}
	return int32(rpc.DomainShutoff), 0, nil
}

func (f *fake) DomainSnapshotNum(rpc.Domain, uint32) (int32, error) { return 0, nil }
func (f *fake) DomainListAllSnapshots(rpc.Domain, int32, uint32) ([]rpc.DomainSnapshot, int32, error) {
	return nil, 0, nil
}

func (f *fake) power(name string, dom rpc.Domain, on bool) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := f.called(name, dom.Name); err != nil {
		return err
	}
	f.domains[dom.UUID].on = on
	return nil
}

func (f *fake) DomainCreateWithFlags(dom rpc.Domain, _ uint32) (rpc.Domain, error) {
	return dom, f.power("start", dom, true)
}

func (f *fake) DomainShutdownFlags(dom rpc.Domain, _ rpc.DomainShutdownFlagValues) error {
	return f.power("shut down", dom, false)
}

func (f *fake) DomainDestroyFlags(dom rpc.Domain, _ rpc.DomainDestroyFlagsValues) error {
	return f.power("cut", dom, false)
}

func (f *fake) DomainUndefineFlags(dom rpc.Domain, _ rpc.DomainUndefineFlagsValues) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := f.called("undefine", dom.Name); err != nil {
		return err
	}
	delete(f.domains, dom.UUID)
	return nil
}

func (f *fake) ConnectGetAllDomainStats([]rpc.Domain, uint32, uint32) ([]rpc.DomainStatsRecord, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all []rpc.DomainStatsRecord
	for _, d := range f.domains {
		state := int32(rpc.DomainShutoff)
		if d.on {
			state = int32(rpc.DomainRunning)
		}
		all = append(all, rpc.DomainStatsRecord{Dom: d.dom, Params: []rpc.TypedParam{{Field: "state.state", Value: *rpc.NewTypedParamValueInt(state)}}})
	}
	return all, nil
}

// pools are two stores, each a folder.
var pools = []string{"fast", "templates"}

func (f *fake) StoragePoolLookupByName(name string) (rpc.StoragePool, error) {
	if !slices.Contains(pools, name) {
		return rpc.StoragePool{}, german(rpc.ErrNoStoragePool, "Pool nicht gefunden")
	}
	return rpc.StoragePool{Name: name}, nil
}

func (f *fake) StoragePoolIsActive(rpc.StoragePool) (int32, error) {
	if f.called("is the store active") != nil {
		return 0, nil
	}
	return 1, nil
}

func (f *fake) StoragePoolRefresh(rpc.StoragePool, uint32) error { return nil }

func (f *fake) StoragePoolGetXMLDesc(p rpc.StoragePool, _ rpc.StorageXMLFlags) (string, error) {
	return fmt.Sprintf("<pool type='dir'><available unit='bytes'>%d</available><target><path>/%s</path></target></pool>", f.free, p.Name), nil
}

func (f *fake) ConnectListAllStoragePools(int32, rpc.ConnectListAllStoragePoolsFlags) ([]rpc.StoragePool, uint32, error) {
	var all []rpc.StoragePool
	for _, name := range pools {
		all = append(all, rpc.StoragePool{Name: name})
	}
	return all, 0, nil
}

func (f *fake) vol(v *fakeVolume) rpc.StorageVol {
	return rpc.StorageVol{Pool: v.pool, Name: v.name, Key: path.Join("/", v.pool, v.name)}
}

func (f *fake) StoragePoolListAllVolumes(p rpc.StoragePool, _ int32, _ uint32) ([]rpc.StorageVol, uint32, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all []rpc.StorageVol
	for _, key := range slices.Sorted(maps.Keys(f.volumes)) {
		if f.volumes[key].pool == p.Name {
			all = append(all, f.vol(f.volumes[key]))
		}
	}
	return all, 0, nil
}

func (f *fake) StorageVolLookupByPath(file string) (rpc.StorageVol, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if v := f.volumes[file]; v != nil {
		return f.vol(v), nil
	}
	return rpc.StorageVol{}, german(rpc.ErrNoStorageVol, "Datenträger nicht gefunden")
}

func (f *fake) StorageVolLookupByName(p rpc.StoragePool, name string) (rpc.StorageVol, error) {
	return f.StorageVolLookupByPath(path.Join("/", p.Name, name))
}

func (f *fake) StoragePoolLookupByVolume(v rpc.StorageVol) (rpc.StoragePool, error) {
	return rpc.StoragePool{Name: v.Pool}, nil
}

func (f *fake) StorageVolGetInfo(rpc.StorageVol) (int8, uint64, uint64, error) { return 0, 0, 0, nil }

func (f *fake) StorageVolGetXMLDesc(v rpc.StorageVol, _ uint32) (string, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.volumes[v.Key].xml, nil
}

func (f *fake) add(pool, name string, capacity int, more string) {
	f.volumes[path.Join("/", pool, name)] = &fakeVolume{pool, name, fmt.Sprintf("<volume><name>%s</name><capacity unit='bytes'>%d</capacity><target><path>/%s/%s</path><format type='qcow2'/></target>%s</volume>",
		name, capacity, pool, name, more)}
}

func (f *fake) StorageVolCreateXML(p rpc.StoragePool, xml string, _ rpc.StorageVolCreateFlags) (rpc.StorageVol, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	doc, err := parse(xml, "volume", "it")
	if err != nil {
		panic(err)
	}
	name := textAt(doc.Root(), "./name")
	if err := f.called("create", p.Name+"/"+name); err != nil {
		return rpc.StorageVol{}, err
	}
	capacity, _ := strconv.Atoi(textAt(doc.Root(), "./capacity"))
	more := ""
	if backing := textAt(doc.Root(), "./backingStore/path"); backing != "" {
		more = "<backingStore><path>" + backing + "</path></backingStore>"
	}
	f.add(p.Name, name, capacity, more)
	return f.vol(f.volumes[path.Join("/", p.Name, name)]), nil
}

func (f *fake) StorageVolCreateXMLFrom(p rpc.StoragePool, xml string, _ rpc.StorageVol, flags rpc.StorageVolCreateFlags) (rpc.StorageVol, error) {
	f.mu.Lock()
	err := f.called("copy", strconv.Itoa(int(flags)))
	if err == nil && flags&rpc.StorageVolCreateReflink != 0 {
		err = f.fail["share extents"]
	}
	f.mu.Unlock()
	if err != nil {
		return rpc.StorageVol{}, err
	}
	return f.StorageVolCreateXML(p, xml, 0)
}

func (f *fake) StorageVolUpload(_ rpc.StorageVol, from io.Reader, _, _ uint64, _ rpc.StorageVolUploadFlags) error {
	if _, err := io.Copy(io.Discard, from); err != nil {
		return err
	}
	return f.called("upload")
}

func (f *fake) StorageVolDelete(v rpc.StorageVol, _ rpc.StorageVolDeleteFlags) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := f.called("delete", v.Pool+"/"+v.Name); err != nil {
		return err
	}
	delete(f.volumes, v.Key)
	return nil
}

func (f *fake) StorageVolResize(v rpc.StorageVol, capacity uint64, _ rpc.StorageVolResizeFlags) error {
	return f.called("resize", v.Name, capacity)
}

func (f *fake) NetworkLookupByName(name string) (rpc.Network, error) {
	if f.networks[name] == nil {
		return rpc.Network{}, german(rpc.ErrNoNetwork, "Netzwerk nicht gefunden")
	}
	return rpc.Network{Name: name}, nil
}

func bit(is bool) int32 {
	if is {
		return 1
	}
	return 0
}

func (f *fake) NetworkIsActive(n rpc.Network) (int32, error) {
	return bit(f.networks[n.Name].active), nil
}

func (f *fake) NetworkIsPersistent(n rpc.Network) (int32, error) {
	return bit(f.networks[n.Name].persistent), nil
}

func (f *fake) NetworkGetXMLDesc(n rpc.Network, flags uint32) (string, error) {
	half := rpc.NetworkUpdateAffectLive
	if flags == uint32(rpc.NetworkXMLInactive) {
		half = rpc.NetworkUpdateAffectConfig
	}
	return "<network><ip><dhcp>" + strings.Join(slices.Sorted(maps.Keys(f.networks[n.Name].hosts[half])), "") + "</dhcp></ip></network>", nil
}

func (f *fake) NetworkUpdateCompat(n rpc.Network, command rpc.NetworkUpdateCommand, _ rpc.NetworkUpdateSection, _ int32, xml string, half rpc.NetworkUpdateFlags) error {
	hosts := f.networks[n.Name].hosts[half]
	if command == rpc.NetworkUpdateCommandDelete {
		delete(hosts, xml)
		return nil
	}
	for other := range hosts {
		for _, name := range []string{"ip", "mac"} {
			if value := between(xml, name); value != "" && value == between(other, name) {
				return german(rpc.ErrOperationInvalid, "es gibt schon einen Eintrag")
			}
		}
	}
	hosts[xml] = true
	return nil
}

func between(xml, name string) string {
	_, rest, _ := strings.Cut(xml, " "+name+`="`)
	value, _, _ := strings.Cut(rest, `"`)
	return value
}
