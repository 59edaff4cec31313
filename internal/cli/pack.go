package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/handover"
	"mintbatch/internal/input"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
)

func (a *App) packCommand() *cli.Command {
	return &cli.Command{
		Name:      "pack",
		Usage:     "write setup, sheet, ledger, keys and logs to one sealed file",
		ArgsUsage: "FILE",
		Description: "For another computer: everything that the setup needs is in the file, sealed with a passphrase that\n" +
			"is asked for (in a pipe: read from standard input). All files must be in the setup's folder. Runs may\n" +
			"be at work; what they do after the pack was made is not in it.\n\n" +
			"   mintbatch pack friday.pack",
		Flags:  []cli.Flag{forceFlag(overFiles)},
		Action: a.pack,
	}
}

func (a *App) unpackCommand() *cli.Command {
	return &cli.Command{
		Name:      "unpack",
		Usage:     "lay out what pack wrote, in a new folder, and check that it works",
		ArgsUsage: "FILE FOLDER",
		Description: "Every file is held against the list in the pack before anything is written. Then the setup, the sheet\n" +
			"and the ledger are checked. Use only one of the two from then on: two ledgers of one id do not know\n" +
			"of each other's machines.\n\n" +
			"   mintbatch unpack friday.pack spring-leg",
		Action: a.unpack,
	}
}

// passphrase asks for a passphrase, twice if it is a new one.
func (a *App) passphrase(isNew bool) (string, error) {
	first, err := a.readSecret("the passphrase")
	if err != nil {
		return "", err
	}
	if strings.TrimSpace(first) == "" {
		return "", misuse{errors.New("the passphrase is empty")}
	}
	if _, is := terminal(a.Stdin); is && isNew {
		again, err := a.readSecret("the passphrase again")
		if err != nil {
			return "", err
		}
		if again != first {
			return "", misuse{errors.New("the passphrases differ")}
		}
	}
	return first, nil
}

func (a *App) pack(ctx context.Context, c *cli.Command) error {
	if err := exactlyOne("name one file: mintbatch pack FILE")(c); err != nil {
		return err
	}
	s, err := a.openWithSheet(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	path := c.Args().First()
	if err := s.Guard().Check(path, over(c)); err != nil {
		return err
	}
	passphrase, err := a.passphrase(true)
	if err != nil {
		return err
	}
	m, err := handover.Pack(ctx, s, c.StringSlice("setup"), path, passphrase, over(c))
	if errors.Is(err, handover.ErrPack) {
		return misuse{err}
	} else if err != nil {
		return err
	}
	fmt.Fprintf(a.Stderr, "packed %s into %s\n", finding.Plural(len(m.Files), "file"), path)
	a.elsewhere(m)
	return nil
}

// elsewhere tells what a pack does not have.
func (a *App) elsewhere(m *handover.Manifest) {
	if m.Ledger == "" {
		fmt.Fprintln(a.Stderr, "the ledger is in a database server, and not in the pack")
	}
	if len(m.Missing) > 0 {
		fmt.Fprintf(a.Stderr, "the setup takes values from these environment variables, which are not in the pack: %s\n", strings.Join(m.Missing, ", "))
	}
}

func (a *App) unpack(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 2 {
		return misuse{errors.New("name the pack and a new folder: mintbatch unpack FILE FOLDER")}
	}
	f, err := os.Open(c.Args().First())
	if err != nil {
		return misuse{err}
	}
	defer f.Close()
	passphrase, err := a.passphrase(false)
	if err != nil {
		return err
	}
	dir := c.Args().Get(1)
	m, err := handover.Unpack(f, dir, passphrase)
	if errors.Is(err, handover.ErrPack) || errors.Is(err, output.ErrRefused) {
		return misuse{err}
	} else if err != nil {
		return err
	}
	fmt.Fprintf(a.Stderr, "unpacked %s into %s: every one is as it was packed\n", finding.Plural(len(m.Files), "file"), dir)
	a.elsewhere(m)
	return a.tryUnpacked(ctx, c, m, dir)
}

// tryUnpacked checks that what was unpacked works.
func (a *App) tryUnpacked(ctx context.Context, c *cli.Command, m *handover.Manifest, dir string) error {
	in := input.Input{Stdin: a.Stdin}
	for _, name := range m.Setups {
		in.Setups = append(in.Setups, filepath.Join(dir, filepath.FromSlash(name)))
	}
	s, err := mint.OpenAny(ctx, in, a.log(c))
	if err != nil {
		return fmt.Errorf("the unpacked setup: %w", err)
	}
	defer s.Close()
	faults, err := s.Ledger.Check(ctx)
	if err != nil {
		return err
	}
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return err
	}
	for _, fault := range faults {
		fmt.Fprintln(a.Stderr, visible(fault))
	}
	if len(faults) > 0 {
		return &reported{exitIncomplete}
	}
	fmt.Fprintf(a.Stderr, "the setup has no errors, the sheet %s, the ledger %s; use only one of the two ledgers from now on\n",
		finding.Plural(len(s.Wanted), "machine"), finding.Plural(len(known), "machine"))
	return nil
}
