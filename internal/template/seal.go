package template

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/blocks"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/disk"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/image/qcow2"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/seal"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/step"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// SealOrder says what to make a template of.
type SealOrder struct {
	// Machine is the master: a machine of the site that is shut off, NAME or NAME@CHECKPOINT.
	Machine string
	Name    string // of the template
	Site    string
	Store   string
	Notes   string
	// InPlace cleans the machine itself, after a checkpoint, and not a copy.
	InPlace bool
	Keep    []string // what is not cleaned
	Hook    string   // the file of a script that runs in the guest before it is cleaned
	Limit   time.Duration
}

// Sealing is a machine of which a template is to be made.
type Sealing struct {
	mint.Task
	ledger.Version
	Machine string
	Found   *mint.Inspected
	// Acts are what becomes of what was found.
	Acts  []seal.Act
	Store string
	// By is how the guest is cleaned: its agent, or a seed.
	By string
	// InPlace says that the machine itself is cleaned, and Checkpoint what keeps it as it was.
	InPlace    bool
	Checkpoint string
	// There means that an earlier run has made the version, and did not live to say so.
	There bool
}

// Blocking names what keeps the machine from being a template, whatever is cleaned.
func (p *Sealing) Blocking() []string {
	var codes []string
	for _, a := range p.Acts {
		if a.Blocks {
			codes = append(codes, a.Code)
		}
	}
	return codes
}

// Question asks before that.
func (p *Sealing) Question() mint.Question {
	if p.InPlace {
		return mint.Question{Text: fmt.Sprintf("Clean machine %s itself by its %s, and make it template %s at site %s (what is cleaned is gone; the checkpoint %s keeps it as it was)?", p.Machine, p.By, p.Name(), p.Site, p.Checkpoint), Word: "yes"}
	}
	return mint.Question{Text: fmt.Sprintf("Copy %s, clean the copy by its %s, and make it template %s at site %s?", p.Machine, p.By, p.Name(), p.Site), Word: "yes"}
}

// The ways to clean a guest.
const (
	byAgent = "guest agent"
	bySeed  = "cloud-init"
)

// usualLimit is how long a guest may take to be cleaned and to switch itself off.
const usualLimit = 20 * time.Minute

// mostHook bounds the script of a user: it is an argument of a program in the guest.
const mostHook = 64 << 10

