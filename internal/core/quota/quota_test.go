package quota

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"mintbatch/internal/core/machine"
)

// uses are a machine's that has an owner and some CPUs.
func uses(owner string, cpus int64) *Use {
	return &Use{Owner: owner, Amounts: Amounts{Machines: 1, CPUs: cpus}}
}

func limit(n int64) [resources]*int64 { return [resources]*int64{CPUs: &n} }

func TestJudge(t *testing.T) {
	each := func(u Use) string { return u.Owner }
	for name, c := range map[string]struct {
		rule     Rule
		standing []Use
		changes  []Change
		over     string // change: before-after
	}{
		"what fits exactly":                     {Rule{Limits: limit(4)}, nil, []Change{{nil, uses("a", 2)}, {nil, uses("a", 2)}}, ""},
		"the first that does not fit":           {Rule{Limits: limit(4)}, nil, []Change{{nil, uses("a", 3)}, {nil, uses("a", 2)}, {nil, uses("a", 1)}}, "1:3-5 "},
		"what was over before":                  {Rule{Limits: limit(4)}, []Use{*uses("a", 9)}, []Change{{uses("a", 9), uses("a", 9)}}, ""},
		"less, where all is over":               {Rule{Limits: limit(4)}, []Use{*uses("a", 9), *uses("a", 2)}, []Change{{uses("a", 9), uses("a", 8)}, {uses("a", 2), uses("a", 3)}}, "1:10-11 "},
		"two that swap their owners":            {Rule{Each: each, Limits: limit(4)}, []Use{*uses("a", 4), *uses("b", 4)}, []Change{{uses("a", 4), uses("b", 4)}, {uses("b", 4), uses("a", 4)}}, ""},
		"what is given up further down":         {Rule{Limits: limit(4)}, []Use{*uses("a", 4)}, []Change{{nil, uses("a", 2)}, {uses("a", 4), uses("a", 2)}}, ""},
		"others do not count":                   {Rule{Owner: "a*", Limits: limit(4)}, []Use{*uses("b", 9)}, []Change{{nil, uses("b", 9)}, {nil, uses("Anna", 5)}}, "1:0-5 "},
		"nothing at all is allowed":             {Rule{Limits: limit(0)}, nil, []Change{{nil, uses("a", 1)}}, "0:0-1 "},
		"what nobody has said":                  {Rule{Limits: limit(4)}, nil, []Change{{nil, &Use{Unknown: [resources]bool{CPUs: true}}}}, "0:? "},
		"what nobody had said when it was made": {Rule{Limits: limit(4)}, []Use{{}}, []Change{{&Use{}, &Use{Unknown: [resources]bool{CPUs: true}}}}, ""},
	} {
		over, _ := Judge([]Rule{c.rule}, c.standing, c.changes)
		said := ""
		for _, o := range over {
			if o.Unknown {
				said += fmt.Sprintf("%d:? ", o.Change)
			} else {
				said += fmt.Sprintf("%d:%d-%d ", o.Change, o.Before, o.After)
			}
		}
		assert.Equal(t, c.over, said, name)
	}
}

// Whatever is asked for: a batch without findings leaves nobody with more than the limit, unless they had that much before;
// and one that does leaves a finding.
func TestJudgeHolds(t *testing.T) {
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		owners := []string{"a", "b", "c"}
		some := func() *Use { return uses(owners[r.IntN(3)], int64(1+r.IntN(4))) }
		rules := []Rule{{Name: "each", Each: func(u Use) string { return u.Owner }, Limits: limit(int64(r.IntN(12)))}, {Name: "a", Owner: "a", Limits: limit(int64(r.IntN(9)))}}
		var standing []Use
		var changes []Change
		before, after := map[string]int64{}, map[string]int64{}
		for range r.IntN(8) {
			had := some()
			standing = append(standing, *had)
			before[had.Owner] += had.Amounts[CPUs]
			is := had
			if r.IntN(2) == 0 {
				is = some()
				changes = append(changes, Change{had, is})
			}
			after[is.Owner] += is.Amounts[CPUs]
		}
		for range r.IntN(5) {
			is := some()
			changes = append(changes, Change{nil, is})
			after[is.Owner] += is.Amounts[CPUs]
		}
		over, totals := Judge(rules, standing, changes)
		broken := false
		for _, owner := range owners {
			most := *rules[0].Limits[CPUs]
			if owner == "a" {
				most = min(most, *rules[1].Limits[CPUs])
			}
			broken = broken || after[owner] > max(most, before[owner])
		}
		if broken {
			assert.NotEmpty(t, over, "seed %d", seed)
		}
		if len(over) == 0 {
			assert.False(t, broken, "seed %d", seed)
		}
		for _, total := range totals {
			if total.Rule == "each" {
				assert.Equal(t, after[total.Share], total.Used+total.Proof, "seed %d", seed)
				assert.Equal(t, before[total.Share], total.Used, "seed %d", seed)
			}
		}
	}
}

func TestOf(t *testing.T) {
	had := &machine.Spec{Shape: machine.Shape{CPUs: 2, Memory: machine.GiB, Disk: 20 * machine.GiB}}
	asked := &machine.Spec{Shape: machine.Shape{Memory: 2 * machine.GiB, Disk: 10 * machine.GiB, Disks: []machine.Disk{{Size: 5 * machine.GiB}}}}
	u := Of("quay", asked, had, nil)
	assert.Equal(t, Amounts{1, 2, int64(2 * machine.GiB), int64(25 * machine.GiB)}, u.Amounts, "what is left open stays, and no disk shrinks")
	assert.Equal(t, [resources]bool{}, u.Unknown)
	assert.Equal(t, [resources]bool{CPUs: true}, Of("quay", asked, nil, nil).Unknown)
}
