package address

// Probe is a way to ask whether an address is in use.
type Probe string

// The probes.
const (
	DNS  Probe = "dns"  // is there a name for it (RFC 1035, section 3.5; RFC 3596, section 2.5)?
	Ping Probe = "ping" // does it answer to an ICMP echo (RFC 792; RFC 4443, section 4)?
	ARP  Probe = "arp"  // does it answer to ARP (RFC 826) or neighbour discovery (RFC 4861)?
)

// Words lists the probes.
func (Probe) Words() []string { return []string{string(DNS), string(Ping), string(ARP)} }
