package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/request"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	office "mintbatch/internal/request"
)

func (a *App) requestCommand() *cli.Command {
	one := func(c *cli.Command) error {
		if c.NArg() > 1 {
			return misuse{errors.New("name one request: mintbatch request list shows them")}
		}
		return nil
	}
	yes := &cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}
	return &cli.Command{
		Name:  "request",
		Usage: "decide on sheets that people have sent: list, show, approve, refuse",
		Description: "`mintbatch intake` takes sheets in; these commands show what they ask for and decide. A request is named by the\n" +
			"beginning of its id; if only one waits for a decision, it need not be named.\n\n" +
			"   mintbatch request list\n   mintbatch request show 4fq2\n   mintbatch request approve 4fq2",
		Action: group,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list requests", Description: "   mintbatch request list\n   mintbatch request list --all",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "also those that have come to their end"}}, Action: a.requestList},
			{Name: "show", Usage: "show a request, with what it would make now", ArgsUsage: "[REQUEST]", Description: "   mintbatch request show 4fq2\n   mintbatch request show 4fq2 --save sheet.xlsx",
				Flags: []cli.Flag{&cli.StringFlag{Name: "save", Usage: "write its sheet to a `FILE`"}, forceFlag(overFiles)}, Action: a.forRequest(one, a.requestShow)},
			{Name: "approve", Usage: "let the machines of a request be made by the intake", ArgsUsage: "[REQUEST]", Description: "   mintbatch request approve 4fq2", Flags: []cli.Flag{yes}, Action: a.forRequest(one, a.requestApprove)},
			{Name: "refuse", Usage: "say no to a request, and tell its sender", ArgsUsage: "[REQUEST]", Description: "   mintbatch request refuse 4fq2 --why 'see the wiki for what to ask for'",
				Flags: []cli.Flag{&cli.StringFlag{Name: "why", Usage: "a `TEXT` for its sender"}, yes}, Action: a.forRequest(one, a.requestRefuse)},
		},
	}
}

type (
	requestsJSON struct {
		Schema   string            `json:"schema"`
		Requests []request.Request `json:"requests"`
	}
	requestJSON struct {
		Schema string `json:"schema"`
		request.Request
		Works    []proof.Shown `json:"works"`
		Moved    bool          `json:"moved,omitempty"` // it is not what was shown before
		Findings finding.List  `json:"findings,omitempty"`
	}
)

// forRequest is the action of a command about a request.
func (a *App) forRequest(arguments func(*cli.Command) error, do func(context.Context, *cli.Command, *office.Office) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if err := arguments(c); err != nil {
			return err
		}
		o, err := a.office(c)
		if err == nil {
			err = do(ctx, c, o)
		}
		if errors.Is(err, office.ErrDecide) || errors.Is(err, office.ErrWhich) {
			err = misuse{err}
		}
		return err
	}
}

func (a *App) requestList(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	o, err := a.office(c)
	if err != nil {
		return err
	}
	all, err := o.List(ctx)
	if err != nil {
		return err
	}
	some := []request.Request{}
	var cells [][]string
	for _, r := range all {
		if r.State.Ended() && r.State != request.Failed && !c.Bool("all") {
			continue
		}
		some = append(some, r)
		cells = append(cells, []string{r.ID, string(r.State), visible(r.Sender), visible(r.Sheet), strings.Join(machine.NameRanges(r.Names()), " "), when(r.Received), visible(r.Why)})
	}
	if c.Bool("json") {
		return a.document(requestsJSON{"mintbatch/requests/1", some})
	}
	return a.table(c, []string{"request", "state", "sender", "sheet", "machines", "received", "why"}, cells, "no request is open")
}

func (a *App) requestShow(ctx context.Context, c *cli.Command, o *office.Office) error {
	if path := c.String("save"); path != "" {
		content, err := o.Sheet(ctx, c.Args().First())
		if err != nil {
			return err
		}
		if err := (output.Guard{}).Write(path, content, over(c), 0o600); err != nil {
			return err
		}
	}
	shown, err := o.Show(ctx, c.Args().First())
	if err != nil {
		if shown != nil && !c.Bool("json") {
			a.showRequest(c, shown)
		}
		return err
	}
	if c.Bool("json") {
		d := requestJSON{Schema: "mintbatch/request/1", Request: shown.Request, Works: proof.Show(shown.Works), Moved: shown.Moved}
		if shown.Refused != nil {
			d.Findings = shown.Refused.Findings
		}
		return a.document(d)
	}
	a.showRequest(c, shown)
	return nil
}

// showRequest prints a request with what it would make.
func (a *App) showRequest(c *cli.Command, shown *office.Proposal) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	line := a.labelled(p)
	for _, l := range [][2]string{{"request", shown.ID}, {"state", string(shown.State)}, {"sender", shown.Sender}, {"subject", shown.Subject}, {"sheet", shown.Sheet}, {"source", shown.Source}, {"rule", shown.Rule},
		{"received", when(shown.Received)}, {"decided by", shown.By}, {"run", shown.Run}, {"machines", strings.Join(machine.NameRanges(shown.Names()), " ")}, {"why", shown.Why}} {
		line(l[0], visible(l[1]))
	}
	a.paged(c, func(w io.Writer) {
		if len(shown.Works) > 0 {
			fmt.Fprintln(w)
			a.showProof(w, p, proof.Proof{Works: shown.Works}, everyMachine, false)
		}
		for _, note := range shown.Notes {
			paragraph(w, "", note)
		}
		if shown.Moved {
			paragraph(w, "", p.paint("This is not what would have been made when it was shown last.", text.FgHiYellow))
		}
	})
	if shown.Refused != nil {
		a.findings(a.Stdout, shown.Refused.Findings)
	}
}

func (a *App) requestApprove(ctx context.Context, c *cli.Command, o *office.Office) error {
	shown, err := o.Show(ctx, c.Args().First())
	if err != nil {
		return err
	}
	if shown.Refused != nil {
		return shown.Refused
	}
	if a.readsInput(c) {
		a.showRequest(c, shown)
	}
	seen := shown.Proof
	if c.Bool("yes") && shown.Moved {
		seen = "" // nobody has seen it
	}
	q := mint.Question{Text: fmt.Sprintf("Let %s be made for %s?", finding.Plural(len(shown.Works), "machine"), visible(shown.Sender)), Word: "yes"}
	if err := (&operator{App: a, c: c}).Confirm(q); err != nil {
		return err
	}
	one, err := o.Approve(ctx, shown.ID, seen, whoami())
	if err != nil {
		return err
	}
	return a.decided(c, one)
}

func (a *App) requestRefuse(ctx context.Context, c *cli.Command, o *office.Office) error {
	shown, err := o.Find(ctx, c.Args().First())
	if err != nil {
		return err
	}
	if err := (&operator{App: a, c: c}).Confirm(mint.Question{Text: fmt.Sprintf("Refuse %s of %s?", visible(shown.Sheet), visible(shown.Sender)), Word: "yes"}); err != nil {
		return err
	}
	one, err := o.Refuse(ctx, shown.ID, c.String("why"), whoami())
	if err != nil {
		return err
	}
	return a.decided(c, one)
}

// decided prints what a request is now.
func (a *App) decided(c *cli.Command, one request.Request) error {
	if c.Bool("json") {
		return a.document(requestJSON{Schema: "mintbatch/request/1", Request: one, Works: proof.Show(nil)})
	}
	return nil // the office has told it
}

func whoami() string {
	user, host := mint.Operator()
	return user + "@" + host
}
