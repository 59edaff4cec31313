package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
)

func (a *App) mintCommand() *cli.Command {
	return &cli.Command{
		Name:      "mint",
		Usage:     "show the proof, ask, do it",
		ArgsUsage: "[MACHINE...]",
		Description: "Clones, shapes, seeds, starts and confirms every machine that is not as the sheet says.\n" +
			"Interrupted in whatever way, the same command goes on where it was. Names may be globs.\n\n" +
			"   mintbatch mint\n   mintbatch mint --yes\n   mintbatch mint --wave 1,10%,rest\n   mintbatch mint 'bms-tide-*' --stop-after 2",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
			&cli.IntFlag{Name: "stop-after", Usage: "begin no more machines after `N` failed ones"},
			&cli.StringFlag{Name: "wave", Usage: "mint in portions such as `1,10%,rest`, each confirmed before the next; a failed machine, or --stop-after, ends it (default: the setup's)"},
			&cli.StringFlag{Name: "until", Usage: "`start` makes all machines and starts none; the same command without it goes on"},
			eventsFlag(),
			&cli.StringFlag{Name: "workbook", Usage: "afterwards write a copy of the sheet with what was made into `FILE`"},
			&cli.BoolFlag{Name: "force", Usage: "let --workbook write over a file"},
			forceOffFlag(),
			keepHostKeyFlag(),
			&cli.BoolFlag{Name: "fix-drift", Usage: "also put right what somebody has changed at the sites"},
			&cli.BoolFlag{Name: "allow-remake", Usage: "also clone again what can only be had so; what its disk holds is lost"},
		},
		Action: a.mint,
	}
}

func (a *App) mint(ctx context.Context, c *cli.Command) error {
	if c.Int("stop-after") < 0 {
		return misuse{errors.New("--stop-after counts failed machines: 1 or more")}
	}
	if u := c.String("until"); u != "" && u != string(run.Start) {
		return misuse{fmt.Errorf("--until takes start, not %q", u)}
	}
	s, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	waves, err := proof.ParseWaves(cmp.Or(c.String("wave"), s.Setup.Limits.Waves))
	if err != nil {
		return misuse{fmt.Errorf("--wave: %w", err)}
	}
	if path := c.String("workbook"); path != "" {
		if err := s.CheckWorkbook(path, c.Bool("force")); err != nil {
			return err
		}
	}
	if err := a.hold(ctx, c, s, s.InSheet(c.Args().Slice())); err != nil {
		return err
	}
	p, err := s.Proof(ctx, c.Args().Slice(), false)
	if err != nil {
		return err
	}
	if c.Bool("fix-drift") {
		p = p.PutRight()
	}
	return a.do(ctx, c, s, p, c.Bool("allow-remake"), mint.Order{StopAfter: int(c.Int("stop-after")), Waves: waves, Unstarted: c.String("until") != "", ForceOff: c.Bool("force-off"), KeepHostKey: c.Bool("keep-host-key")})
}

// do shows a proof, asks, does it and tells what came of it.
func (a *App) do(ctx context.Context, c *cli.Command, s *mint.Session, p proof.Proof, allowRemake bool, order mint.Order) error {
	todo, refused := mint.Todo(p, allowRemake)
	looked, err := s.Look(ctx, p)
	if err != nil {
		return err
	}
	a.findings(a.Stderr, s.Warnings)
	if a.talks(c) {
		a.showProof(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), p, true)
		a.showTime(s, todo)
		a.showLooked(looked)
	}
	minted, err := a.perform(ctx, c, s, task{todo, order, func() error {
		return a.ask(fmt.Sprintf("%s %s?", titled(c.Name), plural(len(todo), "machine")), "yes")
	}, func(works []proof.Work, o mint.Order) (*mint.Minted, error) {
		return s.Mint(ctx, a.stop, works, refused, o)
	}})
	if minted == nil {
		return err
	}
	if path := c.String("workbook"); path != "" {
		err = errors.Join(err, s.WriteWorkbook(context.WithoutCancel(ctx), path, p))
	}
	if c.Bool("json") {
		return errors.Join(a.document(mintDocument(minted, p)), err)
	}
	if a.streams(c) {
		return err
	}
	a.closing(c, minted, "", p.Count(proof.Stray))
	if order.Unstarted && len(minted.Results) > 0 && !c.Bool("quiet") {
		fmt.Fprintln(a.Stdout, "made and not started: the same command without --until starts and confirms them")
	}
	return err
}

func titled(word string) string { return strings.ToUpper(word[:1]) + word[1:] }

type resultJSON struct {
	Site    string     `json:"site"`
	Name    string     `json:"name"`
	Work    proof.Word `json:"work"`
	Result  string     `json:"result"` // done, failed, stopped, refused
	Step    run.Step   `json:"step,omitempty"`
	Error   string     `json:"error,omitempty"`
	Seconds float64    `json:"seconds"`
	Disks   []string   `json:"disks,omitempty"` // that stay, of a retired machine
}

type mintJSON struct {
	Schema  string             `json:"schema"`
	Run     string             `json:"run,omitempty"`
	Totals  map[proof.Word]int `json:"totals"`
	Results []resultJSON       `json:"results"`
}

func mintDocument(m *mint.Minted, p proof.Proof) mintJSON {
	d := mintJSON{Schema: "mintbatch/mint/1", Run: m.Run, Totals: proofDocument(p).Totals, Results: []resultJSON{}}
	for _, r := range m.Results {
		one := resultJSON{Site: r.Site, Name: r.Name, Work: r.Word, Result: "done", Seconds: r.Took.Round(time.Millisecond).Seconds()}
		if r.Err != nil {
			one.Result, one.Step, one.Error = "failed", r.Step, r.Err.Error()
			if errors.Is(r.Err, run.ErrStopped) {
				one.Result = "stopped"
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
