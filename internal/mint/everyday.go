package mint

import (
	"context"
	"fmt"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/step"
	"mintbatch/internal/run"
)

// everyday finds made machines that are named, as works of a command that leave all as the
// ledger has it. Those that an earlier run has not finished are refused, unless may lets them.
func (d *Desk) everyday(ctx context.Context, command string, names []string, may func(*proof.Known) bool) (works, refused []proof.Work, err error) {
	known, err := d.Known(ctx, names)
	if err != nil {
		return nil, nil, err
	}
	for i := range known {
		k := &known[i].Known
		w := proof.Work{Key: k.Key, Origin: k.Origin, Generation: k.Generation, Identity: k.ID(d.Ledger.ID), Slim: &k.Slim}
		if w.Refusal = k.Unfinished(); w.Refusal != "" && !may(k) {
			refused = append(refused, w)
			continue
		}
		w.Refusal, w.Begun, w.LeftOff, w.Swept, w.Cleaned = "", k.Open.By(command), k.LeftOff(), k.Swept(), k.Open.Has(step.Clean)
		works = append(works, w)
	}
	return works, refused, nil
}

// PowerAct is what can be done to the power of machines that are made.
type PowerAct string

// The acts.
const (
	PowerOn      PowerAct = "on"
	PowerOff     PowerAct = "off"
	PowerRestart PowerAct = "restart"
)

// Powering is the task of an act on the power of machines. What is shut down on purpose, a
// mint leaves off. A machine that another command has left unfinished may be shut down, but is
// started by a mint only.
func (d *Desk) Powering(ctx context.Context, a PowerAct, names []string, o Order) (Task, error) {
	t := Task{Command: "power " + string(a), Order: o}
	switch a {
	case PowerOn:
		t.do, t.up = (*run.Engine).Start, true
	case PowerOff:
		t.do = (*run.Engine).Stop
	case PowerRestart:
		t.do, t.up = (*run.Engine).Restart, true
	}
	var err error
	t.Works, t.Refused, err = d.everyday(ctx, t.Command, names, func(k *proof.Known) bool {
		return k.State == proof.Made && !k.Open.BeingRenamed() && (a == PowerOff || k.Open.OnlyBy("power "))
	})
	t.Works, t.Refused = d.powered(t.Works, t.Refused)
	return t, err
}

// powered leaves out machines of sites where nothing starts or stops machines.
func (d *Desk) powered(works, refused []proof.Work) (can, cannot []proof.Work) {
	for _, w := range works {
		if d.Setup.Sites[w.Site].Kind == setup.Folder {
			w.Refusal = fmt.Sprintf("site %s is a folder, where only users start and stop machines", w.Site)
			refused = append(refused, w)
			continue
		}
		can = append(can, w)
	}
	return can, refused
}

// PowerQuestion asks before the power of machines is changed.
func (t Task) PowerQuestion(a PowerAct) Question {
	does := map[PowerAct]string{PowerOn: "Start %s?", PowerOff: "Shut %s down?", PowerRestart: "Restart %s?"}[a]
	return Question{Text: fmt.Sprintf(does, finding.Plural(len(t.Works), "machine")), Word: "yes"}
}
