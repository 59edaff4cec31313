package plan

import (
	"fmt"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/quota"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
)

// Quotas hold the setup's quotas against what is made and what rows ask for.
type Quotas struct {
	Findings finding.List
	Totals   []quota.Total

	after map[machine.Key]*quota.Use // what machines would use
}

// NewQuotas counts the machines of the ledger, as runs that work on some are about to make them, and then the rows of machines
// that keep picks; nil for all.
func NewQuotas(b *input.Batch, known []ledger.Machine, claimed map[machine.Key]quota.Use, keep func(machine.Key) bool) *Quotas {
	q := &Quotas{after: map[machine.Key]*quota.Use{}}
	rules := b.Setup.QuotaRules()
	if len(rules) == 0 {
		return q
	}
	var standing []quota.Use
	has, uses := map[machine.Key]*machine.Spec{}, map[machine.Key]*quota.Use{}
	for i := range known {
		k := &known[i]
		has[k.Key] = k.Common()
		if _, is := claimed[k.Key]; !is {
			spec := k.Spec()
			use := quota.Of(k.Site, &spec, nil, b.Setup.Lineage(spec.Preset))
			uses[k.Key] = &use
			standing = append(standing, use)
		}
	}
	for key, use := range claimed {
		uses[key] = &use
		standing = append(standing, use)
	}
	var changes []quota.Change
	var rows []int
	for i, w := range b.Wanted {
		if w.Misnamed || keep != nil && !keep(w.Key) {
			continue
		}
		spec := w.Spec()
		use := quota.Of(w.Site, &spec, has[w.Key], b.Setup.Lineage(spec.Preset))
		q.after[w.Key] = &use
		changes, rows = append(changes, quota.Change{Before: uses[w.Key], After: &use}), append(rows, i)
	}
	over, totals := quota.Judge(rules, standing, changes)
	var found finding.Collector
	for _, o := range over {
		w := b.Wanted[rows[o.Change]]
		column := o.Resource.String()
		switch {
		case o.Resource == quota.Machines:
			column = "machine"
		case o.Resource == quota.Disk && w.Origin("disk").Value == "" && w.Origin("disks").Value != "":
			column = "disks"
		}
		at, which := w.Origin(column), o.Rule
		if o.Share != "" {
			which += " (" + o.Share + ")"
		}
		f := finding.Finding{Code: "over-quota", At: at.At, Value: at.Value,
			Message: fmt.Sprintf("quota %s: this would make %s, and the limit is %s (%s without it)", which, o.Resource.InWords(o.After), o.Resource.InWords(o.Limit), o.Resource.InWords(o.Before)),
			Hint:    "ask for less, retire machines, or have the limit in the setup raised; `mintbatch quota` shows what is used"}
		if o.Unknown {
			f = finding.Finding{Code: "quota-unknown", At: at.At, Message: fmt.Sprintf("quota %s limits %s, and nothing says how much the machine gets", which, o.Resource),
				Hint: fmt.Sprintf("write %s in the row, its preset or its template", o.Resource)}
		}
		found.Add(f, f.Code+" "+which, w.Name)
	}
	q.Findings, q.Totals = found.List(), totals
	return q
}

// Quotas counts what quotas limit, with what the plan would make.
func (p *Plan) Quotas() []quota.Total { return p.quotas.Totals }

// Uses is what quotas count for a machine while it is worked on; nil where that is what the ledger has.
func (p *Plan) Uses(w proof.Work) *quota.Use {
	if p == nil {
		return nil
	}
	return p.quotas.after[w.Key]
}
