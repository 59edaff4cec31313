package sandbox

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// FaultKinds lists the faults that can be ordered.
var FaultKinds = []string{"refuse", "slow", "fail", "lose", "full", "no-shutdown", "lose-update", "refuse-update", "lose-notice", "refuse-notice", "late-notice", "lose-book", "refuse-book"}

// Faults go wrong on purpose, each kind in a share of the calls that it can
// happen to:
//
//	refuse  the call is refused
//	slow    the task takes ten times as long
//	fail    the task fails half-way
//	lose    the act is done, but the reply is lost
//	full    the store is said to be full
//	lose-update, refuse-update the same, of the DNS server
//	lose-notice, refuse-notice the same, of the keeper of records
//	late-notice it has done what it was told, and answers five seconds later
//	lose-book, refuse-book the same, of the address book
//	no-shutdown the guest does not shut down when it is asked to
type Faults struct {
	shares map[string]float64
	mu     sync.Mutex
	random *rand.Rand
}

// ParseFaults reads orders such as `lose:5%` or `fail:0.1`. The same seed
// gives the same faults for the same calls in the same order.
func ParseFaults(orders []string, seed uint64) (*Faults, error) {
	f := &Faults{shares: map[string]float64{}, random: rand.New(rand.NewPCG(seed, 0))}
	for _, order := range orders {
		kind, text, _ := strings.Cut(order, ":")
		number, percent := strings.CutSuffix(text, "%")
		share, err := strconv.ParseFloat(number, 64)
		if percent {
			share /= 100
		}
		if !slices.Contains(FaultKinds, kind) || err != nil || share < 0 || share > 1 {
			return nil, fmt.Errorf("fault %q: write one of %s with a share, such as lose:5%%", order, strings.Join(FaultKinds, ", "))
		}
		f.shares[kind] = share
	}
	return f, nil
}

// strike reports whether the fault happens this time.
func (f *Faults) strike(kind string) bool {
	share := f.shares[kind]
	if share == 0 {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.random.Float64() < share
}
