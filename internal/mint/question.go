package mint

import (
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/proof"
)

// Question is what is asked before something is done.
type Question struct {
	// Before is said first.
	Before string
	// Text names what will happen, and what is lost.
	Text string
	// Word confirms it.
	Word string
}

// manyMachines is from how many on a mere yes is too easily said.
const manyMachines = 10

// wordFor is what has to be typed before so many machines lose their disks.
func wordFor(losses int) string {
	if losses > manyMachines {
		return fmt.Sprint(losses)
	}
	return "yes"
}

// MintQuestion names what a task will change, restart and delete.
func (t Task) MintQuestion() Question {
	made, changed, losses, kept, restarts, maybe := 0, 0, 0, 0, 0, 0
	for _, w := range t.Works {
		switch w.Word {
		case proof.New:
			made++
		case proof.Remake:
			losses++
			kept += len(w.Data)
		default:
			changed++
			restart := func(is func(proof.Reason) bool) bool { return slices.ContainsFunc(w.Reasons, is) }
			if restart(func(r proof.Reason) bool { return r.Restart }) {
				restarts++
			} else if restart(func(r proof.Reason) bool { return r.MayRestart }) {
				maybe++
			}
		}
	}
	var parts []string
	add := func(n int, word string) {
		if n > 0 {
			parts = append(parts, finding.Plural(n, word))
		}
	}
	add(made, "new machine")
	add(changed, "change")
	add(restarts, "restart")
	add(maybe, "possible restart")
	if losses > 0 {
		but := ""
		if kept > 0 {
			but = ", but for " + finding.Plural(kept, "data disk")
		}
		parts = append(parts, fmt.Sprintf("the contents of the disks of %s will be lost%s", finding.Plural(losses, "machine"), but))
	} else {
		parts = append(parts, "nothing lost")
	}
	return Question{Text: fmt.Sprintf("%s %s (%s)?", strings.ToUpper(t.Command[:1])+t.Command[1:], finding.Plural(len(t.Works), "machine"), strings.Join(parts, ", ")), Word: wordFor(losses)}
}

// RetireQuestion asks before machines are deleted.
func (t Task) RetireQuestion() Question {
	return Question{Text: fmt.Sprintf("Retire %s?", finding.Plural(len(t.Works), "machine")), Word: wordFor(len(t.Works))}
}

// AcceptQuestion asks before what machines are is recorded.
func (t Task) AcceptQuestion() Question {
	return Question{Text: fmt.Sprintf("Record the rows of %s as what these machines are?", finding.Plural(len(t.Works), "machine")), Word: "yes"}
}
