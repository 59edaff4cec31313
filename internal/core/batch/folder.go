package batch

import (
	"fmt"

	"mintbatch/internal/core/filename"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
)

// inFolder checks what cannot be of a machine at a site that is a folder: there is nothing there that starts machines, or that knows
// whether they run.
func (b *builder) inFolder(w *Wanted, spec *machine.Spec, r *row, cell Origin) {
	if b.setup.Sites[w.Site].Kind != setup.Folder {
		return
	}
	if err := filename.Check(w.Name); err != nil {
		b.bad("bad-name", cell, err.Error(), "a machine of a folder is a folder of its name; choose one that every system can give to files")
	}
	home := spec.Guest.Confirm == machine.CallHome
	switch {
	case spec.Power.Starts() && !home:
		b.bad("bad-power", r.cell("power"), fmt.Sprintf("site %s is a folder, where nothing starts machines or asks their guests", w.Site), "write power: off; or confirm: call-home, and have the machine started by its user while the run waits")
	case spec.Power == machine.ConfirmThenOff:
		b.bad("bad-power", r.cell("power"), fmt.Sprintf("site %s is a folder, where nothing shuts machines down", w.Site), "write power: on, or off")
	case spec.Power.Starts() && !b.byHand[w.Site]:
		b.byHand[w.Site] = true
		o := r.cell("power")
		b.add(finding.Finding{Severity: finding.Note, Code: "started-by-user", At: o.At, Value: o.Value, Message: fmt.Sprintf("site %s is a folder: the run waits until the users of its machines have started them, and the guests have called", w.Site)})
	}
	if spec.Checkpoint != "" {
		b.bad("bad-checkpoint", r.cell("checkpoint"), fmt.Sprintf("site %s is a folder, which keeps no checkpoints", w.Site), "leave it empty")
	}
	if spec.Media != "" {
		b.bad("bad-media", r.cell("media"), fmt.Sprintf("site %s is a folder, which has no store with media", w.Site), "leave it empty")
	}
	if spec.Clone.Kind == machine.Linked && string(b.setup.Sites[w.Site].Format) == formats.Raw {
		b.bad("bad-clone", r.cell("clone"), fmt.Sprintf("the disks of site %s are raw, and depend on no others", w.Site), "write clone: full")
	}
}
