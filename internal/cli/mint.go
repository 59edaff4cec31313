package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/core/wave"
	"mintbatch/internal/core/window"
	"mintbatch/internal/handover"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
)

func (a *App) mintCommand() *cli.Command {
	return &cli.Command{
		Name:      "mint",
		Usage:     "show the proof, ask for confirmation, make the machines",
		ArgsUsage: "[MACHINE...]",
		Description: "Clones, configures, starts and confirms every machine that is not as the sheet says. After an\n" +
			"interruption of any kind, run the same command again to continue. Names may be globs or ranges.\n\n" +
			"   mintbatch mint\n   mintbatch mint --yes\n   mintbatch mint --waves 1,10%,rest\n   mintbatch mint 'bms-tide-*' --stop-after 2\n   mintbatch mint --failed",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"},
			&cli.IntFlag{Name: "stop-after", Usage: "start no further machines after `N` failures"},
			&cli.StringFlag{Name: "waves", Usage: "mint in `WAVES` such as 1,10%,rest, each confirmed before the next; a wave with failures is the last (default: the setup's waves)"},
			&cli.StringFlag{Name: "restart-window", Usage: "begin changes that restart a machine only in this `WINDOW` of the day, such as 16:00-18:00, and wait for it (default: the setup's)"},
			&cli.BoolFlag{Name: "failed", Usage: "only the machines that the last run did not finish"},
			&cli.BoolFlag{Name: "no-start", Usage: "make all machines but start none; run the command without it to continue"},
			eachFlag(),
			eventsFlag(),
			&cli.StringFlag{Name: "workbook", Usage: "afterwards write a copy of the sheet, with the results, to `FILE`"},
			forceFlag(overFiles),
			forceOffFlag(),
			keepHostKeyFlag(),
			acceptMissingFlag(),
			&cli.BoolFlag{Name: "fix-drift", Usage: "also revert changes that were made at the sites outside of mintbatch"},
			&cli.BoolFlag{Name: "allow-remake", Usage: "also clone machines again where a change needs it; the contents of their disks are lost"},
		},
		Action: a.mint,
	}
}

func (a *App) mint(ctx context.Context, c *cli.Command) error {
	if c.Int("stop-after") < 0 {
		return misuse{errors.New("--stop-after must be 1 or more")}
	}
	names, err := a.toMint(ctx, c)
	if err != nil || names == nil {
		return err
	}
	d, err := a.openFor(ctx, c, names)
	if err != nil {
		return err
	}
	defer d.Close()
	waves := d.Setup.Limits.Waves
	if text := c.String("waves"); text != "" {
		if waves, err = wave.Parse(text); err != nil {
			return misuse{fmt.Errorf("--waves: %w", err)}
		}
	}
	restarts := d.Setup.Limits.Restarts
	if text := c.String("restart-window"); text != "" {
		if restarts, err = window.Parse(text); err != nil {
			return misuse{fmt.Errorf("--restart-window: %w", err)}
		}
	}
	if path := c.String("workbook"); path != "" {
		if err := handover.CheckWorkbook(d, path, over(c)); err != nil {
			return err
		}
	}
	if err := a.lock(ctx, c, d, d.InSheet(names)); err != nil {
		return err
	}
	if err := a.fetchMissing(ctx, c, d, names); err != nil {
		return err
	}
	p, err := d.Make(ctx, plan.Request{Names: names, Contact: plan.Online, Missing: missing(c), Entries: plan.Entries(c.Bool("fix-drift"))})
	if err != nil {
		return err
	}
	if c.Bool("fix-drift") {
		p = p.RevertDrift()
	}
	return a.mintOnce(ctx, c, d, p, plan.Remakes(c.Bool("allow-remake")), mint.Order{StopAfter: int(c.Int("stop-after")), Waves: waves, Window: restarts, Unstarted: c.Bool("no-start"), ForceOff: c.Bool("force-off"), KeepHostKey: c.Bool("keep-host-key")})
}