// PrepareSeal looks at the master, which is only read. The ledger has to be locked.
func PrepareSeal(ctx context.Context, d *mint.Desk, o SealOrder) (*Sealing, error) {
	v, err := machine.ParseVersion(o.Name)
	if err == nil && v.Number > 0 {
		err = refuse("%s: the number of a version is given by the ledger; name the template alone", o.Name)
	}
	if err != nil {
		return nil, err
	}
	for _, k := range o.Keep {
		if !slices.Contains(seal.Keepable(), k) {
			return nil, refuse("--keep %s: there is no such left-over (%s)", k, finding.DidYouMean(k, seal.Keepable()))
		}
	}
	hook, err := readHook(o.Hook)
	if err != nil {
		return nil, err
	}
	where, err := siteOf(d, o.Site)
	if err != nil {
		return nil, err
	}
	to, at, err := maker(d, where)
	if err != nil {
		return nil, err
	}
	reader, can := at.(site.DiskReader)
	if !can {
		return nil, refuse("site %s: this kind of site cannot read disks", where)
	}
	if d.Setup.Sites[where].Kind == setup.Folder {
		return nil, refuse("site %s is a folder, where nothing starts the copy that would be cleaned; clean the master by hand, and make a template of its disk with `mintbatch template make`", where)
	}
	survey, newest, err := versionsAt(ctx, d, where, o.Name)
	if err != nil {
		return nil, err
	}
	p := &Sealing{Machine: strings.TrimPrefix(o.Machine, "machine:")}
	from := "machine:" + p.Machine
	source, _, err := machine.ParseSource(from)
	if err != nil {
		return nil, err
	}
	master, err := masterOf(survey, where, source)
	if err != nil {
		return nil, err
	}
	whole, err := d.Sites.Machine(ctx, where, master.ID)
	if err != nil {
		return nil, err
	}
	if len(whole.Files) > 1 {
		return nil, refuse("machine %s has data disks, and a template has only a system disk; take them out of the machine, and out of its /etc/fstab", master.Name)
	}
	var own ledger.Machine
	if p.InPlace = o.InPlace; o.InPlace {
		if own, err = ownMachine(ctx, d, where, source, master); err != nil {
			return nil, err
		}
		from += inPlace
	}
	if p.Store, err = storeOf(d, survey, where, cmp.Or(o.Store, master.Store)); err != nil {
		return nil, err
	}
	user, host := mint.Operator()
	p.Version = ledger.Version{Site: where, Version: contract.Version{Ledger: d.Ledger.ID, Of: o.Name, Made: time.Now().UTC().Truncate(time.Second), By: user + "@" + host, From: from, Notes: o.Notes}}
	if err := p.number(ctx, d, survey, newest); err != nil {
		return nil, err
	}
	s := sealer{Sealing: p, d: d, at: at, to: to, reader: reader, master: master, own: own, limit: cmp.Or(o.Limit, usualLimit)}
	s.id, s.from, s.name = copyOf(p.Version), "machine:"+p.Machine, p.copyName()
	if p.InPlace {
		s.id, s.name, p.Checkpoint = master.ID, master.Name, fmt.Sprintf("before-%s-%d", p.Of, p.Number)
	}
	also := []machine.Key{{Site: where, Name: master.Name}}
	if p.There {
		p.Task = taskWith(p.command(), machine.Key{Site: where, Name: p.Name()}, also, func(e *run.Engine) []act {
			s.run = e.Run
			return s.finishing()
		})
		return p, nil
	}
	disk, _, err := reader.Disk(ctx, s.from)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", p.Machine, err)
	}
	i, err := inspect.Of(disk)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", p.Machine, err)
	}
	p.Found, p.Acts = &mint.Inspected{Disk: from, Site: where, Inspection: i}, seal.Plan(i, o.Keep)
	order := seal.Order{Keep: o.Keep, Hook: hook, Lock: guessed(i)}
	s.script = site.Script{Text: seal.Script(order)}
	if i.System.Kind == inspect.Windows {
		s.script = site.Script{Text: seal.WindowsScript(order), PowerShell: true}
	}
	if isShell := strings.HasPrefix(string(hook), "#!"); len(hook) > 0 && isShell == s.script.PowerShell {
		return nil, refuse("--run %s: a Linux guest needs a script that begins with #!, a Windows guest one of PowerShell", o.Hook)
	}
	if p.By, err = cleanedBy(i, at); err != nil {
		return nil, fmt.Errorf("%s: %w", p.Machine, err)
	}
	if len(p.copyName()) > 63 {
		return nil, refuse("the name %s is too long: the copy is named %s", o.Name, p.copyName())
	}
	p.Task = taskWith(p.command(), machine.Key{Site: where, Name: p.Name()}, also, func(e *run.Engine) []act {
		s.run = e.Run
		return append(s.acts(), s.finishing()...)
	})
	return p, nil
}

func (p *Sealing) command() string {
	command := "template seal " + p.Machine + " --as " + p.Of
	if p.InPlace {
		command += " --site " + p.Site + " --in-place"
	}
	return command
}

func readHook(file string) ([]byte, error) {
	if file == "" {
		return nil, nil
	}
	hook, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("--run: %w", err)
	}
	if len(hook) > mostHook {
		return nil, refuse("--run %s: it has to be a script of at most %d KiB", file, mostHook>>10)
	}
	return hook, nil
}

