package mint

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/assign"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/quota"
	"mintbatch/internal/core/request"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/plan"
	"mintbatch/internal/vault"
)

// Checked is what Check found.
type Checked struct {
	Findings finding.List
	Machines int
	// CommentedOut are the rows of the sheet that are commented out.
	CommentedOut []int
}

// Check reads setup and sheet and tells every finding. It asks no site; the
// ledger, where there is one, says which addresses are held.
func Check(ctx context.Context, in input.Input) (*Checked, error) {
	in.Sealed = vault.OpenOne
	b, err := input.Load(in)
	if err != nil {
		return nil, err
	}
	past := assign.Past{Now: time.Now()}
	var noRows, lacks finding.List
	var known []ledger.Machine
	var claimed map[machine.Key]quota.Use
	if path := b.LedgerPath(); ledger.IsShared(path) || input.Exists(path) {
		l, err := ledger.Open(ctx, path)
		if err != nil {
			return nil, err
		}
		defer l.Close()
		known, err = l.Machines(ctx)
		if err != nil {
			return nil, err
		}
		if past, err = plan.Past(ctx, l, known, nil); err != nil {
			return nil, err
		}
		if claimed, err = l.Claimed(ctx); err != nil {
			return nil, err
		}
		inspected, err := l.Inspections(ctx)
		if err != nil {
			return nil, err
		}
		lacks = plan.KnownLacks(b.Wanted, known, inspected)
		if !b.Findings.Failed() { // a row with an error makes no machine
			requested, err := l.Requested(ctx)
			if err != nil {
				return nil, err
			}
			noRows = withoutRow(b, known, requested)
		}
	}
	_, found := assign.Addresses(b.Wanted, b.Setup, past)
	_, order := plan.Sequence(b, known)
	quotas := plan.NewQuotas(b, known, claimed, nil)
	return &Checked{slices.Concat(b.Findings, found, order, quotas.Findings, lacks, noRows).Sorted(), len(b.Wanted), b.Table.CommentedOut}, nil
}

// withoutRow tells of machines of the ledger that no row asks for.
func withoutRow(b *input.Batch, known []ledger.Machine, requested request.Has) finding.List {
	rows := b.ByKey()
	var names []string
	for _, k := range known {
		if rows[k.Key] == nil && !requested.Made(k.Key, k.Origin) {
			names = append(names, k.Name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	return finding.List{{Severity: finding.Warning, Code: "no-row", At: finding.Position{File: b.Table.File},
		Message: fmt.Sprintf("%s of the ledger %s in no row: %s", finding.Plural(len(names), "machine"), isAre(len(names)), strings.Join(machine.NameRanges(names), " ")),
		Hint:    "a mint leaves them alone; `mintbatch retire --strays` deletes them"}}
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// CheckSetup reads the setup alone.
func CheckSetup(in input.Input) (finding.List, error) {
	in.Sealed = vault.OpenOne
	b, err := input.LoadSetup(in)
	var refused *input.Refused
	switch {
	case errors.As(err, &refused):
		return refused.Findings.Sorted(), err
	case err != nil:
		return nil, err
	}
	found := append(b.Findings, assign.CheckValues(b.Setup)...)
	found = append(found, elsewhere(b)...).Sorted()
	if found.Failed() {
		return found, &input.Refused{Findings: found}
	}
	return found, nil
}

// elsewhere reports files that the setup names and that are not there.
func elsewhere(b *input.Batch) finding.List {
	var found finding.List
	look := func(severity finding.Severity, file, hint string, path ...string) {
		if _, err := os.Stat(b.Path(file)); file != "" && err != nil {
			found.Add(finding.Finding{Severity: severity, Code: "not-elsewhere", At: b.Setup.Where(path...), Value: file,
				Message: fmt.Sprintf("cannot read file %s: %s", file, input.Reason(err)), Hint: hint})
		}
	}
	named := func(r setup.Reference, path ...string) {
		if file, ok := r.File(); ok {
			look(finding.Error, file, "create it, or name another", path...)
		}
	}
	for name, site := range b.Setup.Sites {
		named(site.Token, "sites", name, "token")
		for host, h := range site.Hosts {
			named(h.Password, "sites", name, "hosts", host, "password")
		}
	}
	named(b.Setup.Secrets.HostAuthority, "secrets", "ssh_host_ca")
	look(finding.Warning, b.Setup.Secrets.Identity, "only its owner can read sealed values", "secrets", "identity")
	look(finding.Warning, b.Setup.Sheet, "or give --sheet FILE", "sheet")
	return found
}
