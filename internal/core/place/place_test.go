package place

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

const gib = machine.GiB

// site hosts of 16GiB: each has a store of its own named local, and both reach
// shared, where the template is.
func site() *contract.Survey {
	host := func(name string) contract.Host {
		return contract.Host{Name: name, Memory: 16 * gib, FreeMemory: 15 * gib, Promised: 4 * gib, Stores: []string{"local", "shared"}, Networks: []string{"survey"}}
	}
	return &contract.Survey{
		Hosts: []contract.Host{host("quay-1"), host("quay-2")},
		Stores: []contract.Store{
			{Name: "local", Free: 50 * gib, Hosts: []string{"quay-1"}}, {Name: "local", Free: 90 * gib, Hosts: []string{"quay-2"}},
			{Name: "shared", Free: 30 * gib, Hosts: []string{"quay-1", "quay-2"}},
		},
	}
}

var template = contract.Template{Name: "deb12-base", Used: 8 * gib, Store: "shared", Hosts: []string{"quay-1", "quay-2"}}

func order(name string, change func(*Order)) Order {
	o := Order{Key: machine.Key{Site: "quay", Name: name}, Kind: machine.Linked, Template: template, Memory: 2 * gib, Clone: true}
	if change != nil {
		change(&o)
	}
	return o
}

func plan(orders ...Order) (map[machine.Key]Place, []Shortfall) {
	return NewRoom(site(), Spare{gib, gib}, func(contract.Machine) string { return "" }).Plan(orders)
}

func TestPlace(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Order)
		at     string
		why    string
	}{
		"linked stays with its parent": {nil, "quay-1 shared", ""},
		"full goes where most room is": {func(o *Order) { o.Kind = machine.Full }, "quay-1 local", ""},
		"named":                        {func(o *Order) { o.Host, o.Store = "quay-2", "local" }, "quay-2 local", ""},
		"parent at one host":           {func(o *Order) { o.Template.Hosts = []string{"quay-2"} }, "quay-2 shared", ""},
		"as much memory as there is":   {func(o *Order) { o.Memory = 11 * gib }, "quay-1 shared", ""},
		"too much memory":              {func(o *Order) { o.Memory = 12 * gib }, "", "memory: host quay-1 has 11GiB of free memory, 12GiB needed (1GiB set aside); host quay-2 has 11GiB of free memory, 12GiB needed (1GiB set aside)"},
		"off takes none":               {func(o *Order) { o.Memory = 0 }, "quay-1 shared", ""},
		"room for a full disk":         {func(o *Order) { o.Store, o.Disks = "local", []machine.Disk{{Size: 60 * gib, Kind: machine.FullDisk}} }, "quay-2 local", ""},
		"a thin disk takes none":       {func(o *Order) { o.Disks = []machine.Disk{{Size: 900 * gib, Kind: machine.ThinDisk}} }, "quay-1 shared", ""},
		"no room for a clone":          {func(o *Order) { o.Kind, o.Store, o.Template.Used = machine.Full, "shared", 30*gib }, "", "store: store shared has 29GiB free, 30GiB needed (1GiB set aside)"},
		"no such network":              {func(o *Order) { o.Networks = []string{"survey", "chart"} }, "", "network.2: host quay-1 has no network chart; host quay-2 has no network chart"},
		"a bridge that nobody lists":   {func(o *Order) { o.Networks = []string{"bridge:br0"} }, "quay-1 shared", ""},
		"a store that is not there":    {func(o *Order) { o.Store = "bulk" }, "", `store: host quay-1 has no store "bulk"; host quay-2 has no store "bulk"`},
		"there already":                {func(o *Order) { o.Clone, o.Host, o.Store = false, "quay-2", "elsewhere" }, "quay-2 elsewhere", ""},
	} {
		places, short := plan(order("x", c.change))
		if c.why != "" {
			require.Len(t, short, 1, name)
			assert.Equal(t, c.why, short[0].Column+": "+short[0].Reason, name)
			continue
		}
		p := places[machine.Key{Site: "quay", Name: "x"}]
		assert.Equal(t, c.at, p.Host+" "+p.Store, "%s %v", name, short)
	}
}

func TestStoresOfOneNameAreToldApart(t *testing.T) {
	_, stores := NewRoom(site(), Spare{}, func(contract.Machine) string { return "" }).Left()
	assert.Equal(t, map[string]machine.Size{"local@quay-1": 50 * gib, "local@quay-2": 90 * gib, "shared@quay-1,quay-2": 30 * gib}, stores)
	assert.Equal(t, "bulk", StoreID("bulk", nil))
}

func TestGroupsAreSpreadAndWhatIsThereCounts(t *testing.T) {
	s := site()
	s.Machines = []contract.Machine{{Name: "bms-sonar-01", Host: "quay-1"}}
	room := NewRoom(s, Spare{}, func(contract.Machine) string { return "sonar" })
	sonar := func(o *Order) { o.Group = "sonar" }
	places, _ := room.Plan([]Order{order("bms-sonar-02", sonar), order("bms-sonar-03", sonar), order("bms-sonar-04", sonar)})
	at := map[string]int{}
	for _, p := range places {
		at[p.Host]++
	}
	assert.Equal(t, map[string]int{"quay-1": 1, "quay-2": 2}, at)
}

func TestHostThatIsDownTakesOnlyWhatIsBoundToIt(t *testing.T) {
	s := site()
	s.Hosts[0].Down = "no answer"
	room := NewRoom(s, Spare{}, func(contract.Machine) string { return "" })
	places, short := room.Plan([]Order{order("a", nil), order("b", func(o *Order) { o.Host = "quay-1" })})
	assert.Empty(t, short)
	assert.Equal(t, "quay-2", places[machine.Key{Site: "quay", Name: "a"}].Host)
	assert.Equal(t, "quay-1", places[machine.Key{Site: "quay", Name: "b"}].Host)
}

// However the orders are shuffled, the places are the same, and no host or
// store is promised more than it has.
func TestPlansAreStableAndKeepWithinTheRoom(t *testing.T) {
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 1))
		var orders []Order
		for i := range 1 + random.IntN(20) {
			orders = append(orders, order(fmt.Sprintf("m-%02d", i), func(o *Order) {
				o.Memory = machine.Size(random.IntN(5)) * gib
				o.Group = []string{"", "sonar", "tide"}[random.IntN(3)]
				if random.IntN(2) == 0 {
					o.Kind = machine.Full
				}
				o.Host = []string{"", "", "quay-2"}[random.IntN(3)]
			}))
		}
		room := NewRoom(site(), Spare{gib, gib}, func(contract.Machine) string { return "" })
		places, short := room.Plan(orders)
		assert.Len(t, places, len(orders)-len(short), "seed %d", seed)
		memory, disk := room.Left()
		for name, left := range memory {
			assert.GreaterOrEqual(t, left, gib, "seed %d: %s", seed, name)
		}
		for name, left := range disk {
			assert.GreaterOrEqual(t, left, gib, "seed %d: %s", seed, name)
		}
		shuffled := slices.Clone(orders)
		random.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		again, _ := plan(shuffled...)
		assert.Equal(t, places, again, "seed %d", seed)
	}
}
