package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/proof"
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
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
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
	if err := a.hold(ctx, s.Ledger); err != nil {
		return err
	}
	p, err := s.RemakeProof(ctx, c.Args().Slice())
	if err != nil {
		return err
	}
	return a.do(ctx, c, s, p, mint.Order{Command: "remake", AllowRemake: true})
}

func (a *App) retireCommand() *cli.Command {
	return &cli.Command{
		Name:      "retire",
		Usage:     "take machines down and give their addresses back",
		ArgsUsage: "MACHINE...",
		Description: "Shuts the machines down, deletes them with their disks and forgets them. Only what this\n" +
			"ledger made goes. One that is still in the sheet is new again for the next mint.\n\n" +
			"   mintbatch retire bms-sonar-03\n   mintbatch retire --strays",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "strays", Usage: "retire all machines that the sheet no longer has"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
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
	if err := a.hold(ctx, s.Ledger); err != nil {
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
	if !c.Bool("quiet") && !c.Bool("json") {
		a.showLosses(c, works)
	}
	if !c.Bool("yes") {
		if err := a.askToRetire(len(works)); err != nil {
			return err
		}
	}
	progress := a.newProgress(c, works)
	retired, err := s.Retire(ctx, a.stop, works, mint.Order{Watch: progress.watch, Boundary: a.Boundary})
	progress.end()
	if retired == nil {
		return err
	}
	if c.Bool("json") {
		return errors.Join(a.document(mintDocument(retired, proof.Proof{})), err)
	}
	a.closing(c, retired, 0)
	return err
}

// showLosses shows exactly what goes.
func (a *App) showLosses(c *cli.Command, works []proof.Work) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	for _, w := range works {
		cells = append(cells, []string{visible(w.Name), w.Site, w.Identity.String(), size(w.Machine.Shape.Disk), addresses(w.Machine), visible(w.Machine.Mark.Owner)})
	}
	rows(a.Stdout, p, []string{"machine", "site", "identity", "disk", "addresses", "owner"}, cells)
	fmt.Fprintf(a.Stdout, "\n%s to go, with everything on the disks\n", plural(len(works), "machine"))
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