// toMint are the machines that a mint is about; empty if it is about all, nil if about none.
func (a *App) toMint(ctx context.Context, c *cli.Command) ([]string, error) {
	switch names := c.Args().Slice(); {
	case !c.Bool("failed"):
		return append([]string{}, names...), nil
	case len(names) > 0:
		return nil, misuse{errors.New("--failed says which machines; name none")}
	}
	d, err := a.openSetup(ctx, c, "ledger")
	if err != nil {
		return nil, err
	}
	defer d.Close()
	run, names, err := d.Unfinished(ctx)
	if err == nil && len(names) == 0 && a.readsInput(c) {
		fmt.Fprintln(a.Stdout, cmp.Or(run, "No run")+" left no machine unfinished")
	}
	return names, err
}

// mintOnce shows a plan, asks, does it and tells what came of it.
func (a *App) mintOnce(ctx context.Context, c *cli.Command, d *mint.Desk, p *plan.Plan, remakes plan.Remakes, order mint.Order) error {
	probed, err := p.Probe(ctx)
	if err != nil {
		return err
	}
	a.findings(a.Stderr, p.Warnings)
	task, err := d.Minting(ctx, c.Name, p, remakes, order)
	if err != nil {
		return err
	}
	if a.readsInput(c) {
		a.showProof(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), p.Proof, machinesWithWork, c.Bool("each"))
		a.showCommentedOut(a.Stdout, d)
		a.showTime(a.Stdout, p, task.Works)
		a.showWindow(a.Stdout, task)
		a.showProbed(a.Stdout, probed)
	}
	outcome, err := a.perform(ctx, c, d, task, task.MintQuestion())
	if outcome == nil {
		return err
	}
	if path := c.String("workbook"); path != "" {
		err = errors.Join(err, handover.WriteWorkbook(context.WithoutCancel(ctx), d, path, over(c), p.Proof))
	}
	if c.Bool("json") {
		return errors.Join(a.document(mintDocument(outcome, p.Proof)), err)
	}
	if a.streams(c) {
		return err
	}
	a.closing(c, outcome, "", p.Proof)
	if n := unstarted(outcome); order.Unstarted && n > 0 && !c.Bool("quiet") {
		fmt.Fprintf(a.Stdout, "%s made and not started; run the same command without --no-start to start and confirm %s\n", finding.Plural(n, "machine"), itThem(n))
	}
	return err
}

// unstarted counts the machines that were made and are yet to be started.
func unstarted(m *mint.Outcome) int {
	n := 0
	for _, r := range m.Results {
		if r.Err == nil && (r.Word == proof.New || r.Word == proof.Remake) && r.Spec().Power.Starts() {
			n++
		}
	}
	return n
}

type resultJSON struct {
	Site    string     `json:"site"`
	Name    string     `json:"name"`
	Work    proof.Word `json:"work"`
	Result  string     `json:"result"` // done, failed, held back, stopped, refused
	Step    step.Name  `json:"step,omitempty"`
	Error   string     `json:"error,omitempty"`
	Seconds float64    `json:"seconds"`
	Disks   []string   `json:"disks,omitempty"` // that stay, of a retired machine
}

type mintJSON struct {
	Schema  string             `json:"schema"`
	Run     string             `json:"run,omitempty"`
	Totals  map[proof.Word]int `json:"totals"`
	Results []resultJSON       `json:"results"`
	// WaitingNotices are in the outbox because they could not be sent yet.
	WaitingNotices int `json:"waiting_notices,omitempty"`
}

func mintDocument(m *mint.Outcome, p proof.Proof) mintJSON {
	d := mintJSON{Schema: "mintbatch/mint/1", Run: m.Run, Totals: proofDocument(p).Totals, Results: []resultJSON{}, WaitingNotices: len(m.Waiting)}
	for _, r := range m.Results {
		one := resultJSON{Site: r.Site, Name: r.Name, Work: r.Word, Result: "done", Seconds: r.Took.Round(time.Millisecond).Seconds()}
		if r.Err != nil {
			one.Result, one.Step, one.Error = "failed", r.Step, r.Err.Error()
			var held *run.HeldBack
			switch {
			case errors.Is(r.Err, run.ErrStopped):
				one.Result = "stopped"
			case errors.As(r.Err, &held):
				one.Result = "held back"
			}
		}
		for _, k := range m.Kept {
			if k.Key == r.Key {
				one.Disks = k.Disks
			}
		}
		d.Results = append(d.Results, one)
	}
	for _, w := range m.Refused {
		d.Results = append(d.Results, resultJSON{Site: w.Site, Name: w.Name, Work: w.Word, Result: "refused", Error: w.Why()})
	}
	return d
}
