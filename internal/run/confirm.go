package run

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/step"
	"mintbatch/internal/site"
)

// confirm waits for the guest's own report and compares it with the sheet. A
// run that is told to stop does not wait for it. Once the guest is confirmed,
// its seed goes and it is shut down, where that was asked for.
func (j *job) confirm(ctx, stop context.Context) error {
	if err := j.waitForGuest(ctx); err != nil {
		return err
	}
	if err := j.checkReport(ctx, stop); err != nil {
		return err
	}
	m := j.work.Machine()
	if m.DropSeed && kinds.Of(m.Guest).Reads() {
		if err := j.perform(ctx, step.Confirm, func(ctx context.Context) (contract.Task, error) { return j.site.Seed(ctx, j.work.Identity, nil) }); err != nil {
			return fmt.Errorf("remove the seed: %w", err)
		}
	}
	if m.Power.Rests() == machine.Off {
		return j.perform(ctx, step.Confirm, func(ctx context.Context) (contract.Task, error) {
			return j.site.Power(ctx, j.work.Identity, machine.Off)
		})
	}
	return nil
}

// waitForGuest starts a machine that an earlier run had confirmed and shut down, without
// living to write that down.
func (j *job) waitForGuest(ctx context.Context) error {
	if j.work.Machine().Power != machine.ConfirmThenOff {
		return nil
	}
	return j.perform(ctx, step.Confirm, func(ctx context.Context) (contract.Task, error) {
		return j.site.Power(ctx, j.work.Identity, machine.On)
	})
}

// errOldKey means that a guest has the host key of an earlier seed, and is else as asked.
var errOldKey = errors.New("the guest has an earlier host key")

// checkReport waits until the guest reports and is as asked.
func (j *job) checkReport(ctx, stop context.Context) error {
	hostKey, err := j.Ledger.HostKey(ctx, j.work.Key)
	if err != nil {
		return err
	}
	oldKey := ""
	stages := j.work.Machine().Guest.Whole().Stages
	if !kinds.Of(j.work.Machine().Guest).Stages {
		stages = nil
	}
	err = j.awaitReport(ctx, stop, stages, func(r *contract.Report) error {
		adapters := machine.AtFirstBoot(j.work.Adapters)
		mismatch := Mismatch(j.work.Machine(), adapters, hostKey, r)
		if mismatch != nil && j.loseOldSecrets() && r.HostKey != "" && Mismatch(j.work.Machine(), adapters, "", r) == nil {
			oldKey = r.HostKey
			return errOldKey
		}
		return mismatch
	})
	if errors.Is(err, errOldKey) {
		return j.takeOver(ctx, oldKey)
	}
	return err
}

// awaitReport waits until the guest reports, and is judged to be as it should be. A report
// that is not the guest's own, or not all of it, counts only when nothing better comes. The
// limit counts from the last sign of progress in the guest's stages, if it has any.
func (j *job) awaitReport(ctx, stop context.Context, stages []machine.Stage, judge func(*contract.Report) error) error {
	deadline := time.Now().Add(j.Times[Confirming])
	began := time.Now()
	poll := j.polls(step.Confirm)
	var progress stageProgress
	asking, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(stop, cancel)()
	for {
		ask := j.ask
		if r, waits := j.site.(site.Reporter); waits && j.work.Machine().Guest.Confirm == machine.BySite && time.Until(deadline) > site.Patience {
			ask = r.AwaitReport
		}
		m, err := ask(asking, j.work.Identity)
		if err != nil && stopped(stop) && ctx.Err() == nil {
			return ErrStopped
		}
		if errors.Is(err, site.ErrUnreachable) && ctx.Err() == nil && time.Now().Before(deadline) {
			// The guest goes on booting while its site is away.
			if err := poll.wait(stop); err != nil {
				return ErrStopped
			}
			continue
		}
		if err != nil {
			return err
		}
		if m.Power == machine.Off && ended(j.work.Machine()) {
			return nil
		}
		over := len(stages) == 0
		if m.Report != nil && !over {
			moved, err := progress.take(ctx, j, m.Report)
			if err != nil {
				return err
			}
			if moved {
				deadline = time.Now().Add(j.Times[Confirming])
			}
			over = m.Report.StagesOver
		}
		late := time.Now().After(deadline)
		if r := m.Report; r != nil && (r.Finished && over || late && r.Partial != "") {
			mismatch := judge(r)
			switch {
			case mismatch == nil:
				j.durations.learn(j.work.Site, step.Confirm, time.Since(began))
				return nil
			case errors.Is(mismatch, errOldKey):
				return mismatch
			case r.Partial == "":
				return fmt.Errorf("not as the sheet says: %w", mismatch)
			case late:
				return fmt.Errorf("not as asked: %w (%s)", mismatch, r.Partial)
			}
		}
		if late {
			return j.noReport(m, progress)
		}
		if err := poll.wait(stop); err != nil {
			return ErrStopped
		}
	}
}

// ask asks the site how the machine is. What a guest that calls home reports stands in the
// ledger once it has.
func (j *job) ask(ctx context.Context, id uuid.UUID) (*contract.Machine, error) {
	m, err := j.site.Machine(ctx, id)
	if err == nil && j.work.Machine().Guest.Confirm == machine.CallHome {
		m.Report, err = j.Ledger.Called(ctx, j.work.Key, j.work.Generation)
	}
	return m, err
}

