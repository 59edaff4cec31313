package sandbox

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// state is a machine as a checkpoint keeps it.
type state struct {
	Name     string           `json:"name"`
	Taken    time.Time        `json:"taken"`
	Power    machine.Power    `json:"power"`
	Shape    machine.Shape    `json:"shape"`
	Adapters []adapter        `json:"adapters,omitempty"`
	Instance string           `json:"instance,omitempty"`
	Report   *contract.Report `json:"report,omitempty"`
	Has      []contract.Check `json:"has,omitempty"`
}

func (r *record) checkpoints() (all []contract.Checkpoint) {
	for _, s := range r.States {
		all = append(all, contract.Checkpoint{Name: s.Name, Taken: s.Taken, Running: s.Power == machine.On})
	}
	return all
}

func (r *record) checkpointAt(name string) int {
	return slices.IndexFunc(r.States, func(s state) bool { return strings.EqualFold(s.Name, name) })
}

func (s *Sandbox) checkpoint(c *call) (any, error) {
	return s.change(c, func(r *record) (contract.Task, error) {
		if name := c.PathValue("name"); r.checkpointAt(name) < 0 {
			r.States = append(r.States, state{name, time.Now().UTC(), r.Power, r.Shape, r.Adapters, r.Instance, r.Report, r.Has})
		}
		return s.startTask(smallTaskTime, nil), nil
	})
}

func (s *Sandbox) dropCheckpoint(c *call) (any, error) {
	return s.change(c, func(r *record) (contract.Task, error) {
		i := r.checkpointAt(c.PathValue("name"))
		if i < 0 {
			return contract.Task{}, refuse(http.StatusNotFound, "no checkpoint %q", c.PathValue("name"))
		}
		if clone := s.dependant(r, r.States[i].Name); clone != "" {
			return contract.Task{}, refuse(http.StatusConflict, "%s is a linked clone of it", clone)
		}
		r.States = slices.Delete(r.States, i, i+1)
		return s.startTask(smallTaskTime, nil), nil
	})
}

// restore brings a machine back, with the hardware that it had. Checkpoints that were kept
// later stay.
func (s *Sandbox) restore(_ *call, r *record, want struct{ Checkpoint string }) (contract.Task, error) {
	i := r.checkpointAt(want.Checkpoint)
	if i < 0 {
		return contract.Task{}, refuse(http.StatusConflict, "no checkpoint %q", want.Checkpoint)
	}
	kept := r.States[i]
	if len(kept.Shape.Disks) != len(r.Shape.Disks) {
		return contract.Task{}, refuse(http.StatusConflict, "it has got data disks since")
	}
	r.Power, r.Shape, r.Adapters, r.Instance, r.Report, r.Has = kept.Power, kept.Shape, kept.Adapters, kept.Instance, kept.Report, kept.Has
	r.Cleaned = false
	return s.startTask(smallTaskTime, nil), nil
}
