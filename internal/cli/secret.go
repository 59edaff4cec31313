package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
)

func (a *App) secretCommand() *cli.Command {
	return &cli.Command{
		Name:        "secret",
		Usage:       "keys and sealed values",
		Description: "   mintbatch secret keygen operator.key\n   mintbatch secret show bms-sonar-01",
		Action:      group,
		Commands: []*cli.Command{
			{Name: "keygen", Usage: "make an identity file and print its recipient", ArgsUsage: "FILE", Action: a.secretKeygen,
				Description: "The recipient goes into the setup, under secrets: recipients. Whoever has the file can\nread what is sealed to it; keep a copy in a safe place.\n\n   mintbatch secret keygen operator.key"},
			{Name: "show", Usage: "print the sealed password of a machine", ArgsUsage: "MACHINE", Action: a.withSetup(exactlyOne("show takes one machine: mintbatch secret show MACHINE"), a.secretShow),
				Flags:       []cli.Flag{&cli.StringFlag{Name: "login", Usage: "that of the login `NAME` (default: the row's own)"}},
				Description: "   mintbatch secret show bms-sonar-01\n   mintbatch secret show bms-chart-01 --login Administrator"},
			{Name: "set", Usage: "seal a value of your own, read from standard input", ArgsUsage: "NAME", Action: a.secretSet,
				Description: "Rows and setup refer to it as secret:NAME. It is never taken from the command line, where\nothers could see it.\n\n   mintbatch secret set field-login\n   pass-generator | mintbatch secret set field-login\n   mintbatch secret set host-authority < authority.key"},
			{Name: "list", Usage: "name what is sealed in the ledger", Action: a.withSetup(noArguments, a.secretList),
				Description: "   mintbatch secret list"},
			{Name: "reseal", Usage: "seal everything anew, to the recipients that the setup names now", Action: a.withHeld(noArguments, a.secretReseal),
				Description: "For when somebody comes or goes. It takes the identity of one who can read everything. Copies\nof the ledger keep what they have: who left has seen it.\n\n   mintbatch secret reseal"},
			{Name: "export", Usage: "print logins and passwords in clear, as CSV", ArgsUsage: "[MACHINE...]", Action: a.withSetup(anyArguments, a.secretExport),
				Description: "For handing over to a password store. Names may be globs.\n\n   mintbatch secret export 'bms-sonar-*' | pass-importer"},
		},
	}
}

func (a *App) secretKeygen(_ context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("keygen takes one file: mintbatch secret keygen FILE")}
	}
	recipient, err := mint.NewIdentity(c.Args().First())
	if err != nil {
		return err
	}
	fmt.Fprintln(a.Stdout, recipient)
	return nil
}

func (a *App) secretShow(ctx context.Context, c *cli.Command, s *mint.Session) error {
	password, err := s.Password(ctx, c.Args().First(), c.String("login"))
	if err != nil {
		return err
	}
	fmt.Fprintln(a.Stdout, password)
	return nil
}

func (a *App) secretSet(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("set takes one name; the value is read from standard input: mintbatch secret set NAME")}
	}
	name := c.Args().First()
	if err := machine.CheckLabel(name); err != nil {
		return misuse{fmt.Errorf("secret name %q: %w", name, err)}
	}
	value, err := a.readSecret(name)
	if err != nil {
		return err
	}
	if value == "" {
		return misuse{errors.New("the value is empty; nothing was sealed")}
	}
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.SetSecret(ctx, name, value); err != nil {
		return err
	}
	fmt.Fprintf(a.Stderr, "sealed; refer to it as secret:%s\n", name)
	return nil
}

func (a *App) secretList(ctx context.Context, c *cli.Command, s *mint.Session) error {
	all, err := s.Ledger.Sealed(ctx)
	if err != nil {
		return err
	}
	type sealed struct {
		Machine string `json:"machine,omitempty"`
		Site    string `json:"site,omitempty"`
		Name    string `json:"name"`
	}
	names := []sealed{}
	var cells [][]string
	for _, v := range all {
		names = append(names, sealed{v.Name, v.Site, v.Label})
		cells = append(cells, []string{visible(v.Name), v.Site, visible(v.Label)})
	}
	if c.Bool("json") {
		return a.document(struct {
			Schema string   `json:"schema"`
			Sealed []sealed `json:"sealed"`
		}{"mintbatch/secrets/1", names})
	}
	if len(cells) == 0 {
		fmt.Fprintln(a.Stdout, "nothing is sealed yet")
		return nil
	}
	rows(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), []string{"machine", "site", "name"}, cells)
	return nil
}

func (a *App) secretReseal(ctx context.Context, c *cli.Command, s *mint.Session) error {
	n, err := s.Reseal(ctx)
	if err == nil {
		fmt.Fprintf(a.Stderr, "%s sealed anew\n", plural(n, "value"))
	}
	return err
}

func (a *App) secretExport(ctx context.Context, c *cli.Command, s *mint.Session) error {
	all, err := s.Credentials(ctx, c.Args().Slice())
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.document(struct {
			Schema      string            `json:"schema"`
			Credentials []mint.Credential `json:"credentials"`
		}{"mintbatch/credentials/1", all})
	}
	w := csv.NewWriter(a.Stdout)
	_ = w.Write([]string{"machine", "site", "login", "password"})
	for _, one := range all {
		_ = w.Write([]string{one.Name, one.Site, one.Login, one.Password})
	}
	w.Flush()
	return w.Error()
}

// readSecret prompts on a terminal without showing what is typed, and reads
// all that there is elsewhere, but for the last line's end.
func (a *App) readSecret(name string) (string, error) {
	if f, ok := a.Stdin.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(a.Stderr, "value of %s: ", name)
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Stderr)
		return string(b), err
	}
	value, err := io.ReadAll(io.LimitReader(a.Stdin, mostSecret+1))
	if len(value) > mostSecret {
		return "", misuse{fmt.Errorf("the value has more than %d KiB; nothing was sealed", mostSecret>>10)}
	}
	text := strings.TrimRight(string(value), "\r\n")
	if strings.Contains(text, "\n") {
		text += "\n" // a key in PEM, or the like, ends its last line
	}
	return text, err
}

// mostSecret is far more than any key has.
const mostSecret = 64 << 10
