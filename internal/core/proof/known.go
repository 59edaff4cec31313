package proof

import (
	"fmt"
	"slices"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/step"
)

// State is how far the ledger knows a machine to be.
type State string

// The states of a Known machine.
const (
	Making State = "making" // a run began it and has not finished it
	Made   State = "made"
)

// Known is what the ledger holds of a machine.
type Known struct {
	machine.Key
	Generation  int
	State       State
	Cloned      bool // its clone was done
	Started     bool // its start was begun: it may hold something by now
	Spec        machine.Spec
	Host, Store string // where the site put it
	// Earlier is the clone that a remake, which was begun, is to replace; nil once
	// that is gone.
	Earlier *Earlier
	// Open are the steps of this generation that were begun and have no good end.
	Open Open
	// KeepsDisks reports that a retire was begun that keeps its disks.
	KeepsDisks bool
}

// Earlier is a clone that was made, or started, before the present generation.
type Earlier struct {
	Generation int          `json:"generation"` // 0 if that is not known
	Spec       machine.Spec `json:"spec"`
	Host       string       `json:"host,omitempty"`
	Store      string       `json:"store,omitempty"`
	// Removal reports that the site was asked to remove it, and did not refuse.
	Removal bool `json:"removal,omitempty"`
}

// OpenStep is a step without a good end, with the command that took it.
type OpenStep struct {
	Step    string
	Run     string
	Command string
	Failed  bool // the site has said no, or nothing was done; else nobody knows
}

// Open are the steps of a machine without a good end. A `stop` is among them
// whatever its end, until the machine is started.
type Open []OpenStep

// left says what the open steps of a made machine mean for the next run.
type left struct {
	removal    string // its removal was begun, and it may not be whole
	unfinished string // it was shut down, or changed in part
	swept      string // it was shut down because its date was over
}

func (o Open) left(here view) (l left) {
	runs := here.seen && here.Power == machine.On
	for _, s := range o {
		switch {
		case s.Step == string(step.Remove) && !s.Failed && !runs:
			l.removal = fmt.Sprintf("run %s (%s) started to remove it, so its disks may be incomplete", s.Run, s.Command)
		case s.Step == string(step.Stop) && s.Command == "sweep" && !runs:
			l.swept = fmt.Sprintf("shut down by a sweep (run %s)", s.Run)
		case s.Step == string(step.Stop) || s.Step == string(step.Remove):
			l.unfinished = fmt.Sprintf("run %s (%s) was shutting it down and did not finish", s.Run, s.Command)
		case l.unfinished == "":
			l.unfinished = fmt.Sprintf("run %s (%s) started to change it and did not finish", s.Run, s.Command)
		}
	}
	return l
}

// Seen is a machine as a site has it.
type Seen struct {
	Identity uuid.UUID
	Name     string
	// Ledger is the id of the ledger that made it; zero if no ledger did.
	Ledger     uuid.UUID
	Generation int
	// Power and Shape are how it is now; empty where that is not reported.
	Power machine.Power
	Shape machine.Shape
	// Adapters have what a site knows of them: network, MAC address, and whether
	// they are plugged in. They are nil where that is not reported.
	Adapters []machine.Card
	// Leases are the addresses that DHCP servers keep, by MAC address; nil where that
	// is not reported.
	Leases map[string]string
	Info   machine.Info
}

// Has reports whether one of the steps is open.
func (o Open) Has(name step.Name) bool {
	return slices.ContainsFunc(o, func(s OpenStep) bool { return s.Step == string(name) })
}
