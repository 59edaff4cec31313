package cli

import (
	"context"
	"errors"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/mint"
)

func (a *App) acceptCommand() *cli.Command {
	return &cli.Command{
		Name:      "accept",
		Usage:     "record in the ledger what was changed inside a guest, where it matches the sheet",
		ArgsUsage: "MACHINE...",
		Description: "Asks each guest for its settings and compares them with the row. Where they match, the ledger\n" +
			"and the site record the row's values, and the machine keeps its disk. The machine itself is not\n" +
			"changed. Settings that are not visible from outside (packages, files, ...) are listed, and\n" +
			"recorded on your confirmation.\n\n" +
			"   mintbatch accept bms-tide-03\n   mintbatch accept 'bms-tide-*' --yes",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}, eventsFlag(), forceFlag(overFiles)},
		Action: a.accept,
	}
}

func (a *App) accept(ctx context.Context, c *cli.Command) error {
	if err := atLeastOne("name the machines: mintbatch accept MACHINE [MACHINE...]")(c); err != nil {
		return err
	}
	s, err := a.openNamed(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := a.lock(ctx, c, s, s.InSheet(c.Args().Slice())); err != nil {
		return err
	}
	all, p, err := s.Acceptable(ctx, c.Args().Slice())
	if err != nil {
		return err
	}
	a.findings(a.Stderr, p.Warnings)
	task, disagree := mint.Accepting(c.Name, all, p), 0
	for _, one := range all {
		if !one.Agrees {
			disagree++
		}
	}
	if a.readsInput(c) {
		a.showAcceptances(c, all)
	}
	var came *mint.Outcome
	if len(task.Works) > 0 {
		if came, err = a.perform(ctx, c, s, task, task.AcceptQuestion()); came == nil {
			return err
		}
	}
	if c.Bool("json") {
		err = errors.Join(a.acceptDocument(all, came), err)
	} else if came != nil && !a.streams(c) {
		a.closing(c, came, "accepted", proof.Proof{})
	}
	if err == nil && disagree > 0 {
		return &reported{exitIncomplete}
	}
	return err
}

func (a *App) acceptDocument(all []mint.Acceptance, came *mint.Outcome) error {
	document := acceptJSON{Schema: "mintbatch/accept/1", Machines: append([]mint.Acceptance{}, all...), Results: []resultJSON{}}
	if came != nil {
		done := mintDocument(came, proof.Proof{})
		document.Run, document.Results = done.Run, done.Results
	}
	return a.document(document)
}

func (a *App) showAcceptances(c *cli.Command, all []mint.Acceptance) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	join := func(reasons []proof.Reason) string {
		words := make([]string, len(reasons))
		for i, r := range reasons {
			words[i] = r.String()
		}
		return strings.Join(words, "; ")
	}
	var cells [][]string
	for _, one := range all {
		line := []string{visible(one.Name), one.Site, p.paint("agrees", text.FgHiCyan), visible(join(one.Changes))}
		switch {
		case !one.Agrees:
			line[2], line[3] = p.paint("does not match", text.FgHiRed), visible(one.Why)
		case one.Nothing():
			line[3] = "nothing to record"
		case len(one.Unseen) > 0:
			line[3] += " (not visible from outside: " + visible(join(one.Unseen)) + ")"
		}
		cells = append(cells, line)
	}
	if len(cells) > 0 {
		rows(a.Stdout, p, []string{"machine", "site", "guest and row", "changes"}, cells)
	}
}