// masterOf finds the machine that is sealed.
func masterOf(survey *contract.Survey, where string, source machine.Cloned) (*contract.Machine, error) {
	i := slices.IndexFunc(survey.Machines, func(m contract.Machine) bool { return strings.EqualFold(m.Name, source.Name) })
	switch {
	case i < 0:
		return nil, refuse("site %s has no machine %s", where, source.Name)
	case survey.Machines[i].Power == machine.On && source.Checkpoint == "":
		return nil, refuse("machine %s is running: shut it down, or name a checkpoint, %s@CHECKPOINT", source.Name, source.Name)
	}
	return &survey.Machines[i], nil
}

// guessed are the logins whose passwords everybody guesses.
func guessed(i *inspect.Inspection) (names []string) {
	for _, l := range i.Leftovers {
		if l.Code == "left-known-password" {
			names = append(names, l.Where...)
		}
	}
	return names
}

// cleanedBy is how the guest of a disk can be cleaned.
func cleanedBy(i *inspect.Inspection, at site.Site) (string, error) {
	_, runs := at.(site.Runner)
	switch s := i.System; {
	case s.Kind == inspect.Windows && !(runs && s.Agent != ""):
		return "", refuse("a Windows guest is cleaned by its guest agent, which it does not have or this kind of site cannot ask; run sysprep /generalize /oobe /shutdown in it, and make a template of its disk with `mintbatch template make`")
	case s.Kind == inspect.Windows:
		return byAgent, nil
	case s.Kind != inspect.Linux:
		return "", refuse("no system was found on its disk")
	case runs && s.Agent != "":
		return byAgent, nil
	case readsSeeds(i):
		return bySeed, nil
	case s.Agent != "":
		return "", refuse("this kind of site cannot ask its guest agent, and cloud-init does not read a seed there")
	}
	return "", refuse("it has neither a guest agent nor a cloud-init that reads a seed; install one of them")
}

// readsSeeds reports whether cloud-init of a system would read a seed.
func readsSeeds(i *inspect.Inspection) bool {
	return i.System.CloudInit != nil && !slices.ContainsFunc(i.Leftovers, func(l inspect.Leftover) bool {
		return l.Code == "cloud-init-disabled" || l.Code == "no-nocloud"
	})
}

// number gives the version its number: that of one that was begun of the same machine, by a run that did not come to
// its end, or the next one.
func (p *Sealing) number(ctx context.Context, d *mint.Desk, survey *contract.Survey, newest int) error {
	all, err := d.Ledger.Versions(ctx)
	if err != nil {
		return err
	}
	runs, err := d.Ledger.Runs(ctx)
	if err != nil {
		return err
	}
	cutOff := map[string]bool{}
	for _, r := range runs {
		cutOff[r.ID] = r.Outcome != "done"
	}
	for _, v := range all {
		if v.Of != p.Of {
			continue
		}
		newest = max(newest, v.Number)
		begun := v.State == ledger.VersionMaking && v.Digest == "" || v.State == ledger.VersionMade && cutOff[v.Run]
		if v.Site == p.Site && v.From == p.From && begun {
			p.Number, p.Made = v.Number, v.Made
		}
	}
	if p.Number == 0 {
		p.Number = newest + 1
		return nil
	}
	if is := wholeAt(survey, p.Version); is != nil {
		p.There, p.Version.Version = true, *is
	}
	return nil
}

// copyName is the name of the copy that is cleaned, copyOf its identity.
func (p *Sealing) copyName() string { return fmt.Sprintf("%s-%d-sealing", p.Of, p.Number) }

func copyOf(v ledger.Version) uuid.UUID {
	return uuid.NewSHA1(v.Ledger, fmt.Appendf(nil, "seal\x00%s\x00%s", v.Site, v.Name()))
}

