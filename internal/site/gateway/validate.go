package gateway

import (
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// What a gateway does not say is not taken for nothing: an answer without what
// docs/gateway-api.yaml requires is no answer.

func errIncomplete(err error) error {
	return fmt.Errorf("%w: its answer does not follow the gateway API: %w", site.ErrUnreachable, err)
}

// wholeSurvey is a survey as it is read, in which what is missing can be seen.
type wholeSurvey struct {
	contract.Survey
	Machines []wholeMachine `json:"machines"`
}

// wholeMachine is a machine as it is read.
type wholeMachine struct {
	contract.Machine
	Host  *string `json:"host"`
	Store *string `json:"store"`
}

func (w wholeSurvey) survey() (*contract.Survey, error) {
	s := w.Survey
	for _, part := range []struct {
		name    string
		missing bool
	}{
		{"hosts", s.Hosts == nil}, {"stores", s.Stores == nil}, {"networks", s.Networks == nil}, {"folders", s.Folders == nil},
		{"templates", s.Templates == nil}, {"machines", w.Machines == nil},
	} {
		if part.missing {
			return nil, fmt.Errorf("the survey has no %s", part.name)
		}
	}
	unnamed := slices.ContainsFunc(s.Hosts, func(h contract.Host) bool { return h.Name == "" }) ||
		slices.ContainsFunc(s.Stores, func(st contract.Store) bool { return st.Name == "" }) ||
		slices.ContainsFunc(s.Templates, func(t contract.Template) bool { return t.Name == "" }) ||
		slices.Contains(s.Networks, "")
	if unnamed {
		return nil, errors.New("an entry of the survey has no name")
	}
	s.Machines = make([]contract.Machine, len(w.Machines))
	once := make(map[uuid.UUID]bool, len(w.Machines))
	for i, m := range w.Machines {
		var err error
		if s.Machines[i], err = m.machine(); err != nil {
			return nil, err
		}
		if once[m.ID] {
			return nil, fmt.Errorf("the survey lists machine %s twice", m.ID)
		}
		once[m.ID] = true
	}
	for _, k := range s.Kept {
		if k.ID == uuid.Nil || k.Name == "" {
			return nil, errors.New("a machine whose disks were kept has no id or no name")
		}
	}
	return &s, nil
}

func (w wholeMachine) machine() (contract.Machine, error) {
	m := w.Machine
	switch {
	case m.ID == uuid.Nil:
		return m, fmt.Errorf("machine %q has no id", m.Name)
	case m.Name == "":
		return m, fmt.Errorf("machine %s has no name", m.ID)
	case w.Host == nil || w.Store == nil:
		return m, fmt.Errorf("machine %q has no host or no store", m.Name)
	case m.Power != machine.On && m.Power != machine.Off:
		return m, fmt.Errorf("the power of machine %q is %q, and not on or off", m.Name, m.Power)
	case m.Mark != nil && (m.Mark.Ledger == uuid.Nil || m.Mark.Key == "" || m.Mark.Generation < 1):
		return m, fmt.Errorf("the mark of machine %q lacks its ledger, key or generation", m.Name)
	}
	m.Host, m.Store = *w.Host, *w.Store
	return m, nil
}

// of is the machine, which has to be the one that was asked about.
func (w wholeMachine) of(id uuid.UUID) (*contract.Machine, error) {
	m, err := w.machine()
	if err == nil && m.ID != id {
		err = fmt.Errorf("the answer is about machine %[2]s instead of %[1]s", id, m.ID)
	}
	if err != nil {
		return nil, errIncomplete(err)
	}
	return &m, nil
}

// requireFields refuses a task that does not say how it is.
func requireFields(t contract.Task, err error) (contract.Task, error) {
	if err != nil {
		return t, err
	}
	switch t.State {
	case contract.Done, contract.Failed:
		return t, nil
	case contract.Queued, contract.Running:
		if t.ID != "" {
			return t, nil
		}
	}
	return contract.Task{}, errIncomplete(fmt.Errorf("a task %q is in the state %q", t.ID, t.State))
}
