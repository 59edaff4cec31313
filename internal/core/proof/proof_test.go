package proof

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"mintbatch/internal/core/machine"
)

var ledger, stranger = uuid.UUID{15: 1}, uuid.UUID{15: 2}

func all(machine.Key) bool { return true }

func spec() machine.Spec {
	return machine.Spec{Clone: machine.Clone{Template: "deb12-base", Kind: machine.Linked}, Shape: machine.Shape{CPUs: 2, Disk: 8 * machine.GiB},
		Guest: machine.Guest{Hostname: "x", Keys: []string{"a"}}, Power: machine.On}
}

var key = machine.Key{Site: "quay", Name: "x"}

func id(generation int) uuid.UUID { return machine.Identity(ledger, key, generation) }

func ours(generation int) Seen {
	return Seen{Identity: id(generation), Name: "x", Ledger: ledger, Generation: generation}
}

// one computes the work of a machine that is wanted as the changed spec.
func one(change func(*machine.Spec), known *Known, seen ...Seen) Work {
	is := spec()
	if change != nil {
		change(&is)
	}
	s := Situation{Ledger: ledger, Wanted: []Wanted{{key, is.Slim()}}, Seen: map[string][]Seen{"quay": seen}}
	if known != nil {
		s.Known = []*Known{known}
	}
	return Compare(s, all).Works[0]
}

