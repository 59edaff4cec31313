package mint

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/answers/unattend"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// Acceptance says whether a machine is, by its guest's own view, what its row says
// although it was made otherwise.
type Acceptance struct {
	machine.Key
	Agrees bool `json:"agrees"`
	// Why not, in what the guest or its site has; empty if they agree.
	Why string `json:"why,omitempty"`
	// Changes are what the ledger takes over, Unseen those of them that nobody but
	// the operator can vouch for.
	Changes []proof.Reason `json:"changes,omitempty"`
	Unseen  []proof.Reason `json:"unseen,omitempty"`

	work proof.Work
}

// Nothing reports whether there is nothing to take over.
func (a Acceptance) Nothing() bool { return a.Agrees && len(a.Changes) == 0 }

// Acceptable asks the guests of the machines named for their own view, and holds it
// against their rows. Nothing is changed. It also returns the plan of these machines.
func (d *Desk) Acceptable(ctx context.Context, names []string) ([]Acceptance, *plan.Plan, error) {
	p, err := d.Make(ctx, plan.Request{Names: names, Contact: plan.Online})
	if err != nil {
		return nil, nil, err
	}
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return nil, nil, err
	}
	is := map[machine.Key]ledger.Machine{}
	for _, k := range known {
		is[k.Key] = k
	}
	var all []Acceptance
	for _, w := range p.Works {
		if w.Word == proof.Stray {
			continue
		}
		all = append(all, d.acceptance(ctx, w, is[w.Key]))
	}
	return all, p, nil
}

func (d *Desk) acceptance(ctx context.Context, w proof.Work, k ledger.Machine) Acceptance {
	a := Acceptance{Key: w.Key}
	if w.Slim == nil || k.State != proof.Made || len(k.Open) > 0 || w.Word == proof.New || w.Word == proof.Taken || w.Refusal != "" {
		a.Why = strings.TrimSuffix(fmt.Sprintf("%s; %s", w.Word, w.Why()), "; ")
		return a
	}
	to := proof.Accept(k.Spec(), w.Wanted().Spec)
	a.Changes, a.Unseen = append(append([]proof.Reason{}, to.Shown...), to.Unseen...), to.Unseen
	if len(to.Never) > 0 {
		words := make([]string, len(to.Never))
		for i, r := range to.Never {
			words[i] = r.String()
		}
		a.Why = "only a remake can change " + strings.Join(words, "; ")
		return a
	}
	if len(a.Changes) == 0 {
		a.Agrees = true
		return a
	}
	id := k.ID(d.Ledger.ID)
	if err := d.agrees(ctx, k, &machine.Machine{Key: k.Key, Spec: to.Spec}); err != nil {
		a.Why = err.Error()
		return a
	}
	a.Agrees = true
	a.work = proof.Work{Key: w.Key, Origin: k.Origin, Slim: to.Spec.Slim(), Generation: k.Generation, Identity: id, Accepted: true}
	return a
}

// agrees reports in what a machine, as its site and its guest show it, is not as
// wanted; nil if in nothing.
func (d *Desk) agrees(ctx context.Context, k ledger.Machine, wanted *machine.Machine) error {
	id := k.ID(d.Ledger.ID)
	opened, err := d.Sites.Site(k.Site)
	if err != nil {
		return err
	}
	m, err := opened.Machine(ctx, id)
	switch {
	case errors.Is(err, site.ErrNotFound):
		return errors.New("it no longer exists at the site")
	case err != nil:
		return err
	}
	if wrong := placedOtherwise(m, wanted); wrong != "" {
		return errors.New(wrong)
	}
	if !kinds.Of(wanted.Guest).Reads() {
		return nil
	}
	switch {
	case m.Power == machine.Off:
		return errors.New("it is off, so its guest cannot be queried; start it first")
	case m.Report == nil:
		return errors.New("the guest does not respond")
	case !m.Report.Finished:
		return errors.New("the guest is still booting")
	case m.Report.Partial != "":
		return fmt.Errorf("the guest cannot be queried: %s", m.Report.Partial)
	}
	hostKey, err := d.Ledger.HostKey(ctx, k.Key)
	if err != nil {
		return err
	}
	err = errors.Join(run.Mismatch(wanted, machine.AtFirstBoot(wanted.Adapters), hostKey, m.Report), run.Reads(wanted, id, m.Report))
	switch zone, is := wanted.Guest.Timezone, m.Report.Timezone; {
	case zone == "", unattend.SameZone(zone, is):
	case is != "":
		err = errors.Join(err, fmt.Errorf("its time zone is %s, expected %s", is, zone))
	case zone != k.Spec().Guest.Timezone:
		err = errors.Join(err, errors.New("the guest does not report its time zone"))
	}
	for _, old := range remainingAddresses(k.Spec(), wanted.Spec, m.Report) {
		err = errors.Join(err, fmt.Errorf("it still has the address %s", old))
	}
	if err != nil {
		return errors.New(strings.ReplaceAll(err.Error(), "\n", "; "))
	}
	return nil
}

// placedOtherwise reports in what a machine is not where, or not connected as, it is
// wanted; empty if in nothing.
func placedOtherwise(m *contract.Machine, wanted *machine.Machine) string {
	var wrong []string
	differs := func(what, has, wants string) {
		if wants != "" && has != "" && !strings.EqualFold(has, wants) {
			wrong = append(wrong, fmt.Sprintf("its %s is %s, expected %s", what, has, wants))
		}
	}
	differs("host", m.Host, wanted.Clone.Host)
	differs("store", m.Store, wanted.Clone.Store)
	differs("firmware", string(m.Firmware), string(wanted.Clone.Firmware))
	for i, card := range machine.Cards(wanted.Adapters) {
		if m.Adapters == nil {
			break
		}
		if i >= len(m.Adapters) {
			wrong = append(wrong, fmt.Sprintf("it has no adapter %d", i+1))
			continue
		}
		differs(fmt.Sprintf("network of adapter %d", i+1), m.Adapters[i].Network, card.Network)
		differs(fmt.Sprintf("MAC address of adapter %d", i+1), m.Adapters[i].MAC, card.MAC)
	}
	return strings.Join(wrong, "; ")
}

// remainingAddresses lists the addresses that a machine was made with, that it is not to have any
// more, and that its guest still reports.
func remainingAddresses(made, wanted machine.Spec, r *contract.Report) []string {
	has := map[netip.Addr]bool{}
	for _, texts := range r.Addresses {
		for _, text := range texts {
			if p, err := netip.ParsePrefix(text); err == nil {
				has[p.Addr()] = true
			}
		}
	}
	addresses := func(s machine.Spec) (all []netip.Addr) {
		for _, a := range s.Adapters {
			for _, p := range a.Given() {
				all = append(all, p.Addr())
			}
		}
		return all
	}
	keeps := addresses(wanted)
	var still []string
	for _, a := range addresses(made) {
		if has[a] && !slices.Contains(keeps, a) {
			still = append(still, a.String())
		}
	}
	return still
}

// Accepting is the task of recording the machines that agree.
func Accepting(command string, all []Acceptance, p *plan.Plan) Task {
	t := Task{Command: command, plan: p, do: (*run.Engine).Accept}
	for _, a := range all {
		if a.Agrees && !a.Nothing() {
			t.Works = append(t.Works, a.work)
		}
	}
	return t
}
