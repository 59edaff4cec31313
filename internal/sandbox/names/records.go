package names

import (
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// records are those of all zones, by their owners in canonical form: there may be many.
type records struct {
	of    map[string][]dns.RR
	text  map[string]string // as they stand in the file
	below map[string]int    // how many owners are a name, or below it
	order []string          // of the owners, as they came; some may have no records any more
}

func newRecords() *records {
	return &records{of: map[string][]dns.RR{}, text: map[string]string{}, below: map[string]int{}}
}

// add adds a record, whatever is there.
func (r *records) add(rr dns.RR) {
	owner := dns.CanonicalName(rr.Header().Name)
	r.set(owner, append(slices.Clone(r.of[owner]), rr))
}

// set has an owner have these records and no others.
func (r *records) set(owner string, all []dns.RR) {
	had := len(r.of[owner]) > 0
	if _, placed := r.of[owner]; !placed {
		r.order = append(r.order, owner)
	}
	r.of[owner] = all
	var b strings.Builder
	for _, rr := range all {
		b.WriteString(rr.String() + "\n")
	}
	r.text[owner] = b.String()
	if has := len(all) > 0; has != had {
		more := 1
		if had {
			more = -1
		}
		for _, at := range dns.Split(owner) {
			r.below[owner[at:]] += more
		}
	}
}

// kind lists those of an owner that are of a type, or all for dns.TypeANY.
func (r *records) kind(owner string, kind uint16) (some []dns.RR) {
	for _, rr := range r.of[dns.CanonicalName(owner)] {
		if kind == dns.TypeANY || rr.Header().Rrtype == kind {
			some = append(some, rr)
		}
	}
	return some
}
