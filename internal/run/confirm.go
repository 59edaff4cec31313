package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/survey"
)

// confirm waits for the guest's own report and holds it against the sheet. It
// changes nothing, so a run that is told to stop does not wait for it.
func (j *job) confirm(ctx, stop context.Context) error {
	deadline := time.Now().Add(j.ConfirmLimit)
	pause := pauses()
	for {
		m, err := j.site.Machine(ctx, j.work.Identity)
		if err != nil {
			return err
		}
		if r := m.Report; r != nil && r.Finished {
			hostKey, err := j.Ledger.HostKey(ctx, j.work.Key)
			if err != nil {
				return err
			}
			if err := Mismatch(j.work.Machine, hostKey, r); err != nil {
				return fmt.Errorf("not as asked: %w", err)
			}
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("no report of its guest after %s; it is %s at the site", j.ConfirmLimit, m.Power)
		}
		if err := sleep(stop, pause.NextBackOff()); err != nil {
			return ErrStopped
		}
	}
}

// Mismatch tells in what a guest is not as asked; nil if in nothing. The host
// key is the public one that the guest was given.
func Mismatch(m *machine.Machine, hostKey string, r *survey.Report) error {
	if m.Guest.Answers == machine.NoAnswers {
		return nil // it was told nothing: that it reports is all there is to see
	}
	var wrong []string
	differs := func(what, has, wants string) {
		if has != wants {
			wrong = append(wrong, fmt.Sprintf("%s is %q, should be %q", what, has, wants))
		}
	}
	differs("hostname", r.Hostname, m.Guest.Hostname)
	differs("FQDN", r.FQDN, m.Guest.FQDN())
	for i, a := range m.Adapters {
		has := r.Addresses[a.MAC]
		for _, want := range a.Addresses {
			if !slices.Contains(has, want.String()) {
				wrong = append(wrong, fmt.Sprintf("adapter %d has %s, should have %s", i+1, orNone(has), want))
			}
		}
		if a.DHCP && len(has) == 0 {
			wrong = append(wrong, fmt.Sprintf("adapter %d got no address by DHCP", i+1))
		}
	}
	if m.Guest.Login != "" && !slices.Contains(r.Logins, m.Guest.Login) {
		wrong = append(wrong, fmt.Sprintf("the login %q is not there", m.Guest.Login))
	}
	if r.HostKey != "" && !strings.HasPrefix(hostKey, r.HostKey) {
		wrong = append(wrong, "its SSH host key is not the one it was given")
	}
	for _, e := range r.Errors {
		wrong = append(wrong, "the guest reports: "+e)
	}
	if len(wrong) == 0 {
		return nil
	}
	return errors.New(strings.Join(wrong, "; "))
}

func orNone(all []string) string {
	if len(all) == 0 {
		return "no address"
	}
	return strings.Join(all, " ")
}
