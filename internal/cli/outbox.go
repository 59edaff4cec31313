package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
)

func (a *App) outboxCommand() *cli.Command {
	return &cli.Command{
		Name:  "outbox",
		Usage: "what other systems have not been told yet: list, send, drop",
		Description: "What the setup's `notices` tell other systems of machines is kept in the ledger until they have taken it. Each\n" +
			"run sends what is waiting; these commands do so at any time. WHAT is the beginning of an id, a notice of\n" +
			"the setup, or a machine, also as a glob.\n\n" +
			"   mintbatch outbox list\n   mintbatch outbox send\n   mintbatch outbox drop item",
		Action: group,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list what is waiting, and why", ArgsUsage: "[WHAT...]", Description: "   mintbatch outbox list", Action: a.withSetup(anyArguments, a.outboxList)},
			{Name: "send", Usage: "send what is waiting", ArgsUsage: "[WHAT...]", Description: "   mintbatch outbox send 'bms-tide-*'", Action: a.withSetup(anyArguments, a.outboxSend)},
			{Name: "drop", Usage: "forget what is waiting: nobody is told", ArgsUsage: "WHAT...", Description: "   mintbatch outbox drop item",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}}, Action: a.withSetup(atLeastOne("say what is to be dropped: mintbatch outbox drop WHAT [WHAT...]"), a.outboxDrop)},
		},
	}
}

// waiting finds what is waiting and meant.
func (a *App) waiting(ctx context.Context, c *cli.Command, d *mint.Desk) (some []ledger.Outgoing, chosen func(ledger.Outgoing) bool, err error) {
	all, err := d.Ledger.Outbox(ctx)
	if err != nil {
		return nil, nil, err
	}
	if chosen, err = mint.Chosen(all, c.Args().Slice()); err != nil {
		return nil, nil, err
	}
	for _, o := range all {
		if chosen(o) {
			some = append(some, o)
		}
	}
	return some, chosen, nil
}

func (a *App) outboxList(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	some, _, err := a.waiting(ctx, c, d)
	if err != nil {
		return err
	}
	return a.showOutbox(c, outboxJSON{Schema: "mintbatch/outbox/1"}, some, "nothing is waiting")
}

// showOutbox prints what is waiting.
func (a *App) showOutbox(c *cli.Command, d outboxJSON, some []ledger.Outgoing, none string) error {
	d.Waiting = []waitingJSON{}
	var cells [][]string
	for _, o := range some {
		w := waitingJSON{ID: o.ID, Notice: o.Notice, Event: string(o.Data.Kind), Site: o.Key().Site, Name: o.Key().Name, Run: o.Data.Run.ID, At: o.At.UTC(), Tries: o.Tries, Error: o.Error}
		tried := ""
		if !o.Tried.IsZero() {
			at := o.Tried.UTC()
			w.Tried, tried = &at, o.Tried.Local().Format("2006-01-02 15:04")
			if day := o.At.Local().Format(time.DateOnly); strings.HasPrefix(tried, day) {
				tried = strings.TrimPrefix(tried, day+" ")
			}
		}
		d.Waiting = append(d.Waiting, w)
		cells = append(cells, []string{o.ID[:8], o.Notice, w.Event, visible(w.Name), w.Site, o.At.Local().Format("2006-01-02 15:04"), few(o.Tries), tried, visible(o.Error)})
	}
	if c.Bool("json") {
		return a.document(d)
	}
	return a.table(c, []string{"id", "notice", "event", "machine", "site", "since", "tries", "last", "why"}, cells, none)
}

func (a *App) outboxSend(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	_, chosen, err := a.waiting(ctx, c, d)
	if err != nil {
		return err
	}
	sent, left, err := d.SendOutbox(ctx, chosen)
	if err != nil {
		return err
	}
	var waiting []ledger.Outgoing
	for _, o := range left {
		if chosen(o) {
			waiting = append(waiting, o)
		}
	}
	if !c.Bool("json") && !c.Bool("quiet") {
		fmt.Fprintf(a.Stdout, "sent %s\n", finding.Plural(sent, "notice"))
	}
	if len(waiting) == 0 && !c.Bool("json") {
		return nil
	}
	if err := a.showOutbox(c, outboxJSON{Schema: "mintbatch/outbox/1", Sent: sent}, waiting, ""); err != nil {
		return err
	}
	if len(waiting) > 0 {
		return &reported{exitIncomplete}
	}
	return nil
}

func (a *App) outboxDrop(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	some, _, err := a.waiting(ctx, c, d)
	if err != nil || len(some) == 0 {
		return err
	}
	if a.readsInput(c) {
		if err := a.showOutbox(c, outboxJSON{}, some, ""); err != nil {
			return err
		}
	}
	if err := (&operator{App: a, c: c}).Confirm(mint.Question{Text: fmt.Sprintf("Forget %s? Nobody will be told.", finding.Plural(len(some), "notice")), Word: "yes"}); err != nil {
		return err
	}
	for _, o := range some {
		if err := d.Ledger.DropOutgoing(ctx, o); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return a.document(outboxJSON{Schema: "mintbatch/outbox/1", Dropped: len(some), Waiting: []waitingJSON{}})
	}
	fmt.Fprintf(a.Stdout, "dropped %s\n", finding.Plural(len(some), "notice"))
	return nil
}

type (
	// outboxJSON is what is waiting to be told to others.
	outboxJSON struct {
		Schema  string        `json:"schema"`
		Sent    int           `json:"sent,omitempty"`
		Dropped int           `json:"dropped,omitempty"`
		Waiting []waitingJSON `json:"waiting"`
	}
	waitingJSON struct {
		ID     string     `json:"id"`
		Notice string     `json:"notice"`
		Event  string     `json:"event"`
		Site   string     `json:"site,omitempty"`
		Name   string     `json:"name,omitempty"`
		Run    string     `json:"run"`
		At     time.Time  `json:"at"`
		Tries  int        `json:"tries,omitempty"`
		Tried  *time.Time `json:"tried,omitempty"`
		Error  string     `json:"error,omitempty"`
	}
)
