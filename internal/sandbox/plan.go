// Package sandbox is the built-in stand-in for a virtualization manager: an
// HTTPS server that speaks the gateway API, with hosts, stores and networks of
// limited size, and guests that read the seeds attached to them.
package sandbox

import (
	"net/netip"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// Plan says what the sandbox consists of. It is kept as plan.json in the
// sandbox's folder, where it may be edited while the sandbox is down.
type Plan struct {
	Sites map[string]SitePlan `json:"sites"`
}

// SitePlan is one site of the sandbox.
type SitePlan struct {
	// Places leaves the choice of host and store to the caller.
	Places    bool           `json:"places,omitempty"`
	Hosts     []HostPlan     `json:"hosts"`
	Stores    []StorePlan    `json:"stores"`
	Networks  []NetworkPlan  `json:"networks"`
	Folders   []string       `json:"folders"`
	Templates []TemplatePlan `json:"templates"`
	// Silent means that the site cannot ask its guests anything.
	Silent bool `json:"silent,omitempty"`
}

// HostPlan is a host, with the stores that it reaches.
type HostPlan struct {
	Name   string       `json:"name"`
	CPUs   int          `json:"cpus"`
	Memory machine.Size `json:"memory"`
	Stores []string     `json:"stores"`
	Down   string       `json:"down,omitempty"` // why it cannot be asked
}

// StorePlan is a store.
type StorePlan struct {
	Name     string       `json:"name"`
	Capacity machine.Size `json:"capacity"`
	// Speed is how much of a full clone the store writes in a second.
	Speed machine.Size `json:"speed"`
	// Media are the names of images in it.
	Media []string `json:"media,omitempty"`
}

// NetworkPlan is a network; its DHCP server, if any, gives out Leases, and its
// router, if any, reports the prefix that it Advertises.
type NetworkPlan struct {
	Name       string       `json:"name"`
	Leases     netip.Prefix `json:"leases,omitzero"`
	Advertises netip.Prefix `json:"advertises,omitzero"`
}

// TemplatePlan is a template.
type TemplatePlan struct {
	Name     string       `json:"name"`
	CPUs     int          `json:"cpus"`
	Memory   machine.Size `json:"memory"`
	Disk     machine.Size `json:"disk"`
	Used     machine.Size `json:"used"`
	Hostname string       `json:"hostname"` // what a guest calls itself without answers
	Problem  string       `json:"problem,omitempty"`
	Remark   string       `json:"remark,omitempty"`
	// What follows is of templates that were made of images.
	Store   string            `json:"store,omitempty"`
	Version *contract.Version `json:"version,omitempty"`
	ID      uuid.UUID         `json:"id,omitzero"`
	Changed time.Time         `json:"changed,omitzero"`
}

// How long things take, before the sandbox's speed divides it.
const (
	linkedCloneTime = 2 * time.Second
	smallTaskTime   = 200 * time.Millisecond
	bootTime        = 12 * time.Second
)

// linkedCloneSize is what a linked clone takes of its store at once.
const linkedCloneSize = 64 * machine.MiB

// DemoPlan is the survey office of the demo: hypervisors ashore and on board.
func DemoPlan() Plan {
	templates := []TemplatePlan{
		{Name: "deb12-base", CPUs: 1, Memory: machine.GiB, Disk: 8 * machine.GiB, Used: 2 * machine.GiB, Hostname: "deb12-base"},
		{Name: "win-chart", CPUs: 2, Memory: 4 * machine.GiB, Disk: 40 * machine.GiB, Used: 8 * machine.GiB, Hostname: "WIN-CHART"},
	}
	networks := []NetworkPlan{
		{Name: "survey", Leases: netip.MustParsePrefix("198.51.100.192/27"), Advertises: netip.MustParsePrefix("2001:db8:b0a7::/64")},
		{Name: "chart", Leases: netip.MustParsePrefix("203.0.113.192/27")},
	}
	return Plan{Sites: map[string]SitePlan{
		"quay": {
			Hosts: []HostPlan{
				{Name: "quay-hv1", CPUs: 32, Memory: 128 * machine.GiB, Stores: []string{"quay-fast", "quay-bulk"}},
				{Name: "quay-hv2", CPUs: 32, Memory: 128 * machine.GiB, Stores: []string{"quay-fast", "quay-bulk"}},
			},
			Stores: []StorePlan{
				{Name: "quay-fast", Capacity: 500 * machine.GiB, Speed: 400 * machine.MiB},
				{Name: "quay-bulk", Capacity: 4 * machine.TiB, Speed: 150 * machine.MiB, Media: []string{"drivers.iso"}},
			},
			Networks:  networks,
			Folders:   []string{"sonar", "tide"},
			Templates: templates,
		},
		"vessel": {
			Hosts:     []HostPlan{{Name: "vessel-hv1", CPUs: 16, Memory: 64 * machine.GiB, Stores: []string{"vessel-disk"}}},
			Stores:    []StorePlan{{Name: "vessel-disk", Capacity: 200 * machine.GiB, Speed: 200 * machine.MiB}},
			Networks:  networks,
			Folders:   []string{"sonar", "tide"},
			Templates: templates,
		},
	}}
}
