package machine

import (
	"cmp"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"
)

// Key names a machine for ever: a site has at most one machine of a name.
type Key struct {
	Site string `json:"site"`
	Name string `json:"name"`
}

// String writes the key as site/name.
func (k Key) String() string { return k.Site + "/" + k.Name }

// Compare sorts keys by site and name.
func (k Key) Compare(o Key) int {
	return cmp.Or(strings.Compare(k.Site, o.Site), strings.Compare(k.Name, o.Name))
}

// Identity is what a site knows a machine by. It is a name-based UUID (RFC
// 9562, section 5.5) of the ledger's own id, the key and the generation, so
// that whoever asks again after a crash asks for the same machine.
//
// The generation counts how often the machine was cloned: a remade machine is
// another machine to its site and to cloud-init.
func Identity(ledger uuid.UUID, key Key, generation int) uuid.UUID {
	var room [128]byte
	text := append(append(room[:0], ledger[:]...), "machine\x00"...)
	text = append(append(text, key.Site...), 0)
	text = append(append(text, key.Name...), 0)
	sum := sha1.Sum(strconv.AppendInt(text, int64(generation), 10))
	id := uuid.UUID(sum[:16])
	id[6], id[8] = id[6]&0x0f|0x50, id[8]&0x3f|0x80 // version and variant
	return id
}

// mostGenerations is how often a machine may have been cloned for its identity to
// be recognized without a mark.
const mostGenerations = 1000

// GenerationOf finds the generation of a machine that has an identity; 0 if it is
// another ledger's.
func GenerationOf(ledger uuid.UUID, key Key, identity uuid.UUID) int {
	for generation := 1; generation <= mostGenerations; generation++ {
		if Identity(ledger, key, generation) == identity {
			return generation
		}
	}
	return 0
}

// Origin says what of a machine bears other names than its own: that of the machine which
// it was before it was renamed, and those of the clones that its data disks come from.
type Origin struct {
	// Born is the name that its identity derives from; empty if that is its own.
	Born string `json:"born,omitempty"`
	// Former are the names that it had, also before it was last cloned again.
	Former []string `json:"former,omitempty"`
	// Data are the identities of the clones that its first data disks were made for;
	// all zeros is its own. Those that are not listed are its own.
	Data []uuid.UUID `json:"data,omitempty"`
}

// IsZero reports whether all has the machine's own names.
func (o Origin) IsZero() bool { return o.Born == "" && len(o.Former)+len(o.Data) == 0 }

// Names are all that the machine has and had.
func (o Origin) Names(key Key) []string {
	names := append([]string{key.Name}, o.Former...)
	if o.Born != "" && !slices.Contains(names, o.Born) {
		names = append(names, o.Born)
	}
	return names
}

// Renamed is the origin of a machine that gets another name.
func (o Origin) Renamed(from, to string) Origin {
	if o.Born == "" {
		o.Born = from
	}
	if o.Born == to {
		o.Born = ""
	}
	o.Former = slices.DeleteFunc(append(slices.Clone(o.Former), from), func(name string) bool { return name == to })
	return o
}

// Identity is the identity of a generation that has this origin.
func (o Origin) Identity(ledger uuid.UUID, key Key, generation int) uuid.UUID {
	if o.Born != "" {
		key.Name = o.Born
	}
	return Identity(ledger, key, generation)
}

// IsHandedOn reports whether a data disk, counted from 0, was made for another clone.
func (o Origin) IsHandedOn(i int) bool { return i < len(o.Data) && o.Data[i] != uuid.Nil }

// Carried are the origins of n data disks which a clone of this origin and identity hands
// on to its successor.
func (o Origin) Carried(identity uuid.UUID, n int) []uuid.UUID {
	all := slices.Repeat([]uuid.UUID{identity}, n)
	for i := range min(n, len(o.Data)) {
		if o.IsHandedOn(i) {
			all[i] = o.Data[i]
		}
	}
	return all
}

// MAC gives the n-th adapter (counted from 1) its hardware address: unicast, and
// with the prefix given or else locally administered (IEEE 802, section 8.4);
// the same for ever, also after a remake. Where another adapter has it already,
// the next try gives another.
func MAC(ledger uuid.UUID, key Key, n int, prefix MACPrefix, try int) net.HardwareAddr {
	text := ledger.String() + "\x00adapter\x00" + key.Site + "\x00" + key.Name + "\x00" + strconv.Itoa(n)
	if try > 0 {
		text += "\x00" + strconv.Itoa(try)
	}
	sum := sha256.Sum256([]byte(text))
	mac := net.HardwareAddr(sum[:6])
	if copy(mac, prefix.bytes[:prefix.n]) == 0 {
		mac[0] = mac[0]&^0x01 | 0x02
	}
	return mac
}

// MACPrefix is how MAC addresses begin: their first one to four bytes. Its zero value
// is none.
type MACPrefix struct {
	bytes [4]byte
	n     int
}

// UnmarshalText reads a prefix such as 52:54:00. That of a group address is refused.
func (p *MACPrefix) UnmarshalText(text []byte) error {
	prefix, err := hex.DecodeString(strings.NewReplacer(":", "", "-", "").Replace(string(text)))
	switch {
	case err != nil || len(prefix) == 0 || len(prefix) > 4:
		return fmt.Errorf("%w: %q is not a prefix of one", ErrMAC, text)
	case prefix[0]&1 != 0:
		return fmt.Errorf("%w: %q is a multicast prefix", ErrMAC, text)
	}
	p.n = copy(p.bytes[:], prefix)
	return nil
}

// Expects describes a prefix.
func (MACPrefix) Expects() string { return "the first bytes of a MAC address, such as 52:54:00" }

// String writes the prefix with colons.
func (p MACPrefix) String() string { return net.HardwareAddr(p.bytes[:p.n]).String() }

// ErrMAC is what every failure of ParseMAC unwraps to.
var ErrMAC = errors.New("not a MAC address")

// ParseMAC reads a 48-bit hardware address in any usual form and returns it in
// the one with colons. A group address (IEEE 802, section 8.2.2) is refused.
func ParseMAC(s string) (string, error) {
	mac, err := net.ParseMAC(s)
	switch {
	case err != nil || len(mac) != 6:
		return "", fmt.Errorf("%w: %q", ErrMAC, s)
	case mac[0]&1 != 0:
		return "", fmt.Errorf("%w: %q is a multicast address", ErrMAC, s)
	}
	return mac.String(), nil
}
