package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/sandbox"
)

func (a *App) sandboxCommand() *cli.Command {
	return &cli.Command{
		Name:  "sandbox",
		Usage: "serve a simulated virtualization manager",
		Description: "Serves a simulated virtualization manager on loopback, with hosts, stores and guests. Its state\n" +
			"is kept in a folder and is there again the next time.\n\n" +
			"   mintbatch sandbox\n   mintbatch sandbox --dir /tmp/sb --listen 127.0.0.1:7443 --fault lose:5%\n\nFaults: refuse (a call), slow (a task), fail (a task), lose (the reply to an act that was\ndone), full (a store), no-shutdown (a guest that does not shut down), lose-update and refuse-update (of the DNS server), lose-notice and refuse-notice (of the record keeper), late-notice (it answers five seconds later), lose-book and refuse-book (of the address book). The share is that of the calls each can happen to.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "dir", Value: "sandbox", Usage: "the `FOLDER` of its state"},
			&cli.StringFlag{Name: "listen", Usage: "loopback `ADDRESS:PORT` (default: the last one, else any free port)"},
			&cli.FloatFlag{Name: "speed", Value: 8, Usage: "how many times faster than a real manager"},
			&cli.StringSliceFlag{Name: "fault", Usage: "make a share of the calls fail, `KIND:SHARE`; may be repeated"},
			&cli.BoolFlag{Name: "no-wait", Usage: "answer at once, with a task, like a manager that cannot wait"},
			&cli.Uint64Flag{Name: "seed", Value: 1, Usage: "seed of the random faults"},
		},
		Action: a.sandbox,
	}
}

func (a *App) sandbox(_ context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	faults, err := sandbox.ParseFaults(c.StringSlice("fault"), c.Uint64("seed"))
	if err != nil {
		return misuse{err}
	}
	if c.Float("speed") <= 0 {
		return misuse{fmt.Errorf("--speed must be more than 0")}
	}
	s, err := sandbox.Open(sandbox.Options{Dir: c.String("dir"), Listen: c.String("listen"), Plan: sandbox.DemoPlan(), Speed: c.Float("speed"), Faults: faults, NoWait: c.Bool("no-wait")})
	if err != nil {
		return err
	}
	var names []string
	for name := range s.Sites() {
		names = append(names, s.URL+"/"+name)
	}
	fmt.Fprintf(a.Stdout, "the sandbox is at %[1]s\nfingerprint: %[2]s\ntoken: file:%[3]s/token\nits DNS server is at %[4]s, with the key %[5]s: file:%[3]s/dns.key\nits record keeper is at %[6]s/records/items, with the same token and the key file:%[3]s/records.key\nits address book is at %[6]s/book, with the same token\npress Ctrl-C to stop it\n",
		strings.Join(names, " and "), s.Fingerprint, c.String("dir"), s.Names.Address, sandbox.NamesKey, s.URL)
	return s.Serve(a.stop)
}