// ended reports whether a guest that is off has thereby shown that it came to the
// end of its first boot: that is the last that it was told to do.
func ended(m *machine.Machine) bool { return m.Guest.Whole().End == "power-off" }

// noReport reports a guest that has not reported what was seen of it.
func (j *job) noReport(m *contract.Machine, progress stageProgress) error {
	if at := progress.at(); at != "" {
		return fmt.Errorf("nothing new from the guest within %s, in its stage %s; it is %s at the site", j.Times[Confirming], at, m.Power)
	}
	seen := fmt.Sprintf("it is %s at the site", m.Power)
	if r := m.Report; r != nil {
		seen = fmt.Sprintf("the guest has the host name %q and has not finished its first boot", r.Hostname)
	}
	if len(m.Console) > 0 {
		seen += "; last line on its console: " + strings.Join(m.Console, " / ")
	}
	if j.work.Machine().Guest.Confirm == machine.CallHome {
		return fmt.Errorf("the guest did not call home (%s) within %s; %s", j.Home, j.Times[Confirming], seen)
	}
	return fmt.Errorf("the guest did not report within %s; %s", j.Times[Confirming], seen)
}

// Mismatch reports in what a guest is not as asked; nil if in nothing. The host
// key is the public one that the guest was given. The adapters are those that the
// guest is to have by now.
func Mismatch(m *machine.Machine, adapters []machine.Adapter, hostKey string, r *contract.Report) error {
	if !kinds.Of(m.Guest).Reads() {
		return nil // it was told nothing: that it reports is all there is to see
	}
	var wrong []string
	differs := func(what, has, wants string) {
		if !strings.EqualFold(has, wants) {
			wrong = append(wrong, fmt.Sprintf("%s is %q, expected %q", what, has, wants))
		}
	}
	if r.Hostname != "" || r.Partial == "" { // a partial report tells less
		differs("hostname", r.Hostname, m.Guest.Hostname)
	}
	if r.FQDN != "" || r.Partial == "" {
		differs("FQDN", r.FQDN, m.Guest.FQDN())
	}
	for i, a := range adapters {
		has := r.Addresses[a.MAC]
		if a.Unplugged && len(has) == 0 {
			continue // some guests give it its address only once there is a cable
		}
		for _, want := range a.Given() {
			if !slices.Contains(has, want.String()) {
				wrong = append(wrong, fmt.Sprintf("adapter %d has %s, expected %s", i+1, orNone(has), want))
			}
		}
		if a.DHCP && len(has) == 0 {
			wrong = append(wrong, fmt.Sprintf("adapter %d got no address by DHCP", i+1))
		}
		if (a.DHCP6 || a.SLAAC) && !slices.ContainsFunc(has, isGlobal6) {
			wrong = append(wrong, fmt.Sprintf("adapter %d got no IPv6 address from the network", i+1))
		}
		// A tagged network is reported with the card that it is on.
		shared := func(b machine.Adapter) bool { return b.MAC == a.MAC && !b.NoIPv6 }
		if a.NoIPv6 && slices.ContainsFunc(has, is6) && !slices.ContainsFunc(m.Adapters, shared) {
			wrong = append(wrong, fmt.Sprintf("adapter %d has %s, but IPv6 should be off", i+1, orNone(has)))
		}
	}
	for _, a := range m.Guest.Accounts() {
		there := func(login string) bool { return strings.EqualFold(login, a.User) }
		if (r.Logins != nil || r.Partial == "") && !slices.ContainsFunc(r.Logins, there) {
			wrong = append(wrong, fmt.Sprintf("the login %q does not exist", a.User))
		}
	}
	if r.HostKey != "" && hostKey != "" && !strings.HasPrefix(hostKey, r.HostKey) {
		wrong = append(wrong, "its SSH host key is not the one from its seed")
	}
	for _, e := range r.Errors {
		wrong = append(wrong, "the guest reports: "+e)
	}
	if len(wrong) == 0 {
		return nil
	}
	return errors.New(strings.Join(wrong, "; "))
}

// Reads reports in what a guest does not use what its answers say: the seed is not its
// own, or it does not ask its DNS servers; nil if in nothing. That is no reason not
// to confirm a machine: it may still change by itself.
func Reads(m *machine.Machine, id uuid.UUID, r *contract.Report) error {
	if k := kinds.Of(m.Guest); !k.Reads() || k.Free {
		return nil
	}
	var wrong []string
	if r.Instance != "" && !strings.EqualFold(r.Instance, id.String()) {
		wrong = append(wrong, "it has read the seed of "+r.Instance+", and not its own")
	}
	for i, a := range machine.AtFirstBoot(m.Adapters) {
		for _, server := range a.DNS {
			if r.DNS != nil && !slices.Contains(r.DNS, server.String()) {
				wrong = append(wrong, fmt.Sprintf("adapter %d: it does not use DNS server %s, but %s", i+1, server, strings.Join(r.DNS, " ")))
			}
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	return errors.New(strings.Join(wrong, "; "))
}

func is6(address string) bool {
	p, err := netip.ParsePrefix(address)
	return err == nil && p.Addr().Is6()
}

func isGlobal6(address string) bool {
	p, err := netip.ParsePrefix(address)
	return err == nil && p.Addr().Is6() && p.Addr().IsGlobalUnicast()
}

func orNone(all []string) string {
	if len(all) == 0 {
		return "no address"
	}
	return strings.Join(all, " ")
}
