package mint_test

import (
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mintbatch/internal/fastdir"
)

func TestMain(m *testing.M) {
	defer fastdir.Use()()
	m.Run()
}

// seedOf is what the chance of a test begins with: MINTBATCH_SEED, else the time. It is
// told with a failure.
func seedOf(t *testing.T) uint64 {
	t.Helper()
	seed := uint64(time.Now().UnixNano())
	if text := os.Getenv("MINTBATCH_SEED"); text != "" {
		var err error
		seed, err = strconv.ParseUint(text, 10, 64)
		require.NoError(t, err)
	}
	t.Logf("MINTBATCH_SEED=%d", seed)
	return seed
}

// whole reports whether the long harnesses run whole, as they do in CI.
func whole() bool { return os.Getenv("MINTBATCH_FULL") != "" }

// amount is how much of a long harness runs: few under the race detector, which
// takes a short look at everything, some with the other tests, all in CI.
func amount(few, some, all int) int {
	switch {
	case whole():
		return all
	case testing.Short():
		return few
	}
	return some
}
