package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/handover"
	"mintbatch/internal/pinned"
)

func (a *App) newCommand() *cli.Command {
	return &cli.Command{
		Name:      "new",
		Usage:     "create a starter setup file and sheet",
		ArgsUsage: "[FOLDER]",
		Description: "Writes a setup, its schema for editors, and a workbook with drop-down lists of what the setup\n" +
			"offers. With the address of a site, the site is tried, and the setup has its hosts, templates and\n" +
			"networks; on a terminal the address is asked for. Without one, the setup has examples to be replaced.\n\n" +
			"   mintbatch new spring-leg\n   mintbatch new spring-leg --libvirt qemu+ssh://root@hv1.brackwater.example/system\n" +
			"   mintbatch new spring-leg --gateway https://manager.brackwater.example/quay --token quay.token\n   mintbatch new --sheet-only --sheet machines.xlsx",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "gateway", Usage: "the `URL` of the site's manager"},
			&cli.StringFlag{Name: "token", Usage: "with --gateway: the `FILE` that has its token"},
			&cli.StringFlag{Name: "fingerprint", Usage: "with --gateway: the SHA-256 `FINGERPRINT` of its certificate, if no authority has signed it"},
			&cli.StringSliceFlag{Name: "libvirt", Usage: "the `URI` of a host under libvirt; may be repeated"},
			&cli.BoolFlag{Name: "sheet-only", Usage: "create only the workbook for an existing setup, or update the drop-down lists of the one in use"},
			forceFlag("replace the starter's own files; a setup that was changed and the rows of a sheet are kept"),
		},
		Action: a.new,
	}
}

func (a *App) new(ctx context.Context, c *cli.Command) error {
	if c.Bool("sheet-only") {
		return a.newSheet(c)
	}
	at := handover.SiteAddress{Gateway: c.String("gateway"), Token: c.String("token"), Fingerprint: c.String("fingerprint"), Libvirt: c.StringSlice("libvirt")}
	switch {
	case c.NArg() > 1:
		return misuse{errors.New("name one folder: mintbatch new [FOLDER]")}
	case at.Gateway != "" && len(at.Libvirt) > 0:
		return misuse{errors.New("give --gateway or --libvirt; further sites can be added to the setup")}
	case at.Gateway != "" && at.Token == "":
		return misuse{errors.New("--gateway needs --token FILE, the file with its token")}
	}
	dir := "."
	if c.Args().Present() {
		dir = c.Args().First()
	}
	if at.None() {
		if err := a.askSite(&at); err != nil {
			return err
		}
	}
	var found *handover.FoundSite
	if !at.None() {
		var err error
		if found, err = a.findSite(ctx, at); err != nil {
			return err
		}
	}
	written, err := handover.New(dir, found, over(c))
	for _, path := range written {
		fmt.Fprintln(a.Stdout, path)
	}
	if err == nil && !c.Bool("quiet") {
		next := "mintbatch setup check --sites"
		if dir != "." {
			next = "cd " + dir + "; " + next
		}
		fmt.Fprintf(a.Stderr, "next: %s\n", next)
	}
	return err
}

func (a *App) newSheet(c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	in, err := a.input(c)
	if err != nil {
		return err
	}
	written, err := handover.NewSheet(in)
	for _, path := range written {
		fmt.Fprintln(a.Stdout, path)
	}
	return err
}

// askSite asks on a terminal where the machines are made.
func (a *App) askSite(at *handover.SiteAddress) error {
	if _, is := terminal(a.Stdin); !is {
		return nil
	}
	from := bufio.NewReader(a.Stdin)
	ask := func(question string) (string, error) {
		fmt.Fprintf(a.Stderr, "%s: ", question)
		line, err := from.ReadString('\n')
		return strings.TrimSpace(line), err
	}
	kind, err := ask("Where are the machines made? Type gateway, libvirt, or press Enter for a setup with examples")
	if err != nil {
		return err
	}
	switch kind {
	case "":
		return nil
	case "gateway":
		if at.Gateway, err = ask("address of the manager, such as https://manager.brackwater.example/quay"); err != nil {
			return err
		}
		at.Token, err = ask("file that has its token")
		return err
	case "libvirt":
		uri, err := ask("address of the host (Enter for qemu:///system)")
		if uri == "" {
			uri = "qemu:///system"
		}
		at.Libvirt = []string{uri}
		return err
	}
	return misuse{fmt.Errorf("unknown kind of site %q (known: gateway, libvirt)", kind)}
}

// findSite tries a site. The certificate of a gateway that no authority has signed is only
// trusted once somebody has compared it.
func (a *App) findSite(ctx context.Context, at handover.SiteAddress) (*handover.FoundSite, error) {
	read := func(path string) (string, error) {
		token, err := os.ReadFile(path)
		return strings.TrimSpace(string(token)), err
	}
	found, err := handover.FindSite(ctx, at, read)
	var unknown *pinned.CertificateError
	if _, is := terminal(a.Stdin); errors.As(err, &unknown) && at.Fingerprint == "" && is {
		if err := a.ask(fmt.Sprintf("The manager shows a certificate with the fingerprint %s. Compare it with the manager's own.", unknown.Fingerprint), "yes"); err != nil {
			return nil, err
		}
		at.Fingerprint = unknown.Fingerprint.String()
		found, err = handover.FindSite(ctx, at, read)
	}
	if errors.Is(err, handover.ErrNothingThere) {
		return nil, misuse{err}
	}
	if err != nil {
		return nil, fmt.Errorf("the site: %w", err)
	}
	return found, nil
}
