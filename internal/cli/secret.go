package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
	"mintbatch/internal/vault"
)

func (a *App) secretCommand() *cli.Command {
	return &cli.Command{
		Name:        "secret",
		Usage:       "manage keys and sealed values",
		Description: "   mintbatch secret keygen operator.key\n   mintbatch secret show bms-sonar-01",
		Action:      group,
		Commands: []*cli.Command{
			{Name: "keygen", Usage: "create an identity file and print its recipient", ArgsUsage: "FILE", Action: a.secretKeygen,
				Description: "Add the recipient to the setup, under secrets: recipients. Whoever has the file can read the\n" +
					"sealed values; keep a copy in a safe place.\n\n" +
					"   mintbatch secret keygen operator.key"},
			{Name: "show", Usage: "print the sealed password of a machine", ArgsUsage: "MACHINE", Action: a.withSetup(exactlyOne("name one machine: mintbatch secret show MACHINE"), a.secretShow, "ledger", "secrets"),
				Flags:       []cli.Flag{&cli.StringFlag{Name: "login", Usage: "the password of the login `NAME` (default: the row's login)"}},
				Description: "   mintbatch secret show bms-sonar-01\n   mintbatch secret show bms-chart-01 --login Administrator"},
			{Name: "set", Usage: "seal a value read from standard input", ArgsUsage: "NAME", Action: a.secretSet,
				Description: "Rows and the setup refer to the value as secret:NAME. It is never taken from the command line,\n" +
					"where other users could see it.\n\n" +
					"   mintbatch secret set field-login\n   pass-generator | mintbatch secret set field-login\n   mintbatch secret set host-authority < authority.key"},
			{Name: "list", Usage: "list the names of the sealed values in the ledger", Action: a.withSetup(noArguments, a.secretList, "ledger"),
				Description: "   mintbatch secret list"},
			{Name: "reseal", Usage: "seal all values again, to the recipients that the setup names now", Action: a.withLock(noArguments, a.secretReseal),
				Description: "For a change of recipients. It needs an identity that can read all values. Former recipients can\n" +
					"still read old copies of the ledger.\n\n" +
					"   mintbatch secret reseal"},
			{Name: "export", Usage: "print logins and passwords in clear text, as CSV", ArgsUsage: "[MACHINE...]", Action: a.withSetup(anyArguments, a.secretExport, "ledger", "secrets"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "out", Usage: "write to `FILE`, readable by its owner only, instead of standard output"}, forceFlag(overFiles)},
				Description: "For import into a password store. Names may be globs or ranges.\n\n" +
					"   mintbatch secret export 'bms-sonar-*' | pass-importer\n   mintbatch secret export --out passwords.csv"},
		},
	}
}

func (a *App) secretKeygen(_ context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("name one file: mintbatch secret keygen FILE")}
	}
	recipient, err := vault.NewIdentity(c.Args().First())
	if err != nil {
		return err
	}
	fmt.Fprintln(a.Stdout, recipient)
	return nil
}

func (a *App) secretShow(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	password, err := s.Vault.Password(ctx, c.Args().First(), c.String("login"))
	if err != nil {
		return err
	}
	fmt.Fprintln(raw(a.Stdout), password)
	return nil
}

func (a *App) secretSet(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("give one name, and the value on standard input: mintbatch secret set NAME")}
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
	if err := s.Vault.SetSecret(ctx, name, value); err != nil {
		return err
	}
	fmt.Fprintf(a.Stderr, "sealed; refer to it as secret:%s\n", name)
	return nil
}

func (a *App) secretList(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	all, err := s.Ledger.Sealed(ctx)
	if err != nil {
		return err
	}
	names := []sealedJSON{}
	var cells [][]string
	for _, v := range all {
		names = append(names, sealedJSON{v.Site, v.Name, v.Label})
		cells = append(cells, []string{visible(v.Name), v.Site, visible(v.Label)})
	}
	if c.Bool("json") {
		return a.document(secretsJSON{"mintbatch/secrets/1", names})
	}
	if len(cells) == 0 {
		fmt.Fprintln(a.Stdout, "there are no sealed values")
		return nil
	}
	rows(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), []string{"machine", "site", "name"}, cells)
	return nil
}

func (a *App) secretReseal(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	n, err := s.Vault.Reseal(ctx)
	if err == nil {
		fmt.Fprintf(a.Stderr, "%s sealed again\n", finding.Plural(n, "value"))
	}
	return err
}

func (a *App) secretExport(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	all, err := s.Vault.Credentials(ctx, c.Args().Slice())
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.document(credentialsJSON{"mintbatch/credentials/1", all})
	}
	to := raw(a.Stdout)
	if path := c.String("out"); path != "" {
		f, err := s.Guard().Create(path, over(c), 0o600)
		if err != nil {
			return err
		}
		defer f.Close()
		to = f
	} else if seenByOthers(a.Stdout) {
		fmt.Fprintln(a.Stderr, "mintbatch: warning: other users can read the file that these passwords go to; --out FILE writes one that only its owner can read")
	}
	w := csv.NewWriter(to)
	_ = w.Write([]string{"machine", "site", "login", "password"})
	for _, one := range all {
		_ = w.Write([]string{one.Name, one.Site, one.Login, one.Password})
	}
	w.Flush()
	return w.Error()
}

// seenByOthers reports whether a stream is a file that others on this computer can read.
func seenByOthers(stream any) bool {
	f, ok := asFile(stream)
	if !ok || runtime.GOOS == "windows" {
		return false
	}
	info, err := f.Stat()
	return err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o077 != 0
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
