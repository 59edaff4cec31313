// Package contract is the contract between sites and their callers: what a site has, what
// is requested of it, and the state of its tasks. docs/gateway-api.yaml has its JSON form.
package contract

import (
	"io"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
)

// CloneOrder asks for a machine. Its host and store are those of the row, or
// those that were chosen where the site leaves that to its caller.
type CloneOrder struct {
	Identity uuid.UUID `json:"-"`
	Name     string    `json:"name"`
	machine.Clone
	Mark Mark `json:"mark"`
	// Shape and Adapters are what will be asked for next. A site may see to it
	// at once, and has less to do then.
	Shape    machine.Shape  `json:"-"`
	Adapters []machine.Card `json:"-"`
}

// Mark is what a site stores with a machine that is ours: who made it and what
// people want to know of it. It holds no secret.
type Mark struct {
	Ledger uuid.UUID `json:"ledger"`
	Key    string    `json:"key"`
	machine.Origin
	Generation  int    `json:"generation"`
	Fingerprint string `json:"fingerprint,omitempty"`
	Run         string `json:"run,omitempty"`
	Folder      string `json:"folder,omitempty"`
	// Stage is how far the machine came; empty in marks of an older form.
	Stage Stage `json:"stage,omitempty"`
	machine.Info
	// Seal is the version of a template, NAME@N, that is being made of this copy of a machine. It is no
	// machine of anybody's sheet.
	Seal string `json:"seal,omitempty"`
	// Request is the one that has asked for the machine, so that it is no stray of another sheet.
	Request string `json:"request,omitempty"`
	// Spec is what the machine was made to, so that a ledger can be made again
	// from the marks. In place of the guest's first-boot contents, which may hold
	// what is not for everybody's eyes, it has their digest.
	Spec *machine.Spec `json:"spec,omitempty"`
}

// Identity is that of the machine that the mark was written for.
func (m *Mark) Identity() uuid.UUID { return m.Origin.Identity(m.Ledger, m.machine(), m.Generation) }

func (m *Mark) machine() (key machine.Key) {
	key.Site, key.Name, _ = strings.Cut(m.Key, "/")
	return key
}

// IsOf reports whether an identity is that of a clone of the same machine, whichever.
func (m *Mark) IsOf(id uuid.UUID) bool {
	key := m.machine()
	return slices.ContainsFunc(m.Names(key), func(name string) bool {
		return machine.GenerationOf(m.Ledger, machine.Key{Site: key.Site, Name: name}, id) > 0
	})
}

// Stage is how far a machine came, as its mark tells.
type Stage string

// The stages.
const (
	StageMaking Stage = "making" // from its clone on
	StageMade   Stage = "made"   // once its guest was confirmed
)

// MarkedSpec is the form of a spec that a mark carries.
func MarkedSpec(s machine.Spec) *machine.Spec {
	if !s.Guest.Firstboot.IsZero() || s.Guest.Own != nil {
		s.Guest.Firstboot = &machine.Firstboot{Commands: []string{s.Guest.ContentsDigest()}}
		s.Guest.Own = nil
	}
	return &s
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
	// Reason is the kind of some failures.
	Reason Reason `json:"reason,omitempty"`
	// Host and Store are where a machine was cloned to; both are empty if the site does not
	// say so here.
	Host  string `json:"host,omitempty"`
	Store string `json:"store,omitempty"`
}

// Reason is the kind of a failure.
type Reason string

// The reasons.
const (
	Refused     Reason = "refused"     // the site will not do it
	Full        Reason = "full"        // it will not, for a store has no room
	NoShutdown  Reason = "no-shutdown" // the guest does not shut down when it is asked to
	NotFound    Reason = "not-found"   // something that was named is not there
	Unreachable Reason = "unreachable" // whoever does it for the site gave no answer
)

// Settled reports whether the task came to its end.
func (t Task) Settled() bool { return t.State == Done || t.State == Failed }

