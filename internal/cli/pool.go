package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/address"
	"mintbatch/internal/mint"
	"mintbatch/internal/pools"
)

func (a *App) poolCommand() *cli.Command {
	network := &cli.StringFlag{Name: "network", Usage: "the `NETWORK` of the addresses (default: the one whose subnet has them)"}
	asCSV := &cli.BoolFlag{Name: "csv", Usage: "print CSV"}
	return &cli.Command{
		Name:   "pool",
		Usage:  "show address pools; hold and free addresses",
		Action: group,
		Commands: []*cli.Command{
			{Name: "list", Usage: "show how full the pools are", ArgsUsage: "[POOL...]", Action: a.withSetup(anyArguments, a.poolList), Flags: []cli.Flag{asCSV},
				Description: "Names may be globs or ranges. Write NETWORK/POOL where several networks have a pool of the same name.\n\n" +
					"   mintbatch pool list"},
			{Name: "show", Usage: "show the addresses of a pool and who has them", ArgsUsage: "POOL...", Action: a.withSetup(atLeastOne("name the pools: mintbatch pool show POOL"), a.poolShow), Flags: []cli.Flag{asCSV},
				Description: "   mintbatch pool show nodes\n   mintbatch pool show survey/nodes --csv"},
			{Name: "hold", Usage: "hold addresses, so that they are not assigned", ArgsUsage: "ADDRESS...", Action: a.poolHold,
				Flags: []cli.Flag{network, &cli.StringFlag{Name: "note", Usage: "the reason"}, &cli.StringFlag{Name: "until", Usage: "the last `DATE` of the hold, such as 2027-03-31 (default: no end)"}},
				Description: "Addresses may be ranges.\n\n" +
					"   mintbatch pool hold 198.51.100.120 --note 'the printer' --until 2027-03-31\n   mintbatch pool hold 198.51.100.150-198.51.100.159"},
			{Name: "free", Usage: "free addresses that are held, imported, cooling or reserved", ArgsUsage: "ADDRESS...", Action: a.withSetup(atLeastOne("name the addresses: mintbatch pool free ADDRESS"), a.poolFree), Flags: []cli.Flag{network},
				Description: "The address of a machine is freed when the machine is retired.\n\n" +
					"   mintbatch pool free 198.51.100.120"},
			{Name: "import", Usage: "hold the addresses of a list, so that they are not assigned", ArgsUsage: "FILE", Action: a.withSetup(exactlyOne("name one file: mintbatch pool import FILE"), a.poolImport), Flags: []cli.Flag{network},
				Description: "The file is CSV with a column \"address\" and optionally \"note\" (without headings: the address\n" +
					"first), or JSON, a list of addresses or of objects with these keys.\n\n" +
					"   mintbatch pool import others.csv"},
		},
	}
}

// standings are those that a pool's addresses can have, in the order in which
// they are reported, with the letter of each in the picture.
var standings = []struct {
	address.Standing
	letter string
	colour text.Color
}{{address.InUse, "u", text.FgHiCyan}, {address.Reserved, "r", text.FgHiBlue}, {address.Cooling, "c", text.FgYellow}, {address.Held, "h", text.FgMagenta}, {address.Imported, "i", text.FgMagenta}}

func (a *App) poolList(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	all, err := poolsOf(s).List(ctx, c.Args().Slice())
	if err != nil {
		return err
	}
	if c.Bool("json") {
		for i := range all {
			all[i].Reservations = nil
		}
		return a.document(poolsJSON{"mintbatch/pools/1", append([]pools.View{}, all...)})
	}
	heads := []string{"network", "pool", "allocation", "addresses", "free"}
	for _, s := range standings {
		heads = append(heads, string(s.Standing))
	}
	var cells [][]string
	for _, v := range all {
		line := []string{v.Network, v.Pool, string(v.Allocation), count(v.Size), count(v.Free)}
		for _, s := range standings {
			line = append(line, fmt.Sprint(v.Counts[s.Standing]))
		}
		cells = append(cells, line)
	}
	return a.table(c, heads, cells, "the setup has no pools")
}

type poolsJSON struct {
	Schema string       `json:"schema"`
	Pools  []pools.View `json:"pools"`
}

// count writes a number; one that no longer fits is reported as a power of two.
func count(n uint64) string {
	if n >= 1<<62 {
		return "2^63 or more"
	}
	return fmt.Sprint(n)
}

