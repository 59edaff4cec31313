package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/sites"
)

// addSources adds the machines that others are to be cloned from to the templates of their
// sites. Only a site that is asked about one by itself tells its checkpoints.
func (p *Planner) addSources(ctx context.Context, asked sites.Surveys) error {
	for _, w := range p.Wanted {
		name := w.Spec().Clone.Template
		source, is := machine.SourceOf(name)
		answer := asked[w.Site]
		if !is || answer == nil || slices.ContainsFunc(answer.Templates, func(t contract.Template) bool { return t.Name == name }) {
			continue
		}
		i := slices.IndexFunc(answer.Machines, func(m contract.Machine) bool { return strings.EqualFold(m.Name, source.Name) })
		if i < 0 {
			continue // which is told where it is missing
		}
		m := &answer.Machines[i]
		t := contract.Template{Name: name, CPUs: m.CPUs, Memory: m.Memory, Disk: m.Disk, Used: max(m.Used, m.Saved), Firmware: m.Firmware, Host: m.Host, Store: m.Store, Hosts: []string{m.Host}}
		switch {
		case source.Checkpoint != "":
			one, err := p.Sites.Machine(ctx, w.Site, m.ID)
			if err != nil {
				return fmt.Errorf("site %s: machine %s, which is to be cloned: %w", w.Site, m.Name, err)
			}
			kept, has := one.Has(source.Checkpoint)
			if !has {
				t.Problem = fmt.Sprintf("machine %s has no checkpoint %s", m.Name, source.Checkpoint)
			}
			if kept.Running {
				t.Remarks = []string{"the checkpoint was kept while it ran, and clones do not get its memory: they start as after a power cut"}
			}
		case m.Power == machine.On:
			t.Problem = fmt.Sprintf("machine %s is running: shut it down, or name a checkpoint of it", m.Name)
		}
		answer.Templates = append(answer.Templates, t)
	}
	return nil
}

// awaitSources refuses machines that are to be cloned from others which the same plan makes or
// changes.
func awaitSources(works []proof.Work) {
	changes := map[machine.Key]bool{}
	for _, w := range works {
		if w.Word == proof.New || w.Word == proof.Remake || w.Word == proof.Adjust {
			changes[machine.Key{Site: w.Site, Name: strings.ToLower(w.Name)}] = true
		}
	}
	for i, w := range works {
		if w.Word != proof.New && w.Word != proof.Remake || w.Slim == nil {
			continue
		}
		if source, is := machine.SourceOf(w.Common().Clone.Template); is && changes[machine.Key{Site: w.Site, Name: strings.ToLower(source.Name)}] {
			works[i].Refusal = fmt.Sprintf("it is cloned from %s, which is to be made or changed first; run the command again then", source.Name)
		}
	}
}
