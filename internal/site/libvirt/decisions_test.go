package libvirt

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// siteOf is a site of hosts that are fakes: quay-1, quay-2 and so on.
func siteOf(fakes ...*fake) *Site {
	s := &Site{where: map[uuid.UUID]whereabouts{}, away: map[*host]time.Time{}}
	for i, f := range fakes {
		h := &host{name: fmt.Sprint("quay-", i+1), slots: make(chan struct{}, maxCopies)}
		h.calls.dial = func() (daemon, error) { return f, nil }
		h.calls.url = &url.URL{Scheme: "qemu+ssh"}
		h.copies.dial = h.calls.dial
		h.reads.dial = h.calls.dial
		s.hosts = append(s.hosts, h)
	}
	return s
}

// templated has a template whose second disk is the one that it boots from.
func templated() *fake {
	f := newFake()
	f.define(strings.NewReplacer("/t/", "/templates/").Replace(base), false)
	f.add("templates", "data.qcow2", 1<<30, "")
	f.add("templates", "system.qcow2", 3<<30, "")
	f.networks["survey"] = &fakeNetwork{active: true, persistent: true, hosts: map[rpc.NetworkUpdateFlags]map[string]bool{rpc.NetworkUpdateAffectLive: {}, rpc.NetworkUpdateAffectConfig: {}}}
	return f
}

func order() contract.CloneOrder {
	return contract.CloneOrder{Identity: id, Name: "bms-1", Clone: machine.Clone{Template: "deb12-base", Kind: machine.Linked, Host: "quay-1", Store: "fast"},
		Mark: contract.Mark{Ledger: id, Key: "quay/bms-1", Generation: 1, Stage: contract.StageMaking}, Adapters: []machine.Card{{Network: "survey", MAC: "02:00:00:00:00:01"}}}
}

func TestACloneIsMadeOnceAndFromTheDiskThatIsBooted(t *testing.T) {
	f := templated()
	s := siteOf(f)
	for range 2 {
		task, err := s.Clone(t.Context(), order())
		require.NoError(t, err)
		assert.Equal(t, contract.Done, task.State)
	}
	assert.Equal(t, 2, count(f.said, "create"), "%v", f.said)
	d, err := s.find(t.Context(), id)
	require.NoError(t, err)
	def, err := d.definition(t.Context())
	require.NoError(t, err)
	file, _ := diskFile(def.disks()[0])
	assert.Equal(t, "/fast/bms-1."+id.String()+".disk.qcow2", file)
	v, err := d.volumeAt(t.Context(), file)
	require.NoError(t, err)
	assert.Equal(t, "/templates/system.qcow2", v.backing)
	mark, of := def.mark()
	assert.Equal(t, contract.StageMaking, mark.Stage)
	assert.Equal(t, "/templates/system.qcow2", of.path)
}

func count(said []string, word string) int {
	n := 0
	for _, s := range said {
		if strings.HasPrefix(s, word) {
			n++
		}
	}
	return n
}

