package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/output"
)

func (a *App) manualCommand() *cli.Command {
	return &cli.Command{
		Name:        "manual",
		Usage:       "write the manual pages",
		ArgsUsage:   "FOLDER",
		Description: "Writes a page of the manual for each command, for man(1).\n\n   mintbatch manual ~/.local/share/man/man1",
		Flags:       []cli.Flag{forceFlag(overFiles)},
		Action:      a.manual,
	}
}

func (a *App) manual(_ context.Context, c *cli.Command) error {
	if err := exactlyOne("name one folder: mintbatch manual FOLDER")(c); err != nil {
		return err
	}
	dir := c.Args().First()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("create the folder of the manual: %w", err)
	}
	var guard output.Guard
	return eachCommand(c.Root(), func(of *cli.Command) error {
		name := strings.ReplaceAll(of.FullName(), " ", "-") + ".1"
		return guard.Write(filepath.Join(dir, name), []byte(manualOf(of).roff()), over(c), 0o644)
	})
}

// eachCommand does something with a command and all that it groups.
func eachCommand(c *cli.Command, do func(*cli.Command) error) error {
	if err := do(c); err != nil {
		return err
	}
	for _, sub := range visibleCommands(c) {
		if err := eachCommand(sub, do); err != nil {
			return err
		}
	}
	return nil
}

// roff is a page of the manual, as man(7) has it.
func (m manual) roff() string {
	var b strings.Builder
	title := strings.ReplaceAll(m.name, " ", "-")
	fmt.Fprintf(&b, ".TH %s 1 \"\" \"mintbatch %s\" \"Mint Batch\"\n", strings.ToUpper(title), Version)
	section := func(name string) { fmt.Fprintf(&b, ".SH %s\n", name) }
	section("NAME")
	fmt.Fprintf(&b, "%s \\- %s\n", escapeRoff(title), escapeRoff(m.usage))
	section("SYNOPSIS")
	fmt.Fprintf(&b, ".B %s\n", escapeRoff(m.name))
	if rest := strings.TrimSpace(m.synopsis() + m.args); rest != "" {
		fmt.Fprintf(&b, "%s\n", escapeRoff(rest))
	}
	section("DESCRIPTION")
	for i, text := range append(m.text, "See "+m.page+".") {
		if i > 0 {
			b.WriteString(".PP\n")
		}
		b.WriteString(escapeRoff(text) + "\n")
	}
	pairs := func(name string, all []meaning) {
		if len(all) == 0 {
			return
		}
		section(name)
		for _, m := range all {
			fmt.Fprintf(&b, ".TP\n.B %s\n%s\n", escapeRoff(m.word), escapeRoff(m.text))
		}
	}
	pairs("COMMANDS", meaningsOf(m.commands))
	pairs("OPTIONS", meanings(m.options))
	if len(m.examples) > 0 {
		section("EXAMPLES")
		b.WriteString(".nf\n")
		for _, line := range m.examples {
			b.WriteString(escapeRoff(line) + "\n")
		}
		b.WriteString(".fi\n")
	}
	pairs("EXIT STATUS", m.exits)
	if title != "mintbatch" {
		section("SEE ALSO")
		b.WriteString(".BR mintbatch (1),\nwhich explains the options of all commands.\n")
	}
	return b.String()
}

// escapeRoff lets a text stand in a page as it is.
func escapeRoff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`, "`", `\(ga`, "'", `\(aq`, "~", `\(ti`, "^", `\(ha`).Replace(s)
	if strings.HasPrefix(s, ".") {
		return `\&` + s
	}
	return s
}