func TestWork(t *testing.T) {
	made := &Known{Key: key, Generation: 1, State: Made, Cloned: true, Started: true, Slim: *spec().Slim()}
	cloned := &Known{Key: key, Generation: 1, State: Making, Cloned: true, Slim: *spec().Slim()}
	started := &Known{Key: key, Generation: 1, State: Making, Cloned: true, Started: true, Slim: *spec().Slim()}
	begun := &Known{Key: key, Generation: 1, State: Making, Slim: *spec().Slim()}
	cpus := func(s *machine.Spec) { s.Shape.CPUs = 4 }
	hostname := func(s *machine.Spec) { s.Guest.Hostname = "y" }
	template := func(s *machine.Spec) { s.Clone.Template = "deb13-base" }
	volume := func(s *machine.Spec) { s.Template, s.Clone.Template = "deb12", "new.qcow2" }
	ofVolume := func(k *Known) *Known {
		copied := *k
		is := copied.Spec()
		is.Template, is.Clone.Template = "deb12", "old.qcow2"
		copied.Slim = *is.Slim()
		return &copied
	}
	carrying := *made // has a data disk of a clone before it
	carrying.Origin.Data = []uuid.UUID{stranger}
	again := func(removed bool) *Known {
		return &Known{Key: key, Generation: 2, State: Making, Slim: *spec().Slim(), Earlier: &Earlier{Origin: carrying.Origin, Generation: 1, Spec: spec(), Removal: removed}}
	}
	none := uuid.Nil
	for name, c := range map[string]struct {
		got        Work
		word       Word
		generation int
		replaces   uuid.UUID
		why        string
	}{
		"first":                      {one(nil, nil), New, 1, none, "[]"},
		"name of a stranger":         {one(nil, nil, Seen{Identity: stranger, Name: "X"}), Taken, 1, none, "[the site has a machine of this name that does not belong to this ledger]"},
		"name of another ledger":     {one(nil, nil, Seen{Identity: stranger, Name: "x", Ledger: stranger}), Taken, 1, none, "[the site has a machine of this name that does not belong to this ledger]"},
		"identity without mark":      {one(nil, made, Seen{Identity: id(1), Name: "x"}), Taken, 1, none, "[the site has a machine with this identity but without this ledger's mark]"},
		"there, reply lost":          {one(nil, begun, ours(1)), New, 1, none, "[started by an earlier run and not finished]"},
		"half made":                  {one(nil, cloned, ours(1)), New, 1, none, "[started by an earlier run and not finished]"},
		"half made, vanished":        {one(nil, cloned), New, 2, none, "[started by an earlier run and not finished]"},
		"half made, new address":     {one(hostname, cloned, ours(1)), New, 1, none, "[started by an earlier run and not finished hostname x to y]"},
		"half made, new template":    {one(template, cloned, ours(1)), New, 2, id(1), "[started by an earlier run and not finished template deb12-base to deb13-base]"},
		"being cloned, new template": {one(template, begun), New, 2, id(1), "[started by an earlier run and not finished template deb12-base to deb13-base]"},
		"started, new hostname":      {one(hostname, started, ours(1)), Remake, 2, id(1), "[started by an earlier run and not finished hostname x to y the contents of its disk of 8GiB will be lost]"},
		"earlier clone in way":       {one(nil, &Known{Key: key, Generation: 2, State: Making, Slim: *spec().Slim()}, ours(1)), New, 2, id(1), "[started by an earlier run and not finished]"},
		"as asked":                   {one(nil, made, ours(1)), Same, 1, none, "[]"},
		"other hardware":             {one(func(s *machine.Spec) { s.Clone.Hardware = &machine.Hardware{Board: "q35", Sockets: 2} }, made, ours(1)), Dated, 1, none, "[hardware (none) to machine type q35, sockets 2]"},
		"half made, other hardware":  {one(func(s *machine.Spec) { s.Clone.Hardware = &machine.Hardware{Board: "q35"} }, cloned, ours(1)), New, 2, id(1), "[started by an earlier run and not finished hardware (none) to machine type q35]"},
		"half made, new volume":      {one(volume, ofVolume(cloned), ours(1)), New, 2, id(1), "[started by an earlier run and not finished template's disk old.qcow2 to new.qcow2]"},
		"a cable":                    {one(func(s *machine.Spec) { s.Adapters = []machine.Adapter{{Card: machine.Card{Unplugged: true}}} }, made, ours(1)), Adjust, 1, none, "[link up to down]"},
		"gone":                       {one(nil, made), New, 2, none, "[it no longer exists at the site]"},
		"gone, others' disk":         {one(nil, &carrying), New, 2, none, "[it no longer exists at the site data disks that it had from an earlier clone stay at the site, and are not used again]"},
		"gone, made again":           {one(nil, again(false)), New, 2, none, "[data disks that it had from an earlier clone stay at the site, and are not used again started by an earlier run and not finished]"},
		"removed, made again":        {one(nil, again(true)), New, 2, none, "[started by an earlier run and not finished]"},
		"in place":                   {one(cpus, made, ours(1)), Adjust, 1, none, "[cpus 2 to 4]"},
		"needs a clone":              {one(hostname, made, ours(1)), Remake, 2, id(1), "[hostname x to y the contents of its disk of 8GiB will be lost]"},
		"a disk never shrinks":       {one(func(s *machine.Spec) { s.Shape.Disk /= 2 }, made, ours(1)), Remake, 2, id(1), "[disk 8GiB to 4GiB the contents of its disk of 8GiB will be lost]"},
		"ledger from an older copy":  {one(nil, nil, ours(1)), Taken, 1, none, "[the site has a newer clone of this machine than the ledger, which may have been restored from a copy; `mintbatch ledger rebuild` updates it]"},
		"ledger from a copy":         {one(nil, made, ours(2)), Taken, 1, none, "[the site has a newer clone of this machine than the ledger, which may have been restored from a copy; `mintbatch ledger rebuild` updates it]"},
	} {
		assert.Equal(t, c.word, c.got.Word, name)
		assert.Equal(t, c.generation, c.got.Generation, name)
		assert.Equal(t, id(c.generation), c.got.Identity, name)
		assert.Equal(t, c.replaces, c.got.Replaces, name)
		assert.Equal(t, c.why, fmt.Sprint(c.got.Reasons), name)
	}
}

func TestMachineOnAHostThatIsDownIsNotGone(t *testing.T) {
	made := Known{Key: key, Generation: 1, State: Made, Cloned: true, Started: true, Slim: *spec().Slim()}
	s := Situation{Ledger: ledger, Wanted: []Wanted{{key, spec().Slim()}}, Known: []*Known{&made}, Seen: map[string][]Seen{"quay": {}}}
	assert.Equal(t, New, Compare(s, all).Works[0].Word)
	s.Hidden = map[machine.Key]bool{key: true}
	assert.Equal(t, Same, Compare(s, all).Works[0].Word)
	s.Seen["quay"] = []Seen{{Identity: id(1), Name: "x", Ledger: stranger}}
	assert.Equal(t, Taken, Compare(s, all).Works[0].Word, "another host shows it")
}

