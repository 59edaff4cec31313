package machine

import (
	"net/netip"
	"strconv"
	"strings"
)

// Series puts items together that follow each other in their order.
func Series[T any](items []T, follows func(a, b *T) bool) [][]T {
	var all [][]T
	from := 0
	for i := range items {
		if i+1 == len(items) || !follows(&items[i], &items[i+1]) {
			all = append(all, items[from:i+1:i+1])
			from = i + 1
		}
	}
	return all
}

// NameFollows reports whether a name is the next after another one: bms-sonar-08 after
// bms-sonar-07.
func NameFollows(name, next string) bool {
	prefix, digits := numbered(name)
	nextPrefix, nextDigits := numbered(next)
	n, err := strconv.Atoi(digits)
	following, wrong := strconv.Atoi(nextDigits)
	return err == nil && wrong == nil && prefix == nextPrefix && len(digits) == len(nextDigits) && following == n+1
}

// NameRange writes the names from one to another, which follow each other, as a sheet does:
// bms-sonar-[01-08].
func NameRange(from, to string) string {
	if from == to {
		return from
	}
	prefix, digits := numbered(from)
	return prefix + "[" + digits + "-" + to[len(prefix):] + "]"
}

// NameRanges writes names, those that follow each other as a range.
func NameRanges(names []string) []string {
	var all []string
	for _, s := range Series(names, func(a, b *string) bool { return NameFollows(*a, *b) }) {
		all = append(all, NameRange(s[0], s[len(s)-1]))
	}
	return all
}

// numbered takes the number at a name's end off.
func numbered(name string) (prefix, digits string) {
	prefix = strings.TrimRight(name, "0123456789")
	return prefix, name[len(prefix):]
}

// AddressesFollow reports whether the addresses of adapters are those of others, or each is
// the next one.
func AddressesFollow(a, b []Adapter) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if len(a[i].Addresses) != len(b[i].Addresses) || strings.Join(a[i].Words(), " ") != strings.Join(b[i].Words(), " ") {
			return false
		}
		for k, p := range a[i].Addresses {
			if p.Addr().Next() != b[i].Addresses[k].Addr() {
				return false
			}
		}
	}
	return true
}

// AddressWords writes the addresses of adapters, and the words for those that the network
// assigns.
func AddressWords(adapters []Adapter) []string { return AddressRanges(adapters, adapters) }

// AddressRanges writes the addresses of adapters to those of others, each as a range:
// 198.51.100.11-18.
func AddressRanges(from, to []Adapter) []string {
	var words []string
	for i, a := range from {
		words = append(words, a.Words()...)
		for k, p := range a.Addresses {
			words = append(words, addressRange(p.Addr(), to[i].Addresses[k].Addr()))
		}
	}
	return words
}

func addressRange(from, to netip.Addr) string {
	if from == to {
		return from.String()
	}
	a, b := from.String(), to.String()
	if i := strings.LastIndexByte(a, '.'); i >= 0 && strings.LastIndexByte(b, '.') == i && a[:i] == b[:i] {
		return a + "-" + b[i+1:]
	}
	return a + "-" + b
}
