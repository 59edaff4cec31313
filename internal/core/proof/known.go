package proof

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

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
	machine.Origin
	Generation   int
	State        State
	Cloned       bool   // of one that is being made: its clone was done
	Started      bool   // of one that is being made: its start was begun, and it may hold something by now
	machine.Slim        // what it was made to
	Host, Store  string // where the site put it
	// Earlier is the clone that a remake, which was begun, is to replace; nil once
	// that is gone.
	Earlier *Earlier
	// Open are the steps of this generation that were begun and have no good end.
	Open Open
	// KeepsDisks reports that a retire was begun that keeps its disks.
	KeepsDisks bool
}

// ID is what the machine's site knows it by.
func (k *Known) ID(ledger uuid.UUID) uuid.UUID { return k.Identity(ledger, k.Key, k.Generation) }

// EarlierID is what its site knows the clone by that an open remake is to replace; uuid.Nil if
// there is none.
func (k *Known) EarlierID(ledger uuid.UUID) uuid.UUID {
	if k.Earlier == nil || k.Earlier.Generation == 0 {
		return uuid.Nil
	}
	return k.Earlier.Identity(ledger, k.Key, k.Earlier.Generation)
}

// Earlier is a clone that was made, or started, before the present generation.
type Earlier struct {
	machine.Origin
	Generation int          `json:"generation"` // 0 if that is not known
	Spec       machine.Spec `json:"spec"`
	Host       string       `json:"host,omitempty"`
	Store      string       `json:"store,omitempty"`
	// Removal reports that the site was asked to remove it, and did not refuse.
	Removal bool `json:"removal,omitempty"`
	// Unfinished reports that it was started and never confirmed: it is nothing to go back to.
	Unfinished bool `json:"unfinished,omitempty"`
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

// PowerOff is the command that leaves machines off on purpose.
const PowerOff = "power off"

// left says what the open steps of a made machine mean for the next run.
type left struct {
	removal    string // its removal was begun, and it may not be whole
	unfinished string // it was shut down, or changed in part
	off        string // it was shut down on purpose
	swept      bool   // because its date was over
	own        string // what only the command that began it finishes: a restore, another name, or a cleaning
}

func (k *Known) left(here view) (l left) {
	runs := here.seen && here.Power == machine.On
	for _, s := range k.Open {
		switch {
		case s.Step == string(step.Remove) && !s.Failed && !runs:
			l.removal = fmt.Sprintf("run %s (%s) started to remove it, so its disks may be incomplete", s.Run, s.Command)
		case s.Step == string(step.Stop) && s.Command == "sweep" && !runs:
			l.off, l.swept = fmt.Sprintf("shut down by a sweep (run %s)", s.Run), true
		case s.Step == string(step.Stop) && s.Command == PowerOff && !runs:
			l.off = fmt.Sprintf("shut down with `mintbatch power off` (run %s)", s.Run)
		case s.renames():
			l.own = fmt.Sprintf("run %s did not finish: `mintbatch %s` does", s.Run, s.Command)
		case s.Step == string(step.Clean):
			l.own = fmt.Sprintf("run %s was cleaning it and did not finish: `mintbatch %s` does, or `mintbatch checkpoint restore` brings it back", s.Run, s.Command)
		case s.Step == string(step.Restore) && !s.Failed:
			l.own = fmt.Sprintf("run %s (%s) did not finish: `mintbatch %s %s` does", s.Run, s.Command, s.Command, k.Key)
		case s.Step == string(step.Stop) || s.Step == string(step.Remove):
			l.unfinished = fmt.Sprintf("run %s (%s) was shutting it down and did not finish", s.Run, s.Command)
		case l.unfinished == "":
			l.unfinished = fmt.Sprintf("run %s (%s) started to change it and did not finish", s.Run, s.Command)
		}
	}
	return l
}

// renaming begins the commands that give a machine another name.
const renaming = "rename "

// Renaming is the command that gives a machine another name.
func Renaming(from, to string) string { return renaming + from + " " + to }

// renames reports whether the step is of a renaming that the site may have done.
func (s OpenStep) renames() bool {
	return strings.HasPrefix(s.Command, renaming) && !(s.Step == string(step.Rename) && s.Failed)
}

// BeingRenamed reports whether a machine is being given another name: its site may have
// done so.
func (o Open) BeingRenamed() bool { return o.newName() != "" }

// newName is the name that a machine is being given.
func (o Open) newName() (name string) {
	for _, s := range o {
		if s.renames() {
			name = s.Command[strings.LastIndexByte(s.Command, ' ')+1:]
		}
	}
	return name
}

// Seen is a machine as a site has it.
type Seen struct {
	Identity uuid.UUID
	Name     string
	// Ledger is the id of the ledger that made it; zero if no ledger did.
	Ledger     uuid.UUID
	Generation int
	// Unclear is why nothing is done to it: empty if the site knows which machine it is.
	Unclear string
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

// By reports whether one of the open steps is of a command.
func (o Open) By(command string) bool {
	return slices.ContainsFunc(o, func(s OpenStep) bool { return s.Command == command })
}

// OnlyBy reports whether all open steps are those of commands that begin with a word.
func (o Open) OnlyBy(command string) bool {
	return !slices.ContainsFunc(o, func(s OpenStep) bool { return !strings.HasPrefix(s.Command, command) })
}

// Unfinished says what has to be finished before anything else is done to a made machine;
// empty if nothing has.
func (k *Known) Unfinished() string {
	l := k.left(view{})
	switch {
	case k.State != Made:
		return "it is not finished: `mintbatch mint` goes on with it"
	case l.unfinished != "":
		return cmp.Or(l.removal, l.own, l.unfinished+": `mintbatch mint` goes on with it")
	}
	return cmp.Or(l.removal, l.own)
}

// LeftOff says who has shut a made machine down on purpose; empty if nobody has.
func (k *Known) LeftOff() string { return k.left(view{}).off }

// Swept reports whether it was shut down because its date was over.
func (k *Known) Swept() bool { return k.left(view{}).swept }