// finishing are the steps once a version is whole at its site.
func (s *sealer) finishing() []act {
	return []act{{"remove", s.leave}, {"record", func(ctx context.Context, _ func(float64)) error {
		s.State, s.Run = ledger.VersionMade, s.run
		if err := s.d.Ledger.PutVersion(ctx, s.Version); err != nil || s.Found == nil {
			return err
		}
		return keepInspection(ctx, s.d, s.Version, s.Found)
	}}}
}

// leave removes the copy, or gives the machine its cables back, which then is nobody's any more to finish.
func (s *sealer) leave(ctx context.Context, share func(float64)) error {
	if !s.InPlace {
		return removeCopy(ctx, s.at, s.Version, share)
	}
	if err := s.cleaning(ctx); err != nil { // an earlier run may have begun it
		return err
	}
	if err := s.wire(ctx, machine.Cards(s.own.Adapters), share); err != nil {
		return err
	}
	return s.d.Ledger.CloseOwn(context.WithoutCancel(ctx), s.run, s.own.Key, "cleaned", "for "+s.Name()+"; checkpoint "+s.Checkpoint)
}

// cleaning writes that the machine itself is being cleaned: until that is finished, or taken back, nothing else starts it.
func (s *sealer) cleaning(ctx context.Context) error {
	return s.d.Ledger.Journal(context.WithoutCancel(ctx), ledger.Step{Key: s.own.Key, Generation: s.own.Generation, Step: string(step.Clean), Run: s.run, State: ledger.Begun})
}

// removeCopy removes the copy that a version is made of.
func removeCopy(ctx context.Context, at site.Site, v ledger.Version, share func(float64)) error {
	t, err := at.Remove(ctx, copyOf(v), contract.DeleteDisks)
	return settle(ctx, at, t, err, share)
}

// sealer does the work.
type sealer struct {
	*Sealing
	d      *mint.Desk
	at     site.Site
	to     site.TemplateMaker
	reader site.DiskReader
	master *contract.Machine
	id     uuid.UUID // of the copy, or of the machine itself
	name   string
	from   string         // what is copied
	own    ledger.Machine // the machine, where that is cleaned itself
	script site.Script
	limit  time.Duration
	run    string

	content *blocks.Map
	source  disk.Disk
}

func (s *sealer) acts() []act {
	clone := act{"clone", s.clone}
	if s.InPlace {
		clone = act{"checkpoint", s.keep}
	}
	return []act{
		{"begin", s.begin},
		clone,
		{"start", s.start},
		{"clean", s.clean},
		{"inspect", s.inspect},
		{"send", s.send},
	}
}

func (s *sealer) begin(ctx context.Context, share func(float64)) error {
	if err := clearRest(ctx, s.d, s.at, s.to, s.Version, share); err != nil {
		return err
	}
	v := s.Version
	v.Run = s.run
	begun, err := s.d.Ledger.BeginVersion(ctx, v, 0)
	if err != nil {
		return err
	}
	s.Version = begun
	if err := removeCopy(ctx, s.at, s.Version, share); err != nil { // of a run that was cut short
		return fmt.Errorf("remove the copy of an earlier run: %w", err)
	}
	return nil
}

// clone copies the master; the copy has no cable in any adapter.
func (s *sealer) clone(ctx context.Context, share func(float64)) error {
	ctx, cancel := inTime(ctx, s.d)
	defer cancel()
	order := contract.CloneOrder{Identity: s.id, Name: s.name,
		Clone: machine.Clone{Template: s.from, Kind: machine.Full, Host: s.master.Host, Store: s.Store, Firmware: s.master.Firmware},
		Mark:  contract.Mark{Ledger: s.Ledger, Key: machine.Key{Site: s.Site, Name: s.name}.String(), Generation: 1, Run: s.run, Stage: contract.StageMaking, Seal: s.Name()}}
	t, err := s.at.Clone(ctx, order)
	if err := settle(ctx, s.at, t, err, share); err != nil {
		return err
	}
	return s.wire(ctx, []machine.Card{}, share)
}

