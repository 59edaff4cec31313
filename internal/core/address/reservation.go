package address

import (
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// Holder is one adapter of one machine.
type Holder struct {
	Site    string `json:"site,omitempty"`
	Machine string `json:"name,omitempty"`
	Adapter int    `json:"adapter,omitempty"` // counted from 1
}

// is reports whether it is the same machine, whatever the adapter.
func (h Holder) is(other Holder) bool {
	return strings.EqualFold(h.Machine, other.Machine) && h.Site == other.Site && h.Machine != ""
}

// Standing says why an address is not free.
type Standing string

// The standings of a Reservation.
const (
	InUse    Standing = "in use"   // of a machine that is made or being made
	Reserved Standing = "reserved" // for a machine that is yet to be made
	Cooling  Standing = "cooling"  // of a machine that was retired a while ago
	Held     Standing = "held"     // by hand
	Imported Standing = "imported" // of others, by a list
	Seen     Standing = "seen"     // at a site, of a machine that is not ours
)

// Reservation is an address that is not free. An empty pool means that the
// sheet named the address itself; who holds it by hand has no machine.
type Reservation struct {
	Holder
	Network  string     `json:"network"`
	Addr     netip.Addr `json:"address"`
	Pool     string     `json:"pool,omitempty"`
	Standing Standing   `json:"standing"`
	Note     string     `json:"note,omitempty"`
	Since    time.Time  `json:"since,omitzero"`
	Until    time.Time  `json:"until,omitzero"` // zero means for ever
}

// Blocks reports whether the address is still kept from others. One whose time is
// over is only remembered.
func (r Reservation) Blocks(now time.Time) bool { return r.Until.IsZero() || now.Before(r.Until) }

// ofMachine reports whether a machine of ours has or had the address.
func (r Reservation) ofMachine() bool {
	return r.Standing == InUse || r.Standing == Reserved || r.Standing == Cooling || r.Standing == ""
}

// Count reports how many of the addresses have which standing.
func Count(all []Reservation) map[Standing]int {
	counts := map[Standing]int{}
	for _, r := range all {
		counts[r.Standing]++
	}
	return counts
}

// String reports who has the address, as in `held by bms-sonar-01`.
func (r Reservation) String() string {
	until := ""
	if !r.Until.IsZero() {
		until = " until " + r.Until.UTC().Format("2006-01-02 15:04") + " UTC"
	}
	note := ""
	if r.Note != "" {
		note = fmt.Sprintf(" (%s)", r.Note)
	}
	switch r.Standing {
	case Reserved:
		return "reserved for " + r.Machine
	case Cooling:
		return "cooling down after " + r.Machine + until
	case Held:
		return "held by hand" + note + until
	case Imported:
		return "on an imported list" + note + until
	case Seen:
		return fmt.Sprintf("seen at site %s%s", r.Site, note)
	}
	return "held by " + r.Machine
}