// What is wrong is told by the code of the daemon's error, in whatever language it
// speaks, and nothing is left behind that would be in the way.
func TestFailuresByTheirCode(t *testing.T) {
	for name, c := range map[string]struct {
		prepare func(*fake, *contract.CloneOrder)
		kind    error
		says    string
	}{
		"a full store": {func(f *fake, _ *contract.CloneOrder) {
			f.free = 5
			f.fail["create"] = german(rpc.ErrSystemError, "Auf dem Gerät ist kein Speicherplatz mehr verfügbar")
		}, site.ErrRefused, `store "fast" is full (1MiB needed, 5B free)`},
		"another failure": {func(f *fake, _ *contract.CloneOrder) {
			f.fail["create"] = german(rpc.ErrSystemError, "Keine Berechtigung")
		}, nil, "Keine Berechtigung"},
		"no template":        {func(_ *fake, o *contract.CloneOrder) { o.Template = "none" }, site.ErrRefused, `template "none" does not exist`},
		"no store":           {func(_ *fake, o *contract.CloneOrder) { o.Store = "none" }, site.ErrRefused, `has no store "none"`},
		"a store that rests": {func(f *fake, _ *contract.CloneOrder) { f.fail["is the store active"] = errors.New("no") }, site.ErrRefused, `store "fast" of host quay-1 is not active`},
		"a name that is taken": {func(f *fake, _ *contract.CloneOrder) {
			f.define(`<domain><name>bms-1</name><uuid>53ccd815-cefc-44af-87e3-5b0ce2550700</uuid><devices/></domain>`, false)
		}, site.ErrRefused, "another machine named bms-1"},
		"kept disks": {func(f *fake, _ *contract.CloneOrder) { f.add("fast", "bms-1."+id.String()+keptSuffix, 1, "") }, site.ErrRefused, "its disks were kept"},
		"a running template": {func(f *fake, _ *contract.CloneOrder) {
			for _, d := range f.domains {
				d.on = true
			}
		}, site.ErrRefused, "it is running: shut it down first"},
		"NUMA cells": {func(f *fake, o *contract.CloneOrder) {
			o.Shape.CPUs = 9
			f.define(strings.NewReplacer("/t/", "/templates/", "<os>", "<cpu><numa><cell id='0' cpus='0'/><cell id='1' cpus='1'/></numa></cpu><os>").Replace(base), false)
		}, site.ErrRefused, "its layout of 2 NUMA cells requires"},
		"somebody's disk of our name": {func(f *fake, _ *contract.CloneOrder) {
			name := "bms-1." + id.String() + ".disk.qcow2"
			f.add("fast", name, 1, "")
			f.define(`<domain><name>other</name><uuid>53ccd815-cefc-44af-87e3-5b0ce2550701</uuid><devices><disk type='file'><source file='/fast/`+name+`'/></disk></devices></domain>`, false)
		}, site.ErrRefused, "is a disk of machine other"},
	} {
		f, o := templated(), order()
		c.prepare(f, &o)
		_, err := siteOf(f).Clone(t.Context(), o)
		require.ErrorContains(t, err, c.says, name)
		if c.kind != nil {
			assert.ErrorIs(t, err, c.kind, name)
		} else {
			assert.NotErrorIs(t, err, site.ErrRefused, name)
		}
		_, there := f.domains[rpc.UUID(id)]
		assert.False(t, there, "%s: it was defined", name)
	}
}