// Survey is what a site has.
type Survey struct {
	Hosts     []Host     `json:"hosts"`
	Stores    []Store    `json:"stores"`
	Networks  []string   `json:"networks"`
	Folders   []string   `json:"folders"`
	Templates []Template `json:"templates"`
	Machines  []Machine  `json:"machines"`
	// Sealing are copies of which templates are being made, which are nobody's machines; whoever surveys sites sorts
	// them out.
	Sealing []Machine `json:"-"`
	// Inactive names what is there and cannot be used until it is started, as `network
	// survey` or `store bulk`.
	Inactive []string `json:"inactive,omitempty"`
	// Kept are machines that were removed without their disks: their identities are
	// not to be given again.
	Kept []Kept `json:"kept,omitempty"`
	// Places means that the site leaves the choice of host and store, and any
	// name of a folder, to its caller.
	Places bool `json:"places,omitempty"`
	// SideBySide means that different acts on one machine may be requested at the same
	// time.
	SideBySide bool `json:"side_by_side,omitempty"`
}

// Kept is a machine that is gone and whose disks are still there.
type Kept struct {
	ID    uuid.UUID `json:"id"`
	Name  string    `json:"name"`
	Files []string  `json:"files,omitempty"`
}

// Template is a template of the site by its name; nil if it has none.
func (s *Survey) Template(name string) *Template {
	i := slices.IndexFunc(s.Templates, func(t Template) bool { return t.Name == name })
	if i < 0 {
		return nil
	}
	return &s.Templates[i]
}

// Newest are the numbers of the newest versions of the templates that have any.
func (s *Survey) Newest() map[string]int {
	newest := map[string]int{}
	for _, t := range s.Templates {
		if v, is := machine.VersionOf(t.Name); is {
			newest[v.Template] = max(newest[v.Template], v.Number)
		}
	}
	return newest
}

// Down names the hosts that cannot be asked.
func (s *Survey) Down() []string {
	var names []string
	for _, h := range s.Hosts {
		if h.Down != "" {
			names = append(names, h.Name)
		}
	}
	return names
}

// Host runs machines.
type Host struct {
	Name       string       `json:"name"`
	Down       string       `json:"down,omitempty"` // why it cannot be asked; the rest is unknown then
	CPUs       int          `json:"cpus"`
	Memory     machine.Size `json:"memory"`
	FreeMemory machine.Size `json:"free_memory"`
	// Promised is the memory of the machines that run, whether they use it or not.
	Promised  machine.Size `json:"promised_memory,omitempty"`
	Emulators []string     `json:"emulators,omitempty"`
	Firmware  []string     `json:"firmware,omitempty"`
	// Features are SecureBoot and TPM, as far as it has them; nil where that is not reported.
	Features []string `json:"features,omitempty"`
	Networks []string `json:"networks,omitempty"`
	Stores   []string `json:"stores"` // those it reaches
}

// The features of hosts.
const (
	SecureBoot = "secure boot"
	TPM        = "TPM"
)

// Needs are the features that hardware needs of its host.
func Needs(h *machine.Hardware) (needs []string) {
	if h != nil && h.SecureBoot == machine.SwitchOn {
		needs = append(needs, SecureBoot)
	}
	if h != nil && h.TPM == machine.SwitchOn {
		needs = append(needs, TPM)
	}
	return needs
}

// BridgePrefix begins the name of a bridge of the host, among networks.
const BridgePrefix = "bridge:"

// Connects reports whether an adapter can be connected to a network where there
// are those known. Of a bridge that cannot be known where no bridges are reported.
func Connects(known []string, network string) bool {
	if strings.HasPrefix(network, BridgePrefix) && !slices.ContainsFunc(known, func(n string) bool { return strings.HasPrefix(n, BridgePrefix) }) {
		return true
	}
	return slices.Contains(known, network)
}

// Store holds disks. Stores of one name on several hosts are one if they are
// the same place, else each is reported with its host.
type Store struct {
	Name     string       `json:"name"`
	Kind     string       `json:"kind,omitempty"`
	Capacity machine.Size `json:"capacity"`
	Free     machine.Size `json:"free"`
	// Promised is what its disks may still grow by.
	Promised machine.Size `json:"promised,omitempty"`
	Hosts    []string     `json:"hosts,omitempty"` // that reach it
}

