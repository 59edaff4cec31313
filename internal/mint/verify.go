package mint

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// Verdict says whether a machine of the sheet answers as the sheet says.
type Verdict struct {
	machine.Key
	OK  bool   `json:"ok"`
	Why string `json:"why,omitempty"` // why not
}

// Verify asks every machine of the sheet whose name matches, through its site,
// how it is. Nothing is changed.
func (s *Session) Verify(ctx context.Context, names []string) ([]Verdict, error) {
	p, err := s.Proof(ctx, names, false)
	if err != nil {
		return nil, err
	}
	var asked []proof.Work
	for _, w := range p.Works {
		if w.Word != proof.Stray {
			asked = append(asked, w)
		}
	}
	verdicts := make([]Verdict, len(asked))
	slots := map[string]chan struct{}{}
	for name := range s.sites {
		slots[name] = make(chan struct{}, s.slots(name))
	}
	var all sync.WaitGroup
	for i, w := range asked {
		slots[w.Site] <- struct{}{}
		all.Go(func() {
			defer func() { <-slots[w.Site] }()
			verdicts[i] = Verdict{Key: w.Key, OK: true}
			if err := s.verify(ctx, w); err != nil {
				verdicts[i] = Verdict{Key: w.Key, Why: err.Error()}
			}
		})
	}
	all.Wait()
	return verdicts, ctx.Err()
}

// verify tells in what one machine is not as the sheet says; nil if in nothing.
func (s *Session) verify(ctx context.Context, w proof.Work) error {
	switch w.Word {
	case proof.Same:
	case proof.New:
		return errors.New(strings.TrimSuffix("not made; "+w.Why(), "; "))
	default:
		return fmt.Errorf("%s; %s", w.Word, w.Why())
	}
	m, err := s.sites[w.Site].Machine(ctx, w.Identity)
	switch {
	case errors.Is(err, site.ErrNotFound):
		return errors.New("gone from the site")
	case err != nil:
		return err
	case m.Power != w.Machine.Power.Rests():
		return fmt.Errorf("it is %s, should be %s", m.Power, w.Machine.Power.Rests())
	case len(w.Drift) > 0:
		return errors.New(w.Why())
	case m.Power == machine.Off:
		return nil
	case m.Report == nil:
		return errors.New("its guest does not report")
	}
	hostKey, err := s.Ledger.HostKey(ctx, w.Key)
	if err != nil {
		return err
	}
	told := machine.Told(w.Machine.Adapters)
	if err := run.Mismatch(w.Machine, told, hostKey, m.Report); err != nil {
		return err
	}
	if err := run.Mismatch(w.Machine, w.Machine.Adapters, hostKey, m.Report); err != nil {
		return fmt.Errorf("%w (tell its guest by hand: it was told of its adapters on its first boot, and there were %d)", err, len(told))
	}
	if err := run.Reads(w.Machine, w.Identity, m.Report); err != nil {
		return err
	}
	return s.examine(ctx, w)
}

// examine looks in the guest for what the machine's preset expects.
func (s *Session) examine(ctx context.Context, w proof.Work) error {
	checks := s.Setup.Checks(w.Machine.Preset)
	if len(checks) == 0 {
		return nil
	}
	lacks, err := s.sites[w.Site].Examine(ctx, w.Identity, checks)
	if err != nil {
		return fmt.Errorf("what its preset expects could not be looked for: %w", err)
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