// A copy needs no file system that shares extents, and one that failed says so where
// the store may not hold all of it, although what was written is gone again.
func TestCopies(t *testing.T) {
	for name, c := range map[string]struct{ fail, says string }{
		"shares":          {},
		"shares nothing":  {fail: "share extents"},
		"may not hold it": {fail: "copy", says: `store "fast" may be too small (up to 2GiB needed, 1GiB free)`},
	} {
		f := templated()
		f.free = 1 << 30
		f.fail[c.fail] = german(rpc.ErrSystemError, "Operation wird nicht unterstützt")
		h := siteOf(f).hosts[0]
		v := &volume{vol: rpc.StorageVol{Key: "/templates/plain.img"}, path: "/templates/plain.img", format: "raw", capacity: 2 << 30, used: 1 << 20}
		file, err := h.cloneDisk(t.Context(), machine.Full, rpc.StoragePool{Name: "fast"}, "a.disk.raw", &template{host: h}, v, func(float64) {})
		if c.says != "" {
			require.ErrorContains(t, err, c.says, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, "/fast/a.disk.raw", file, name)
	}
}

// Removing checks first and cuts the power last of what can be refused: what is
// refused has been left as it was.
func TestRemovingChecksFirst(t *testing.T) {
	f := templated()
	s := siteOf(f)
	_, err := s.Clone(t.Context(), order())
	require.NoError(t, err)
	f.domains[rpc.UUID(id)].on = true
	f.add("fast", "bms-1."+id.String()+keptSuffix, 1, "")
	f.said = nil
	_, err = s.Remove(t.Context(), id, contract.DeleteDisks)
	require.ErrorIs(t, err, site.ErrRefused)
	assert.Zero(t, count(f.said, "cut")+count(f.said, "delete"), "%v", f.said)
	assert.True(t, f.domains[rpc.UUID(id)].on)
	delete(f.volumes, "/fast/bms-1."+id.String()+keptSuffix)
	other := f.define(`<domain><name>theirs</name><uuid>`+uuid.NewString()+`</uuid><devices><disk type="file" device="disk"><source file="/fast/bms-1.`+id.String()+`.disk.qcow2"/><target dev="vda"/></disk></devices></domain>`, false)
	_, err = s.Remove(t.Context(), id, contract.DeleteDisks)
	require.ErrorContains(t, err, "is a disk of machine theirs, too")
	assert.Zero(t, count(f.said, "cut")+count(f.said, "delete"), "%v", f.said)
	delete(f.domains, other.UUID)
	s.hosts[0].using.at = time.Time{}
	f.said = nil
	_, err = s.Remove(t.Context(), id, contract.DeleteDisks)
	require.NoError(t, err)
	assert.Equal(t, []string{"cut bms-1", "undefine bms-1"}, []string{f.said[0], f.said[len(f.said)-1]}, "%v", f.said)
	assert.Len(t, f.volumes, 2, "the template's")
	_, err = s.Remove(t.Context(), id, contract.DeleteDisks)
	require.NoError(t, err, "again")

	_, err = s.Clone(t.Context(), order())
	require.NoError(t, err)
	_, err = s.Remove(t.Context(), id, contract.KeepDisks)
	require.NoError(t, err)
	assert.Len(t, f.volumes, 5, "its disks, and the file that marks them")
	children := map[string][]dependant{}
	kept, err := s.hosts[0].kept(t.Context(), children)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.Equal(t, "bms-1 "+id.String(), kept[0].Name+" "+kept[0].ID.String())
	assert.Len(t, children["/templates/system.qcow2"], 1)
	_, err = s.Clone(t.Context(), order())
	assert.ErrorIs(t, err, site.ErrRefused)
}

// A migration has left the definition behind at the old host: which one is the machine is not
// guessed, whatever is asked for, and once it is gone all goes on.
func TestAMachineThatTwoHostsDefine(t *testing.T) {
	old, now := templated(), templated()
	_, err := siteOf(old, now).Clone(t.Context(), order())
	require.NoError(t, err)
	now.define(old.domains[rpc.UUID(id)].xml, true)
	s := siteOf(old, now)
	old.said, now.said = nil, nil
	for what, act := range map[string]func() (contract.Task, error){
		"power": func() (contract.Task, error) { return s.Power(t.Context(), id, machine.Cut) },
		"shape": func() (contract.Task, error) {
			return s.Shape(t.Context(), id, machine.Shape{CPUs: 9}, contract.MayRestart)
		},
		"delete": func() (contract.Task, error) { return s.Remove(t.Context(), id, contract.DeleteDisks) },
		"keep":   func() (contract.Task, error) { return s.Remove(t.Context(), id, contract.KeepDisks) },
		"clone":  func() (contract.Task, error) { return s.Clone(t.Context(), order()) },
	} {
		_, err := act()
		require.ErrorIs(t, err, site.ErrRefused, what)
		require.ErrorContains(t, err, "bms-1 is defined on the hosts quay-1 and quay-2", what)
	}
	for _, f := range []*fake{old, now} {
		assert.Zero(t, count(f.said, "cut")+count(f.said, "delete")+count(f.said, "undefine")+count(f.said, "define"), "%v", f.said)
	}
	once := once([]contract.Machine{
		{ID: id, Name: "bms-1", Host: "quay-1", Power: machine.Off, Mark: &contract.Mark{}}, {ID: uuid.Max, Name: "theirs", Host: "quay-1"},
		{ID: id, Name: "bms-1", Host: "quay-2", Power: machine.On, Mark: &contract.Mark{}}, {ID: uuid.Max, Name: "theirs", Host: "quay-2"}})
	require.Len(t, once, 3, "what is not ours is left as it is")
	assert.Equal(t, "quay-2", once[0].Host, "where it runs")
	assert.Contains(t, once[0].Unclear, "quay-1 and quay-2")

	delete(old.domains, rpc.UUID(id))
	d, err := s.find(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "quay-2", d.name)
}

// Somebody took away the definition alone: what is kept then are the same disks.
func TestDisksThatAreKeptWithoutADefinition(t *testing.T) {
	f := templated()
	s := siteOf(f)
	_, err := s.Clone(t.Context(), order())
	require.NoError(t, err)
	_, err = s.Seed(t.Context(), id, []byte("answers"))
	require.NoError(t, err)
	delete(f.domains, rpc.UUID(id))
	for range 2 {
		_, err = s.Remove(t.Context(), id, contract.KeepDisks)
		require.NoError(t, err)
		assert.Len(t, f.volumes, 5, "its disks, and the file that marks them")
	}
	_, err = s.Remove(t.Context(), id, contract.DeleteDisks)
	assert.ErrorContains(t, err, "its disks were kept")
}

// A network keeps an address now and after its next start, whatever half was there;
// what is in the way is quoted, and what belongs to a machine that is gone goes.
func TestReservationsInBothHalves(t *testing.T) {
	const ours, another = `<host mac="02:00:00:00:00:01" name="bms-1" ip="198.51.100.7"/>`, `<host mac="02:00:00:00:00:09" name="printer" ip="198.51.100.7"/>`
	live, config := rpc.NetworkUpdateAffectLive, rpc.NetworkUpdateAffectConfig
	adapter := machine.Card{Network: "survey", MAC: "02:00:00:00:00:01", Lease: netip.MustParsePrefix("198.51.100.7/24")}
	for _, half := range []rpc.NetworkUpdateFlags{live, config, 0} {
		f := templated()
		n := f.networks["survey"]
		if half != 0 {
			n.hosts[half][ours] = true
		}
		s := siteOf(f)
		_, err := s.Clone(t.Context(), order())
		require.NoError(t, err)
		_, err = s.Wire(t.Context(), id, []machine.Card{adapter}, contract.MayRestart)
		require.NoError(t, err)
		assert.Equal(t, map[string]bool{ours: true}, n.hosts[live])
		assert.Equal(t, map[string]bool{ours: true}, n.hosts[config])
		require.NoError(t, s.DropLeases(t.Context(), "bms-1", []machine.Card{adapter}))
		assert.Empty(t, n.hosts[live])
		assert.Empty(t, n.hosts[config])
		n.hosts[config][another] = true
		_, err = s.Wire(t.Context(), id, []machine.Card{adapter}, contract.MayRestart)
		assert.ErrorContains(t, err, "conflicts with "+another)
		require.NoError(t, s.DropLeases(t.Context(), "bms-1", []machine.Card{adapter}))
		assert.Equal(t, map[string]bool{another: true}, n.hosts[config], "somebody else's stays")
		n.active = false
		delete(n.hosts[config], another)
		_, err = s.Wire(t.Context(), id, []machine.Card{adapter}, contract.MayRestart)
		require.NoError(t, err)
		assert.Equal(t, map[string]bool{ours: true}, n.hosts[config], "a network that rests")
	}
}

// A call that hangs ends in its time; an act that a daemon's restart has cut off is
// done again.
func TestCallsThatHangAndBreak(t *testing.T) {
	f := templated()
	h := siteOf(f).hosts[0]
	limited, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	err := h.call(limited, func(daemon) error { select {} })
	assert.ErrorIs(t, err, site.ErrUnreachable)
	assert.ErrorContains(t, err, "has not answered within")
	tries := 0
	require.NoError(t, retry(t.Context(), func() error {
		if tries++; tries < 3 {
			return h.translate(fmt.Errorf("reading: %w", rpc.ErrInterrupted))
		}
		return nil
	}))
	assert.Equal(t, 3, tries)
}