func TestStraysAndFilter(t *testing.T) {
	other := machine.Key{Site: "quay", Name: "old"}
	s := Situation{Ledger: ledger, Wanted: []Wanted{{key, spec().Slim()}}, Known: []*Known{{Key: other, Generation: 1, State: Made}}}
	p := Compare(s, all)
	assert.Equal(t, []Word{New, Stray}, []Word{p.Works[0].Word, p.Works[1].Word})
	assert.Equal(t, 1, p.Count(Stray))
	p = Compare(s, func(key machine.Key) bool { return key.Name == "x" })
	assert.Len(t, p.Works, 1)
}

func TestASiteThatWasNotAskedHasWhatTheLedgerSays(t *testing.T) {
	s := Situation{Ledger: ledger, Wanted: []Wanted{{key, spec().Slim()}},
		Known: []*Known{{Key: key, Generation: 1, State: Made, Slim: *spec().Slim()}}}
	assert.Equal(t, Same, Compare(s, all).Works[0].Word)
}

// What a run that was cut short has done of an adjust is nobody else's change.
func TestAnAdjustThatWasCutShortIsNoDrift(t *testing.T) {
	first, second := machine.Adapter{Card: machine.Card{Network: "survey", MAC: "02:00:00:00:00:01"}}, machine.Adapter{Card: machine.Card{Network: "chart", MAC: "02:00:00:00:00:02"}}
	made := &Known{Key: key, Generation: 1, State: Made, Cloned: true, Started: true, Slim: *spec().Slim()}
	made.Adapters = []machine.Adapter{first}
	wired := ours(1)
	wired.Power, wired.Adapters = machine.On, machine.Cards([]machine.Adapter{first, second})
	more := func(s *machine.Spec) { s.Adapters = []machine.Adapter{first, second} }
	w := one(more, made, wired)
	assert.Equal(t, "adjust network.2 (none) to chart (may restart it; the guest is not reconfigured)", string(w.Word)+" "+w.Why())
	assert.True(t, w.Adapters[1].Later)
	wired.Adapters[1].Network = "office"
	wired.Shape.CPUs = 1
	assert.Contains(t, one(more, made, wired).Why(), "changed at the site: cpus 2 to 1")
}

// Works that are alike are told as one: names and addresses count up together.
func TestGroups(t *testing.T) {
	var works []Work
	add := func(word Word, name string, addresses ...string) {
		m := &machine.Machine{Key: machine.Key{Site: "quay", Name: name}, Spec: spec()}
		m.Adapters = []machine.Adapter{{}}
		for _, a := range addresses {
			m.Adapters[0].Addresses = append(m.Adapters[0].Addresses, netip.MustParsePrefix(a+"/24"))
		}
		works = append(works, Work{Key: m.Key, Word: word, Slim: m.Spec.Slim()})
	}
	add(New, "a-08", "198.51.100.11")
	add(New, "a-09", "198.51.100.12")
	add(New, "a-10", "198.51.100.13")
	add(New, "a-11", "198.51.100.15") // another address
	add(Remake, "a-12", "198.51.100.16")
	add(New, "b-1", "198.51.100.255", "2001:db8::1")
	add(New, "b-2", "198.51.101.0", "2001:db8::2")
	add(New, "b-10", "198.51.101.1", "2001:db8::3") // more digits
	add(New, "c")
	add(New, "c")
	works = append(works, Work{Key: machine.Key{Site: "quay", Name: "d1"}, Word: Stray}, Work{Key: machine.Key{Site: "quay", Name: "d2"}, Word: Stray})
	var lines []string
	for _, g := range Groups(works) {
		lines = append(lines, fmt.Sprint(len(g), " ", g[0].Word, " ", g.Name(), " ", g.Addresses()))
	}
	assert.Equal(t, []string{"3 new a-[08-10] [198.51.100.11-13]", "1 new a-11 [198.51.100.15]", "1 remake a-12 [198.51.100.16]",
		"2 new b-[1-2] [198.51.100.255-198.51.101.0 2001:db8::1-2001:db8::2]", "1 new b-10 [198.51.101.1 2001:db8::3]", "1 new c []", "1 new c []", "2 stray d[1-2] []"}, lines)
	var counts []string
	for _, k := range Kinds(works) {
		counts = append(counts, fmt.Sprint(k.Machines, " ", k.Word))
	}
	assert.Equal(t, []string{"9 new", "1 remake", "2 stray"}, counts)
}
