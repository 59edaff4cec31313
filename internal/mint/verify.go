package mint

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// Verdict says whether a machine of the sheet answers as the sheet says.
type Verdict struct {
	machine.Key
	OK  bool   `json:"ok"`
	Why string `json:"why,omitempty"` // why not
	// Note reports in what its row has changed since its first boot.
	Note string `json:"note,omitempty"`
}

// Describe writes descriptions of machines anew that lie beside their disks and are missing, or were changed.
func (d *Desk) Describe(ctx context.Context, names []string) error {
	known, err := d.Known(ctx, names)
	if err != nil {
		return err
	}
	for _, k := range known {
		at, err := d.Sites.Site(k.Site)
		if err != nil {
			return err
		}
		if inspector, can := at.(site.Inspector); can && k.State == proof.Made {
			if err := inspector.WriteDescriptions(ctx, k.ID(d.Ledger.ID)); err != nil {
				return fmt.Errorf("%s: %w", k.Name, err)
			}
		}
	}
	return nil
}

// Verify asks every machine of the sheet whose name matches, through its site,
// how it is. Nothing is changed. Strays are machines of the ledger that no row asks for.
func (d *Desk) Verify(ctx context.Context, names []string) (verdicts []Verdict, strays []machine.Key, err error) {
	p, err := d.Make(ctx, plan.Request{Names: names, Contact: plan.Online})
	if err != nil {
		return nil, nil, err
	}
	var asked []proof.Work
	for _, w := range p.Works {
		if w.Word == proof.Stray {
			strays = append(strays, w.Key)
		} else {
			asked = append(asked, w)
		}
	}
	verdicts = make([]Verdict, len(asked))
	reports := make([]*contract.Report, len(asked))
	d.sideBySide(asked, func(i int, at site.Site, err error) {
		w := asked[i]
		verdicts[i] = Verdict{Key: w.Key, OK: true}
		if err == nil {
			reports[i], err = d.verify(ctx, at, w)
		}
		if err != nil {
			verdicts[i] = Verdict{Key: w.Key, Why: err.Error()}
		}
		if reports[i] == nil && verdicts[i].OK && w.Spec().Guest.Confirm == machine.CallHome && w.Spec().Power.Rests() == machine.On {
			verdicts[i].Note = "its site knows nothing of its guest, which called home when it was made"
		}
		if w.Word == proof.Dated {
			verdicts[i].Note = "dated: " + w.Why()
		}
	})
	shared(verdicts, reports)
	if err := d.verifyEntries(ctx, verdicts); err != nil {
		return nil, nil, err
	}
	return verdicts, strays, ctx.Err()
}

// shared reports guests that have in common what each should have for itself.
func shared(verdicts []Verdict, reports []*contract.Report) {
	for _, part := range []struct {
		what string
		of   func(*contract.Report) string
	}{{"machine id", func(r *contract.Report) string { return r.MachineID }}, {"SSH host key", func(r *contract.Report) string { return r.HostKey }}} {
		first := map[string]int{}
		for i, r := range reports {
			if r == nil || part.of(r) == "" {
				continue
			}
			other, twice := first[part.of(r)]
			if !twice {
				first[part.of(r)] = i
				continue
			}
			for _, pair := range [][2]int{{i, other}, {other, i}} {
				verdicts[pair[0]].add(fmt.Sprintf("its %s is also that of %s: the template was not generalized", part.what, verdicts[pair[1]].Name))
			}
		}
	}
}

// verify reports in what one machine is not as the sheet says; nil if in nothing. It
// returns what the guest reports, if it was asked.
func (d *Desk) verify(ctx context.Context, at site.Site, w proof.Work) (*contract.Report, error) {
	m, err := find(ctx, at, w)
	if inspector, can := at.(site.Inspector); err == nil && m != nil && can {
		faults, err := inspector.Faults(ctx, w.Identity)
		if err == nil && len(faults) > 0 {
			err = errors.New(strings.Join(faults, "; "))
		}
		if err != nil {
			return nil, err
		}
	}
	if err != nil || m == nil || m.Power == machine.Off || m.Report == nil {
		return nil, err
	}
	return m.Report, d.matches(ctx, at, w, m.Report)
}

// find asks the site for a machine; nil if it needs none.
func find(ctx context.Context, at site.Site, w proof.Work) (*contract.Machine, error) {
	switch w.Word {
	case proof.Same, proof.Dated:
	case proof.New:
		return nil, errors.New(strings.TrimSuffix("not made; "+w.Why(), "; "))
	default:
		return nil, fmt.Errorf("%s; %s", w.Word, w.Why())
	}
	m, err := at.Machine(ctx, w.Identity)
	switch {
	case errors.Is(err, site.ErrNotFound):
		return nil, errors.New("no longer at the site")
	case err != nil:
		return nil, err
	case m.Power != "" && m.Power != w.Spec().Power.Rests():
		return nil, errors.New(strings.TrimSuffix(fmt.Sprintf("it is %s, expected %s; %s", m.Power, w.Spec().Power.Rests(), w.LeftOff), "; "))
	case len(w.Drift) > 0:
		return nil, errors.New(w.Why())
	case m.Power == machine.Off, m.Power == "" && w.Spec().Power == machine.Off:
		return m, nil
	case m.Report == nil && w.Spec().Guest.Confirm == machine.CallHome:
		return m, nil
	case m.Report == nil:
		return nil, errors.New("the guest does not respond: it is still booting, or has no agent")
	case !m.Report.Finished && m.Report.Partial == "":
		return nil, errors.New("the guest is still in its first boot")
	}
	return m, nil
}

// matches holds what a guest reports against the machine's row.
func (d *Desk) matches(ctx context.Context, at site.Site, w proof.Work, r *contract.Report) error {
	hostKey, err := d.Ledger.HostKey(ctx, w.Key)
	if err != nil {
		return err
	}
	first := machine.AtFirstBoot(w.Adapters)
	if err := run.Mismatch(w.Machine(), first, hostKey, r); err != nil {
		return err
	}
	if err := run.Mismatch(w.Machine(), w.Adapters, hostKey, r); err != nil {
		return fmt.Errorf("%w (configure the new adapters in the guest by hand: it had %d at its first boot)", err, len(first))
	}
	if err := run.Reads(w.Machine(), w.Identity, r); err != nil {
		return err
	}
	return d.examine(ctx, at, w)
}

// examine looks in the guest for what the machine's preset expects.
func (d *Desk) examine(ctx context.Context, at site.Site, w proof.Work) error {
	checks := d.Setup.Checks(w.Spec().Preset)
	for _, v := range w.Spec().Guest.Whole().Volumes {
		switch {
		case v.Mount != "":
			checks = append(checks, contract.Check{Kind: contract.Mount, Name: v.Mount})
		case v.Letter != "":
			checks = append(checks, contract.Check{Kind: contract.File, Name: strings.ToUpper(strings.TrimSuffix(v.Letter, ":")) + `:\`})
		}
	}
	if len(checks) == 0 {
		return nil
	}
	lacks, err := at.Examine(ctx, w.Identity, checks)
	if err != nil {
		return fmt.Errorf("cannot check what its preset expects: %w", err)
	}
	words := make([]string, len(lacks))
	for i, c := range lacks {
		words[i] = c.Lacks()
	}
	if len(words) > 0 {
		return errors.New(strings.Join(words, "; "))
	}
	return nil
}
