package cli

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/run"
)

// However many causes there are, those of the most machines are repeated, and the others counted.
func TestCausesFitOnAScreen(t *testing.T) {
	var results []run.Result
	for i := range 100 {
		cause := fmt.Errorf("no such thing %d", i)
		if i >= 95 {
			cause = fmt.Errorf("the store is full")
		}
		results = append(results, run.Result{Work: proof.Work{Key: machine.Key{Site: "quay", Name: fmt.Sprintf("a-%02d", i)}}, Step: step.Clone, Err: cause})
	}
	var out bytes.Buffer
	(&App{Stdout: &out}).causes(&cli.Command{Name: "retire"}, results)
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	assert.Equal(t, "5 machines failed at clone: the store is full", lines[0])
	assert.Len(t, lines, 2*mostCauses+1)
	assert.Equal(t, "76 machines failed for 76 other causes: `mintbatch runs show` lists them", lines[len(lines)-1])
}
