package cli

import "mintbatch/internal/layout"

// shown says how the columns of all views are fitted to a terminal, by their headings: what
// becomes of a cell without room, and which columns go first. A column that is not listed is
// shown as it is.
var shown = map[string]layout.Column{
	"why": {Kind: layout.Below}, "what": {Kind: layout.Words}, "why not": {Kind: layout.Below},

	"addresses": {Kind: layout.Words}, "detail": {Kind: layout.Words}, "changes": {Kind: layout.Words}, "guest and row": {Kind: layout.Words},
	"outcome": {Kind: layout.Words}, "value": {Kind: layout.Words}, "note": {Kind: layout.Words}, "kept disk": {Kind: layout.Words}, "pools": {Kind: layout.Words},

	"site": {Level: 1}, "result": {Level: 0}, "where": {Kind: layout.Middle, Level: 1}, "started": {Level: 1},
	"template": {Kind: layout.Middle, Level: 2}, "clone": {Level: 2}, "took": {Level: 2}, "user": {Level: 2}, "disk": {Level: 2}, "power": {Level: 2}, "waited": {Level: 2},
	"host": {Kind: layout.Middle, Level: 3}, "folder": {Kind: layout.Middle, Level: 3}, "cpus": {Level: 3}, "memory": {Level: 3}, "owner": {Kind: layout.Middle, Level: 3},
	"identity": {Level: 3}, "on": {Level: 3}, "run": {Level: 1}, "hosts": {Kind: layout.Words, Level: 2}, "preset": {Kind: layout.Middle, Level: 2},
	"changed": {Level: 4}, "store": {Kind: layout.Middle, Level: 4}, "disks": {Level: 4}, "until": {Level: 4}, "emulators": {Kind: layout.Words, Level: 4}, "firmware": {Level: 4}, "format": {Level: 3}, "linked": {Level: 3},
	"used": {Level: 5}, "saved": {Level: 5}, "checkpoint": {Kind: layout.Middle, Level: 5}, "labels": {Kind: layout.Words, Level: 5}, "promised": {Level: 3}, "after": {Level: 1}, "capacity": {Level: 1}, "received": {Level: 2},
}

// columnsOf are the columns of some headings.
func columnsOf(headings []string) []layout.Column {
	all := make([]layout.Column, len(headings))
	for i, h := range headings {
		all[i] = shown[h]
		all[i].Heading = h
	}
	return all
}