// Template is a template as the site has it.
type Template struct {
	Name     string           `json:"name"`
	CPUs     int              `json:"cpus"`
	Memory   machine.Size     `json:"memory"`
	Disk     machine.Size     `json:"disk"` // as the guest sees it
	Used     machine.Size     `json:"used"` // as a full clone takes it
	Format   string           `json:"format,omitempty"`
	Firmware machine.Firmware `json:"firmware,omitempty"`
	Notes    string           `json:"notes,omitempty"`
	Host     string           `json:"host,omitempty"`
	Store    string           `json:"store,omitempty"`
	Hosts    []string         `json:"hosts,omitempty"`   // where linked clones of it can run
	Linked   *int             `json:"linked,omitempty"`  // clones that depend on it; nil if that is not known
	Problem  string           `json:"problem,omitempty"` // why nothing can be cloned from it
	Remark   string           `json:"remark,omitempty"`
	// Changed is when its disk was last changed, in words of the site; empty if it does not tell.
	Changed string `json:"changed,omitempty"`
	// Version is set of a template that was made by this program.
	Version *Version `json:"version,omitempty"`
	// Remarks are about what clones of it cannot have for themselves, or not as it is.
	Remarks []string `json:"remarks,omitempty"`
}

// Version is what a site stores with a template that was made by this program, once it is whole.
type Version struct {
	Ledger uuid.UUID `json:"ledger"`
	Of     string    `json:"of"`     // the template
	Number int       `json:"number"` // from 1 on
	Made   time.Time `json:"made"`
	By     string    `json:"by,omitempty"`
	// Digest is that of what is on its disk (see the package blocks).
	Digest string `json:"digest"`
	// From is what it was made of, in words.
	From  string `json:"from,omitempty"`
	Notes string `json:"notes,omitempty"`
}

// Name is NAME@N.
func (v Version) Name() string { return machine.Version{Template: v.Of, Number: v.Number}.String() }

// TemplateOrder asks for a template to be made of an image of its disk.
type TemplateOrder struct {
	Identity uuid.UUID        `json:"identity"`
	Host     string           `json:"host,omitempty"`
	Store    string           `json:"store,omitempty"`
	CPUs     int              `json:"cpus,omitempty"`
	Memory   machine.Size     `json:"memory,omitempty"`
	Disk     machine.Size     `json:"disk"` // as a guest sees it
	Firmware machine.Firmware `json:"firmware,omitempty"`
	// Like is a machine of the site whose hardware it gets; if there is none, that is Hardware, and where
	// that is nil the site's own choice.
	Like     uuid.UUID         `json:"like,omitzero"`
	Hardware *machine.Hardware `json:"hardware,omitempty"`
	Version  Version           `json:"version"`
}

// Image is one that is written while it is sent; the zero value is none.
type Image struct {
	Size int64
	// WriteTo writes all of it, as often as it is called.
	WriteTo func(w io.Writer) error
}

// Restart says whether a machine that runs may be shut down and started again
// for what it cannot take while it does.
type Restart bool

// Whether it may.
const (
	MayRestart Restart = true
	NoRestart  Restart = false
)

// Disks says what becomes of the disks of a machine that is removed.
type Disks string

// What can become of them.
const (
	DeleteDisks Disks = "delete"
	KeepDisks   Disks = "keep"
	// KeepData keeps the data disks, for another clone that is to have them. Removing the
	// same identity again, with DeleteDisks, deletes them.
	KeepData Disks = "keep-data"
)

// Machine is a machine as the site has it.
type Machine struct {
	ID    uuid.UUID     `json:"id"`
	Name  string        `json:"name"`
	Mark  *Mark         `json:"mark,omitempty"` // nil if it is not ours
	Host  string        `json:"host"`
	Store string        `json:"store"`
	Power machine.Power `json:"power"`
	// Firmware is what starts it; empty where that is not reported.
	Firmware machine.Firmware `json:"firmware,omitempty"`
	machine.Shape
	// Adapters have network and MAC address, and whether they are plugged in; nil
	// where that is not reported.
	Adapters []machine.Card `json:"adapters,omitempty"`
	// Leases are the addresses that DHCP servers keep, by MAC address; nil where that
	// is not reported.
	Leases map[string]string `json:"-"`

	// Unclear is why nothing can be done to it: empty if it is known which machine it is.
	Unclear string `json:"-"`

	Used    machine.Size `json:"used,omitempty"`    // of its store
	Saved   machine.Size `json:"saved,omitempty"`   // by being a linked clone
	Display string       `json:"display,omitempty"` // where its screen is to be seen
	Console []string     `json:"console,omitempty"` // the last lines of its serial console
	// Files are its disks as the site names them, its own first. They are reported
	// of a machine that is asked for by itself.
	Files  []string `json:"files,omitempty"`
	Report *Report  `json:"report,omitempty"` // nil until the guest reports
	// Checkpoints are reported of a machine that is asked for by itself, the oldest first.
	Checkpoints []Checkpoint `json:"checkpoints,omitempty"`
}

