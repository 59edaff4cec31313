package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/proof"
)

// entries says what is to be entered in the systems around machines.
func entries(all proof.Proof) string {
	names, machines := map[string]int{}, map[string]int{}
	for _, w := range all.Works {
		seen := map[string]bool{}
		for _, item := range w.Entries {
			names[item.System]++
			if !seen[item.System] {
				seen[item.System] = true
				machines[item.System]++
			}
		}
	}
	var parts []string
	for _, system := range slices.Sorted(maps.Keys(names)) {
		parts = append(parts, fmt.Sprintf("%s of %s in %s", finding.Plural(names[system], "name"), finding.Plural(machines[system], "machine"), system))
	}
	if len(parts) == 0 {
		return ""
	}
	return "to be entered: " + strings.Join(parts, ", ")
}

// listEntries lists what is to be entered for a few machines.
func listEntries(w io.Writer, p painter, all proof.Proof) {
	var cells [][]string
	for _, work := range all.Works {
		for _, item := range work.Entries {
			cells = append(cells, []string{item.System, visible(item.String())})
		}
	}
	if len(cells) > 0 {
		rows(w, p, []string{"in", "to be entered"}, cells)
		fmt.Fprintln(w)
	}
}

// fewEntries is how many entries are listed one by one.
const fewEntries = 12

// showWithdrawn says what is taken out of the systems around machines that are retired.
func (a *App) showWithdrawn(c *cli.Command, items []entry.Item) {
	switch {
	case len(items) == 0:
		return
	case c.Bool("leave-entries"):
		fmt.Fprintf(a.Stdout, "%s of theirs are left where they are entered\n", finding.Plural(len(items), "name"))
		return
	}
	bySystem := map[string][]string{}
	for _, item := range items {
		bySystem[item.System] = append(bySystem[item.System], visible(item.Name))
	}
	for _, system := range slices.Sorted(maps.Keys(bySystem)) {
		names := bySystem[system]
		text := finding.Plural(len(names), "name") + " will be taken out of " + system
		if len(names) <= fewEntries {
			text += ": " + strings.Join(names, " ")
		}
		paragraph(a.Stdout, "", text)
	}
}