func (s *sealer) wire(ctx context.Context, cards []machine.Card, share func(float64)) error {
	t, err := s.at.Wire(ctx, s.id, cards, contract.MayRestart)
	return settle(ctx, s.at, t, err, share)
}

// keep keeps the machine as it was, and pulls its cables.
func (s *sealer) keep(ctx context.Context, share func(float64)) error {
	ctx, cancel := inTime(ctx, s.d)
	defer cancel()
	t, err := s.at.Checkpoint(ctx, s.id, s.Checkpoint)
	if err := settle(ctx, s.at, t, err, share); err != nil {
		return err
	}
	if err := s.cleaning(ctx); err != nil {
		return err
	}
	pulled := machine.Cards(s.own.Adapters)
	for i := range pulled {
		pulled[i].Unplugged = true
	}
	return s.wire(ctx, pulled, share)
}

// inPlace ends what a version is made of whose machine was cleaned itself.
const inPlace = " in place"

// ownMachine is a machine as this ledger, which has to have made it, has it.
func ownMachine(ctx context.Context, d *mint.Desk, where string, source machine.Cloned, master *contract.Machine) (ledger.Machine, error) {
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return ledger.Machine{}, err
	}
	i := slices.IndexFunc(known, func(k ledger.Machine) bool {
		return k.Site == where && k.State == proof.Made && k.ID(d.Ledger.ID) == master.ID
	})
	switch {
	case source.Checkpoint != "":
		return ledger.Machine{}, refuse("a checkpoint cannot be cleaned in place; leave out --in-place, or restore it first")
	case i < 0 || master.Mark == nil || master.Mark.Ledger != d.Ledger.ID:
		return ledger.Machine{}, refuse("machine %s was not made by this ledger, so it is not changed; leave out --in-place", master.Name)
	}
	return known[i], nil
}

// start starts the copy, with the seed that cleans it if that is how it is done.
func (s *sealer) start(ctx context.Context, share func(float64)) error {
	if s.By == bySeed {
		image, err := cleaningSeed(s.id, s.script.Text)
		if err != nil {
			return err
		}
		t, err := s.at.Seed(ctx, s.id, image)
		if err := settle(ctx, s.at, t, err, share); err != nil {
			return err
		}
	}
	t, err := s.at.Power(ctx, s.id, machine.On)
	return settle(ctx, s.at, t, err, share)
}

// cleaningSeed is a seed for cloud-init that does nothing but run a script.
func cleaningSeed(id uuid.UUID, script string) ([]byte, error) {
	user, err := json.Marshal(map[string]any{"users": []any{}, "preserve_hostname": true, "ssh_deletekeys": false, "growpart": map[string]string{"mode": "off"}, "resize_rootfs": false,
		"package_update": false, "runcmd": [][]string{{"/bin/sh", "-c", script}}})
	if err != nil {
		return nil, err
	}
	meta := fmt.Sprintf("instance-id: %s\n", id)
	return media.Image(media.ISOKind, "cidata", []media.File{{Name: "meta-data", Content: []byte(meta)}, {Name: "user-data", Content: append([]byte("#cloud-config\n"), user...)},
		{Name: "network-config", Content: []byte("version: 2\nethernets: {}\n")}})
}

// clean has the guest cleaned, and waits until it has switched itself off.
func (s *sealer) clean(ctx context.Context, share func(float64)) error {
	limited, cancel := context.WithTimeout(ctx, s.limit)
	defer cancel()
	began, told := time.Now(), s.By == bySeed
	for {
		if !told {
			err := s.at.(site.Runner).RunScript(limited, s.id, s.script)
			switch {
			case errors.Is(err, site.ErrRefused) && !s.script.PowerShell && readsSeeds(s.Found.Inspection):
				s.By, told = bySeed, true
				if err := s.again(limited, share); err != nil {
					return err
				}
			case errors.Is(err, site.ErrRefused):
				return err
			case err == nil:
				told = true
			}
		}
		m, err := s.at.Machine(limited, s.id)
		if err == nil && m.Power == machine.Off && told {
			return nil
		}
		share(min(0.99, float64(time.Since(began))/float64(s.limit)))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-limited.Done():
			return s.late()
		case <-time.After(pollCopy):
		}
	}
}

