package unattend

import (
	_ "embed"
	"strings"
	"sync"
)

// zoneTable is the Unicode CLDR's table of Windows' time zones, in lines of
// Windows' name and those of the IANA database, aliases and later names included. It is
// distributed under the Unicode licence, which docs/licences.md holds.
//
//go:embed zones.txt
var zoneTable string

var zones = sync.OnceValue(func() map[string]string {
	all := map[string]string{}
	for line := range strings.Lines(zoneTable) {
		windows, names, _ := strings.Cut(strings.TrimSpace(line), "\t")
		for _, name := range strings.Fields(names) {
			all[name] = windows
		}
	}
	return all
})

// Zone returns Windows' name of an IANA time zone.
func Zone(name string) (windows string, known bool) {
	windows, known = zones()[name]
	return windows, known
}

// SameZone reports whether a guest that names its time zone so has the one that was
// asked for, by its IANA name: Windows has names of its own, and UTC has many.
func SameZone(asked, guest string) bool {
	windows, known := Zone(asked)
	return asked == guest || known && (windows == guest || windows == "UTC" && zones()[guest] == windows)
}
