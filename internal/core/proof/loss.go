package proof

import (
	"fmt"
	"slices"

	"github.com/google/uuid"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
)

// DataDisks says what becomes of the data disks of machines that are cloned again.
type DataDisks bool

// What can become of them.
const (
	LoseDataDisks DataDisks = false
	KeepDataDisks DataDisks = true
)

// old is the clone that a remake replaces.
type old struct {
	spec        *machine.Slim
	host, store string
	data        []uuid.UUID // the origins of its data disks
	doubt       string      // why these may not be all, or not whole; empty if they are
}

// clone is the one that the ledger knows.
func (k *Known) clone(identity uuid.UUID) old {
	return old{&k.Slim, k.Host, k.Store, k.Carried(identity, len(k.Common().Shape.Disks)), ""}
}

// doubted is a clone whose data disks cannot be kept.
func (o old) doubted(why string) old {
	o.doubt = why
	return o
}

const removalStarted = "the removal of its clone was started, so its data disks may be incomplete; remake it without --keep-data"

// setLoss makes the work a remake, and adds what goes with the clone that it removes.
func (w Work) setLoss(of old, why string) Work {
	w.Word, w.old = Remake, &of
	if why != "" {
		w.Reasons = append(w.Reasons, Reason{Text: why})
	}
	w.Reasons = append(slices.Clone(w.Reasons), loses(of.spec.Common().Shape, len(w.Data)))
	return w
}

// loses reports what goes with a clone that is made again, of which some data disks are kept.
func loses(made machine.Shape, kept int) Reason {
	disks := "its disk"
	if made.Disk > 0 {
		disks += " of " + made.Disk.String()
	}
	switch n := len(made.Disks) - kept; {
	case n == 1 && kept == 0:
		disks += " and its data disk"
	case n > 0 && kept == 0:
		disks += fmt.Sprintf(" and its %d data disks", n)
	case n > 0:
		disks += " and " + finding.Plural(n, "data disk")
	}
	text := "the contents of " + disks + " will be lost"
	if kept > 0 {
		text += fmt.Sprintf("; %s kept", areKept(kept))
	}
	return Reason{Text: text}
}

func areKept(n int) string {
	if n == 1 {
		return "its data disk is"
	}
	return fmt.Sprintf("its %d data disks are", n)
}

// keepData lets the next clone have the data disks of the one that it replaces. Where it
// cannot have them, the work is refused.
func (w Work) keepData() Work {
	has := w.old.spec.Common().Shape
	if len(has.Disks) == len(w.Data) { // there are none, or all are kept already
		return w
	}
	if w.old.doubt != "" {
		w.Refusal = w.old.doubt
		return w
	}
	if why := w.old.unfit(w.Common()); why != "" {
		w.Refusal = why + ": its data disks can be kept only as they are, or larger"
		return w
	}
	last := loses(has, len(w.Data))
	w.Data, w.Lost = w.old.data, nil
	w.Reasons = slices.Clone(w.Reasons)
	for i, r := range w.Reasons {
		if r == last {
			w.Reasons[i] = loses(has, len(w.Data))
		}
	}
	return w
}

// unfit says why the data disks cannot be those that a row wants; empty if they can.
func (o old) unfit(to *machine.Spec) string {
	for _, is := range []struct{ what, at, wanted string }{{"host", o.host, to.Clone.Host}, {"store", o.store, to.Clone.Store}} {
		if is.at != "" && is.wanted != "" && is.at != is.wanted {
			return fmt.Sprintf("it is at %s %s, the row says %s", is.what, is.at, is.wanted)
		}
	}
	has, wanted := o.spec.Common().Shape.Disks, to.Shape.Disks
	if len(wanted) < len(has) {
		return fmt.Sprintf("it has %s, the row %d", finding.Plural(len(has), "data disk"), len(wanted))
	}
	for i, d := range has {
		switch to := wanted[i]; {
		case to.Size < d.Size:
			return fmt.Sprintf("its data disk %d has %s, the row says %s", i+1, d.Size, to.Size)
		case to.Store != d.Store:
			return fmt.Sprintf("its data disk %d is in %s, the row says %s", i+1, storeWord(d.Store), storeWord(to.Store))
		}
	}
	return ""
}

func storeWord(name string) string {
	if name == "" {
		return "the machine's store"
	}
	return "store " + name
}
