package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
)

func (a *App) remakeCommand() *cli.Command {
	return &cli.Command{
		Name:      "remake",
		Usage:     "clone again from the template, keeping name and addresses",
		ArgsUsage: "MACHINE...",
		Description: "A spoiled machine is back as its row says: fresh disk, login and host key, with the name,\n" +
			"addresses and MAC that it had. What its disk holds is lost. Names may be globs.\n\n" +
			"   mintbatch remake bms-sonar-03",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}, keepHostKeyFlag(), eventsFlag()},
		Action: a.remake,
	}
}

func (a *App) remake(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return misuse{errors.New("say which machines: mintbatch remake MACHINE [MACHINE...]")}
	}
	s, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := a.hold(ctx, c, s, s.InSheet(c.Args().Slice())); err != nil {
		return err
	}
	p, err := s.RemakeProof(ctx, c.Args().Slice())
	if err != nil {
		return err
	}
	return a.do(ctx, c, s, p, true, mint.Order{KeepHostKey: c.Bool("keep-host-key")})
}

func (a *App) retireCommand() *cli.Command {
	return &cli.Command{
		Name:      "retire",
		Usage:     "take machines down and give their addresses back",
		ArgsUsage: "MACHINE...",
		Description: "Shuts the machines down, deletes them with their disks and forgets them. Only what this\n" +
			"ledger made goes. One that is still in the sheet is new again for the next mint.\n" +
			"With --keep-disks the machines go and their disks stay; no later machine will touch those.\n\n" +
			"   mintbatch retire bms-sonar-03\n   mintbatch retire --keep-disks bms-sonar-03\n   mintbatch retire --strays",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "strays", Usage: "retire all machines that the sheet no longer has"},
			keepDisksFlag(),
			forceOffFlag(),
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
			eventsFlag(),
		},
		Action: a.retire,
	}
}

func (a *App) retire(ctx context.Context, c *cli.Command) error {
	strays := c.Bool("strays")
	if c.Args().Present() == strays {
		return misuse{errors.New("say which machines: mintbatch retire MACHINE [MACHINE...], or --strays for all that the sheet no longer has")}
	}
	open := a.openSetup
	if strays {
		open = a.open
	}
	s, err := open(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	scope := mint.Named(c.Args().Slice())
	if strays {
		scope = s.NotInSheet()
	}
	if err := a.hold(ctx, c, s, scope); err != nil {
		return err
	}
	works, err := s.Owned(ctx, c.Args().Slice())
	if strays {
		works, err = s.Strays(ctx)
	}
	if err != nil {
		return err
	}
	if len(works) == 0 {
		fmt.Fprintln(a.Stdout, "no strays: the sheet has every machine of the ledger")
		return nil
	}
	if a.talks(c) {
		a.showLosses(c, works)
	}
	return a.takeDown(ctx, c, s, works, "retired", func() error { return a.askToRetire(len(works)) }, (*mint.Session).Retire)
}

// talks tells whether what a command does is told in words on standard output.
func (a *App) talks(c *cli.Command) bool {
	return !c.Bool("quiet") && !c.Bool("json") && !a.streams(c)
}

// takeDown asks and then does something to machines of the ledger, and tells what
// came of it; done is the word for that.
func (a *App) takeDown(ctx context.Context, c *cli.Command, s *mint.Session, works []proof.Work, done string, ask func() error,
	do func(s *mint.Session, ctx, stop context.Context, works []proof.Work, o mint.Order) (*mint.Minted, error)) error {
	order := mint.Order{ForceOff: c.Bool("force-off"), Disks: disksAfter(c)}
	came, err := a.perform(ctx, c, s, task{works, order, ask,
		func(works []proof.Work, o mint.Order) (*mint.Minted, error) { return do(s, ctx, a.stop, works, o) }})
	switch {
	case came == nil || a.streams(c):
		return err
	case c.Bool("json"):
		return errors.Join(a.document(mintDocument(came, proof.Proof{})), err)
	}
	if !c.Bool("quiet") {
		a.showKept(c, came.Kept)
	}
	a.closing(c, came, done, 0)
	return err
}

// showKept tells where disks are that nobody looks after from now on.
func (a *App) showKept(c *cli.Command, kept []ledger.Kept) {
	var cells [][]string
	for _, k := range kept {
		for _, disk := range k.Disks {
			cells = append(cells, []string{visible(k.Name), k.Site, visible(disk)})
		}
	}
	if len(cells) > 0 {
		fmt.Fprintln(a.Stdout)
		rows(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), []string{"machine", "site", "disk that stays"}, cells)
	}
}

// showLosses shows exactly what goes.
func (a *App) showLosses(c *cli.Command, works []proof.Work) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	for _, w := range works {
		cells = append(cells, []string{visible(w.Name), w.Site, w.Identity.String(), size(w.Machine.Shape.Disk), addresses(w.Machine), visible(w.Machine.Mark.Owner)})
	}
	rows(a.Stdout, p, []string{"machine", "site", "identity", "disk", "addresses", "owner"}, cells)
	disks := "with everything on the disks"
	if disksAfter(c) == survey.KeepDisks {
		disks = "and the disks to stay"
	}
	fmt.Fprintf(a.Stdout, "\n%s to go, %s\n", plural(len(works), "machine"), disks)
}

// manyMachines is from how many on a mere yes is too easily said.
const manyMachines = 10

func (a *App) askToRetire(n int) error {
	word := "yes"
	if n > manyMachines {
		word = fmt.Sprint(n)
	}
	return a.ask(fmt.Sprintf("Retire %s?", plural(n, "machine")), word)
}