// Copied reports whether the mark was written for another machine, from which it came along with a copy. What is sealed has an
// identity of another kind.
func (m *Machine) Copied() bool {
	return m.Mark != nil && m.Mark.Seal == "" && m.Mark.Identity() != m.ID
}

// MarkedName is the name that a machine has by its mark: somebody may have changed it at the site. A
// copy has its own, as has what is not marked.
func (m *Machine) MarkedName() string {
	if m.Mark == nil || m.Copied() || m.Mark.machine().Name == "" {
		return m.Name
	}
	return m.Mark.machine().Name
}

// Checkpoint is a state of a machine that its site keeps.
type Checkpoint struct {
	Name  string    `json:"name"`
	Taken time.Time `json:"taken"`
	// Running means that the machine ran, and goes on where it was.
	Running bool `json:"running,omitempty"`
}

// Has returns the checkpoint of a name, in whatever letter case.
func (m *Machine) Has(name string) (Checkpoint, bool) {
	for _, c := range m.Checkpoints {
		if strings.EqualFold(c.Name, name) {
			return c, true
		}
	}
	return Checkpoint{}, false
}

// Report is what a guest says of itself.
type Report struct {
	Hostname  string              `json:"hostname"`
	FQDN      string              `json:"fqdn,omitempty"`
	Addresses map[string][]string `json:"addresses"`        // by MAC address, with prefix lengths
	Logins    []string            `json:"logins,omitempty"` // nil where they are not told
	DNS       []string            `json:"dns,omitempty"`    // the servers that it asks; nil where they are not told
	// Instance is the identity that the seed which it has read is for; empty where
	// that is not reported.
	Instance string `json:"instance,omitempty"`
	// MachineID is the guest's own (machine-id(5)); empty where it is not reported.
	MachineID string   `json:"machine_id,omitempty"`
	HostKey   string   `json:"host_key,omitempty"`
	Timezone  string   `json:"timezone,omitempty"`
	Finished  bool     `json:"finished"` // the first boot's work is done
	Errors    []string `json:"errors,omitempty"`
	// Stages are those that were begun, in order; StagesOver is set once all were done and
	// the restarts after them, too.
	Stages     []StageReport `json:"stages,omitempty"`
	StagesOver bool          `json:"stages_over,omitempty"`
	// Partial says why this is not the guest's own word, or not all of it.
	Partial string `json:"partial,omitempty"`
}

// StageReport is how a stage of a guest went.
type StageReport struct {
	Name    string   `json:"name"`
	State   string   `json:"state"` // begun, done, failed
	Seconds float64  `json:"seconds,omitempty"`
	Code    int      `json:"code,omitempty"`   // the exit code
	Output  []string `json:"output,omitempty"` // its last lines
}

// TakeStage takes a line of a guest's own log of its stages: what it said of a stage before
// counts no more.
func (r *Report) TakeStage(s StageReport) {
	if s.State == "over" {
		r.StagesOver = true
		return
	}
	for i := range r.Stages {
		if r.Stages[i].Name == s.Name {
			r.Stages[i] = s
			return
		}
	}
	r.Stages = append(r.Stages, s)
}

// CheckKind is what is looked for in a guest.
type CheckKind string

// The kinds of Check.
const (
	File    CheckKind = "file"    // is it there?
	Service CheckKind = "service" // is it active?
	Port    CheckKind = "port"    // does something listen at this TCP port?
	Mount   CheckKind = "mount"   // is a volume mounted there?
)

// Check is something that a guest is expected to have.
type Check struct {
	Kind CheckKind `json:"kind"`
	Name string    `json:"name"`
}

// Lacks says that the guest does not have it.
func (c Check) Lacks() string {
	switch c.Kind {
	case Service:
		return "service " + c.Name + " is not active"
	case Port:
		return "nothing answers at TCP port " + c.Name
	}
	if c.Kind == Mount {
		return "nothing is mounted at " + c.Name
	}
	return "there is no file " + c.Name
}
