package sites

import (
	"context"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

type listing struct {
	site.Site
	machines []contract.Machine
}

func (l listing) Survey(context.Context) (*contract.Survey, error) {
	return &contract.Survey{Machines: l.machines}, nil
}

// Whoever copies a machine copies its mark: the copy is not taken for the machine, nor for another clone of it.
func TestCopiedMarks(t *testing.T) {
	ledger, key := uuid.New(), machine.Key{Site: "quay", Name: "bms-a"}
	mark := contract.Mark{Ledger: ledger, Key: key.String(), Generation: 2}
	renamed := contract.Mark{Ledger: ledger, Key: "quay/bms-c", Origin: machine.Origin{Born: "bms-b"}, Generation: 1}
	sealed := contract.Mark{Ledger: ledger, Key: "quay/bms-d", Generation: 1, Seal: "deb12@1"}
	s := &Sites{opened: map[string]site.Site{"quay": listing{machines: []contract.Machine{
		{ID: machine.Identity(ledger, key, 2), Name: "bms-a", Mark: &mark},
		{ID: machine.Identity(ledger, key, 1), Name: "bms-a-copy", Mark: &mark},
		{ID: uuid.New(), Name: "bms-x", Mark: &mark},
		{ID: machine.Identity(ledger, machine.Key{Site: "quay", Name: "bms-b"}, 1), Name: "bms-c", Mark: &renamed},
		{ID: uuid.New(), Name: "bms-d", Mark: &sealed},
	}}}}
	answer, err := s.Ask(t.Context(), "quay")
	require.NoError(t, err)
	ours := map[string]bool{}
	for _, m := range answer.Machines {
		ours[m.Name] = m.Mark.Ledger == ledger
	}
	assert.Equal(t, map[string]bool{"bms-a": true, "bms-a-copy": false, "bms-x": false, "bms-c": true}, ours)
	assert.Len(t, answer.Sealing, 1)
}
