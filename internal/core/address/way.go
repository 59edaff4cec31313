package address

import (
	"fmt"
	"slices"
	"strings"
)

// Way is how the network can be asked whether an address is free.
type Way string

// The ways to look.
const (
	InDNS     Way = "dns"       // is there a name for it (RFC 1035, section 3.5; RFC 3596, section 2.5)?
	Echo      Way = "echo"      // does it answer to an ICMP echo (RFC 792; RFC 4443, section 4)?
	Neighbour Way = "neighbour" // does it answer to ARP (RFC 826) or neighbour discovery (RFC 4861)?
)

// Ways lists all ways, in the order in which they are told.
var Ways = []Way{InDNS, Echo, Neighbour}

// ParseWays reads the names of ways.
func ParseWays(words []string) ([]Way, error) {
	var ways []Way
	for _, word := range words {
		way := Way(strings.ToLower(word))
		if !slices.Contains(Ways, way) {
			return nil, fmt.Errorf("%q is no way to look at an address (known: dns, echo, neighbour)", word)
		}
		if !slices.Contains(ways, way) {
			ways = append(ways, way)
		}
	}
	return ways, nil
}
