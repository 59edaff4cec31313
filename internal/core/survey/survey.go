// Package survey is what a site and its callers tell each other: what there is,
// what is asked for and how it goes. It has the forms of docs/gateway-api.yaml.
package survey

import (
	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
)

// CloneOrder asks for a machine.
type CloneOrder struct {
	Identity uuid.UUID `json:"-"`
	Name     string    `json:"name"`
	machine.Clone
	Mark Mark `json:"mark"`
}

// Mark is what a site stores with a machine that is ours: who made it and what
// people want to know of it. It holds no secret.
type Mark struct {
	Ledger      uuid.UUID `json:"ledger"`
	Key         string    `json:"key"`
	Generation  int       `json:"generation"`
	Fingerprint string    `json:"fingerprint,omitempty"`
	Run         string    `json:"run,omitempty"`
	machine.Mark
}

// TaskState is how far a task is.
type TaskState string

// The states of a task.
const (
	Queued  TaskState = "queued"
	Running TaskState = "running"
	Done    TaskState = "done"
	Failed  TaskState = "failed"
)

// Task is an act that the site is at. One without an id is settled at once.
type Task struct {
	ID    string    `json:"id,omitempty"`
	State TaskState `json:"state"`
	Share float64   `json:"share,omitempty"` // done so far, from 0 to 1
	Error string    `json:"error,omitempty"` // why it failed, in the site's words
}

// Settled tells whether the task came to its end.
func (t Task) Settled() bool { return t.State == Done || t.State == Failed }

// Survey is what a site has.
type Survey struct {
	Hosts     []Host     `json:"hosts"`
	Stores    []Store    `json:"stores"`
	Networks  []string   `json:"networks"`
	Folders   []string   `json:"folders"`
	Templates []Template `json:"templates"`
	Machines  []Machine  `json:"machines"`
}

// Host runs machines.
type Host struct {
	Name       string       `json:"name"`
	CPUs       int          `json:"cpus"`
	Memory     machine.Size `json:"memory"`
	FreeMemory machine.Size `json:"free_memory"`
	Stores     []string     `json:"stores"` // those it reaches
}

// Store holds disks.
type Store struct {
	Name     string       `json:"name"`
	Capacity machine.Size `json:"capacity"`
	Free     machine.Size `json:"free"`
}

// Template is a template as the site has it.
type Template struct {
	Name   string       `json:"name"`
	CPUs   int          `json:"cpus"`
	Memory machine.Size `json:"memory"`
	Disk   machine.Size `json:"disk"` // as the guest sees it
	Used   machine.Size `json:"used"` // as a full clone takes it
}

// Machine is a machine as the site has it.
type Machine struct {
	ID    uuid.UUID     `json:"id"`
	Name  string        `json:"name"`
	Mark  *Mark         `json:"mark,omitempty"` // nil if it is not ours
	Host  string        `json:"host"`
	Store string        `json:"store"`
	Power machine.Power `json:"power"`
	machine.Shape
	Report *Report `json:"report,omitempty"` // nil until the guest reports
}

// Report is what a guest says of itself.
type Report struct {
	Hostname  string              `json:"hostname"`
	FQDN      string              `json:"fqdn,omitempty"`
	Addresses map[string][]string `json:"addresses"` // by MAC address, with prefix lengths
	Logins    []string            `json:"logins,omitempty"`
	HostKey   string              `json:"host_key,omitempty"`
	Timezone  string              `json:"timezone,omitempty"`
	Finished  bool                `json:"finished"` // the first boot's work is done
	Errors    []string            `json:"errors,omitempty"`
}