// pollCopy is the pause between two looks at the copy.
const pollCopy = time.Second

func (s *sealer) late() error {
	what := "did not switch itself off"
	if s.By == byAgent {
		what = "did not answer by its agent, or switch itself off,"
	}
	return fmt.Errorf("%s %s within %s; its console tells why; run the same command again", s.name, what, s.limit)
}

// again starts the copy anew with a seed: its agent runs no scripts.
func (s *sealer) again(ctx context.Context, share func(float64)) error {
	t, err := s.at.Power(ctx, s.id, machine.Cut)
	if err := settle(ctx, s.at, t, err, share); err != nil {
		return err
	}
	return s.start(ctx, share)
}

// inspect looks whether the copy is clean, and takes its disk apart.
func (s *sealer) inspect(ctx context.Context, share func(float64)) error {
	if s.By == bySeed {
		t, err := s.at.Seed(ctx, s.id, nil)
		if err := settle(ctx, s.at, t, err, share); err != nil {
			return err
		}
	}
	whole, _, err := s.reader.Disk(ctx, "machine:"+s.name)
	if err != nil {
		return err
	}
	s.source = whole
	if said := hookFailed(whole); said != "" {
		return errors.Join(fmt.Errorf("the cleaning, or the script of --run, has failed in the guest: %s", said), s.leave(ctx, share))
	}
	i, err := inspect.Of(whole)
	if err != nil {
		return err
	}
	s.Found = &mint.Inspected{Disk: s.Name(), Site: s.Site, Inspection: i}
	var blocking []string
	for _, l := range i.Leftovers {
		if l.Severity == finding.Error {
			blocking = append(blocking, l.Code)
		}
	}
	if len(blocking) > 0 {
		return errors.Join(fmt.Errorf("it is not clean, so it is no template: %s", strings.Join(blocking, ", ")), s.leave(ctx, share))
	}
	s.content, err = blocks.Read(sourceOf(whole), whole.Size, func(at int64) error {
		share(float64(at) / float64(whole.Size))
		return ctx.Err()
	})
	if err == nil {
		s.Digest = s.content.Digest()
	}
	return err
}

// hookFailed is what a hook said last that has failed; empty if none has.
func hookFailed(d disk.Disk) string {
	_, parts, _ := disk.Parts(d)
	for _, p := range parts {
		f, err := p.Open()
		if err != nil || f.FS == nil {
			continue
		}
		said, err := fs.ReadFile(f.FS, strings.TrimPrefix(seal.Failed, "/"))
		if err == nil {
			return cmp.Or(strings.Join(strings.Fields(string(said)), " "), "it said nothing")
		}
	}
	return ""
}

// send makes the template of the disk of the copy.
func (s *sealer) send(ctx context.Context, share func(float64)) error {
	layout, err := qcow2.NewLayout(s.source.Size, s.content.Has)
	if err != nil {
		return err
	}
	image := contract.Image{Size: layout.Length(), WriteTo: func(w io.Writer) error { return layout.WriteTo(w, s.content.Checked(s.source)) }}
	order := contract.TemplateOrder{Identity: identity(s.Version), Host: s.master.Host, Store: s.Store, Disk: machine.Size(s.source.Size), CPUs: s.master.CPUs, Memory: s.master.Memory,
		Firmware: s.master.Firmware, Like: s.master.ID, Version: s.Version.Version}
	ctx, cancel := inTime(ctx, s.d)
	defer cancel()
	t, err := s.to.MakeTemplate(ctx, order, image)
	return settle(ctx, s.at, t, err, share)
}
