package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
)

func (a *App) remakeCommand() *cli.Command {
	return &cli.Command{
		Name:      "remake",
		Usage:     "clone machines again from their templates, keeping names and addresses",
		ArgsUsage: "MACHINE...",
		Description: "Clones machines again as their rows say: the disk, login and host key are new; the name,\n" +
			"addresses and MAC address stay. The contents of the disk are lost, and those of the data disks\n" +
			"unless --keep-data is given. Names may be globs or ranges.\n\n" +
			"   mintbatch remake bms-sonar-03\n   mintbatch remake --keep-data 'bms-tide-*'",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"},
			&cli.BoolFlag{Name: "keep-data", Usage: "the new clones get the data disks of the old ones, which are shut down first"},
			forceOffFlag(), keepHostKeyFlag(), acceptMissingFlag(), eventsFlag(), forceFlag(overFiles)},
		Action: a.remake,
	}
}

func (a *App) remake(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return misuse{errors.New("name the machines: mintbatch remake MACHINE [MACHINE...]")}
	}
	d, err := a.openNamed(ctx, c)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := a.lock(ctx, c, d, d.InSheet(c.Args().Slice())); err != nil {
		return err
	}
	p, err := d.Make(ctx, plan.Request{Names: c.Args().Slice(), Contact: plan.Online, Missing: missing(c), Remake: true, Data: proof.DataDisks(c.Bool("keep-data"))})
	if err != nil {
		return err
	}
	return a.mintOnce(ctx, c, d, p, plan.AllowRemakes, mint.Order{ForceOff: c.Bool("force-off"), KeepHostKey: c.Bool("keep-host-key")})
}

func (a *App) retireCommand() *cli.Command {
	return &cli.Command{
		Name:      "retire",
		Usage:     "delete machines and free their addresses",
		ArgsUsage: "MACHINE...",
		Description: "Shuts the machines down, deletes them with their disks and removes them from the ledger. Only\n" +
			"machines that this ledger made are deleted. A machine that is still in the sheet is new again\n" +
			"for the next mint. With --keep-disks the disks are kept, and no later machine uses them.\n\n" +
			"   mintbatch retire bms-sonar-03\n   mintbatch retire --keep-disks bms-sonar-03\n   mintbatch retire --strays",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "strays", Usage: "retire all machines that are no longer in the sheet"},
			keepDisksFlag(),
			&cli.BoolFlag{Name: "leave-entries", Usage: "leave what was entered in DNS, for a server that is gone for good"},
			forceOffFlag(),
			&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"},
			acceptMissingFlag(),
			eventsFlag(),
			forceFlag(overFiles),
		},
		Action: a.retire,
	}
}

func (a *App) retire(ctx context.Context, c *cli.Command) error {
	strays := c.Bool("strays")
	if c.Args().Present() == strays {
		return misuse{errors.New("name the machines: mintbatch retire MACHINE [MACHINE...], or give --strays for all that are no longer in the sheet")}
	}
	open := a.open
	if !strays {
		open = func(ctx context.Context, c *cli.Command) (*mint.Desk, error) { return a.openSetup(ctx, c) }
	}
	d, err := open(ctx, c)
	if err != nil {
		return err
	}
	defer d.Close()
	scope := mint.Named(c.Args().Slice())
	if strays {
		scope = d.NotInSheet()
	}
	if err := a.lock(ctx, c, d, scope); err != nil {
		return err
	}
	if !strays {
		in, err := a.input(c)
		if err != nil {
			return err
		}
		d.TrySheet(in)
	}
	r, err := d.Retiring(ctx, mint.Which{Names: c.Args().Slice(), Strays: strays}, missing(c))
	if err != nil {
		return err
	}
	if a.readsInput(c) {
		a.showRetiring(c, r)
	}
	if len(r.Works) == 0 {
		if c.Bool("json") {
			return a.document(mintDocument(&mint.Outcome{}, proof.Proof{}))
		}
		return nil
	}
	task := mint.Retirement(c.Name, r.Works, orderOf(c))
	return a.retireAll(ctx, c, d, task, task.RetireQuestion(), "retired")
}

// orderOf is what the command line says of how machines are taken down.
func orderOf(c *cli.Command) mint.Order {
	return mint.Order{ForceOff: c.Bool("force-off"), Disks: disksAfter(c), LeaveEntries: c.Bool("leave-entries")}
}

// showRetiring shows what goes, what is gone already, and what comes back.
func (a *App) showRetiring(c *cli.Command, r *mint.Retiring) {
	for _, e := range r.Gone {
		fmt.Fprintf(a.Stdout, "%s at %s was already retired, %s\n", visible(e.Name), e.Site, when(e.At))
	}
	if len(r.Works) == 0 {
		if len(r.Gone) == 0 {
			fmt.Fprintln(a.Stdout, "no strays: every machine of the ledger is in the sheet, or was requested")
		}
		return
	}
	a.showLosses(c, r.Works)
	a.showWithdrawn(c, r.Entries)
	if r.Wanted > 0 {
		fmt.Fprintf(a.Stdout, "%s still in the sheet: the next mint makes %s again\n", isAre(r.Wanted), itThem(r.Wanted))
	}
}

func isAre(n int) string {
	if n == 1 {
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

func itsTheir(n int) string {
	if n == 1 {
		return "its"
	}
	return "their"
}

func itThem(n int) string {
	if n == 1 {
		return "it"
	}
	return "them"
}

// readsInput reports whether what a command does is reported in words on standard output.
func (a *App) readsInput(c *cli.Command) bool {
	return !c.Bool("quiet") && !c.Bool("json") && !a.streams(c)
}

// retireAll asks, does a task on machines of the ledger, and tells what came of it; done is
// the word for that.
func (a *App) retireAll(ctx context.Context, c *cli.Command, d *mint.Desk, t mint.Task, q mint.Question, done string) error {
	came, err := a.perform(ctx, c, d, t, q)
	switch {
	case came == nil || a.streams(c):
		return err
	case c.Bool("json"):
		return errors.Join(a.document(mintDocument(came, proof.Proof{})), err)
	}
	if !c.Bool("quiet") {
		a.showKept(c, came.Kept)
	}
	a.closing(c, came, done, proof.Proof{})
	return err
}

// showKept reports where disks are that no machine uses from now on.
func (a *App) showKept(c *cli.Command, kept []ledger.Kept) {
	var cells [][]string
	for _, k := range kept {
		for _, disk := range k.Disks {
			cells = append(cells, []string{visible(k.Name), k.Site, visible(disk)})
		}
	}
	if len(cells) > 0 {
		fmt.Fprintln(a.Stdout)
		rows(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), []string{"machine", "site", "kept disk"}, cells)
	}
}

// showLosses shows exactly what goes.
func (a *App) showLosses(c *cli.Command, works []proof.Work) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	for _, w := range works {
		cells = append(cells, []string{visible(w.Name), w.Site, w.Identity.String(), size(w.Spec().Shape.Disk), strings.Join(machine.AddressWords(w.Adapters), " "), visible(w.Info.Owner)})
	}
	rows(a.Stdout, p, []string{"machine", "site", "identity", "disk", "addresses", "owner"}, cells)
	disks := " with " + itsTheir(len(works)) + " disks"
	if disksAfter(c) == contract.KeepDisks {
		disks = "; " + itsTheir(len(works)) + " disks are kept"
	}
	fmt.Fprintf(a.Stdout, "\n%s will be deleted%s\n", finding.Plural(len(works), "machine"), disks)
}