// table prints rows as CSV where that is asked for, else as a table.
func (a *App) table(c *cli.Command, heads []string, cells [][]string, none string) error {
	if c.Bool("csv") {
		w := csv.NewWriter(a.Stdout)
		_ = w.Write(heads)
		_ = w.WriteAll(cells)
		return w.Error()
	}
	if len(cells) == 0 {
		fmt.Fprintln(a.Stdout, none)
		return nil
	}
	rows(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), heads, cells)
	return nil
}

func (a *App) poolShow(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	all, err := poolsOf(s).List(ctx, c.Args().Slice())
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.document(poolsJSON{"mintbatch/pools/1", append([]pools.View{}, all...)})
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	for i, v := range all {
		var cells [][]string
		for _, r := range v.Reservations {
			cells = append(cells, []string{r.Addr.String(), string(r.Standing), visible(r.Machine), r.Site, when(r.Since), when(r.Until), visible(r.Note)})
		}
		if !c.Bool("csv") {
			if i > 0 {
				fmt.Fprintln(a.Stdout)
			}
			line := a.labelled(p)
			line("pool", v.Network+"/"+v.Pool)
			line("ranges", strings.Join(v.Ranges, " "))
			line("allocation", string(v.Allocation))
			line("addresses", count(v.Size)+", "+count(v.Free)+" free")
			fmt.Fprintln(a.Stdout)
			if _, is := terminal(a.Stdout); is && !a.plain {
				drawPool(a.Stdout, p, v)
			}
		}
		if err := a.table(c, []string{"address", "standing", "machine", "site", "since", "until", "note"}, cells, "all are free"); err != nil {
			return err
		}
	}
	return nil
}

// The picture of a pool: so many addresses in a line, half of them on a narrow terminal, and
// so many lines at most.
const (
	poolLine  = 64
	poolLines = 16
)

// drawPool draws a letter for each address, in lines.
func drawPool(w io.Writer, p painter, v pools.View) {
	n, line := 0, poolLine
	if width, is := terminal(w); is && width < poolLine+20 {
		line /= 2
	}
	v.Each(line*poolLines, func(at netip.Addr, s address.Standing) {
		if n%line == 0 {
			if n > 0 {
				fmt.Fprintln(w)
			}
			fmt.Fprintf(w, "%-18s ", at)
		}
		n++
		letter := "."
		for _, one := range standings {
			if one.Standing == s {
				letter = p.paint(one.letter, one.colour)
			}
		}
		fmt.Fprint(w, letter)
	})
	fmt.Fprintln(w)
	words := []string{". free"}
	for _, one := range standings {
		if v.Counts[one.Standing] > 0 {
			words = append(words, p.paint(one.letter, one.colour)+" "+string(one.Standing))
		}
	}
	if uint64(n) < v.Size {
		words = append(words, fmt.Sprintf("(the first %d)", n))
	}
	fmt.Fprintf(w, "%-18s %s\n\n", "", strings.Join(words, "  "))
}

func (a *App) poolHold(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return misuse{errors.New("name the addresses: mintbatch pool hold ADDRESS")}
	}
	until := time.Time{}
	if date := c.String("until"); date != "" {
		day, err := time.ParseInLocation(time.DateOnly, date, time.Local)
		if err != nil {
			return misuse{fmt.Errorf("%q is not a date; write it as 2027-03-31", date)}
		}
		if until = day.AddDate(0, 0, 1); until.Before(time.Now()) {
			return misuse{fmt.Errorf("the date %s is in the past", date)}
		}
	}
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	n, err := poolsOf(s).Hold(ctx, c.Args().Slice(), c.String("network"), c.String("note"), until)
	return a.poolEvents(n, "held", err)
}

func (a *App) poolFree(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	n, err := poolsOf(s).Free(ctx, c.Args().Slice(), c.String("network"))
	return a.poolEvents(n, "freed", err)
}

func (a *App) poolImport(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	n, kept, err := poolsOf(s).Import(ctx, c.Args().First(), c.String("network"))
	if len(kept) > 0 {
		fmt.Fprintf(a.Stderr, "skipped, already not assignable: %s\n", strings.Join(kept, " "))
	}
	return a.poolEvents(n, "imported", err)
}

func (a *App) poolEvents(n int, what string, err error) error {
	if err == nil || n > 0 {
		addresses := "addresses"
		if n == 1 {
			addresses = "address"
		}
		fmt.Fprintf(a.Stderr, "%d %s %s\n", n, addresses, what)
	}
	return err
}

func poolsOf(d *mint.Desk) *pools.Pools {
	user, host := mint.Operator()
	return &pools.Pools{Setup: d.Setup, Ledger: d.Ledger, User: user, Host: host}
}
