package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"runtime"
	"runtime/debug"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/layout"
)

// help shows the help of a command: help, help mint, help pool list.
func help(_ context.Context, c *cli.Command) error {
	of := c.Root()
	for _, word := range c.Args().Slice() {
		next := of.Command(word)
		if next == nil {
			return noCommand(of, word)
		}
		of = next
	}
	cli.HelpPrinter(of.Root().Writer, "", of)
	return nil
}

// helpOf shows the help of what a command groups under a name, or, if it groups nothing, its own: then the name
// is that of a machine, or of whatever else it works on.
func helpOf(_ context.Context, c *cli.Command, name string) error {
	of := c.Command(name)
	if of == nil && len(c.VisibleCommands()) > 0 {
		return noCommand(c, name)
	}
	cli.HelpPrinter(c.Root().Writer, "", cmp.Or(of, c))
	return nil
}

// The width of a help text that goes to no terminal, and the greatest on one.
const (
	helpWidth = 80
	helpMost  = 100
)

// helpText writes a help text.
type helpText struct {
	io.Writer
	painter
	width int
}

// showHelp prints the help of a command.
func showHelp(w io.Writer, p painter, c *cli.Command) {
	h := helpText{w, p, helpWidth}
	if width, is := terminal(w); is {
		h.width = min(width, helpMost)
	}
	m := manualOf(c)
	h.lines("", m.name+": "+m.usage)
	for _, text := range m.text {
		h.lines("", "")
		h.lines("", text)
	}
	h.heading("Usage")
	h.lines("  ", strings.TrimSpace(m.name+" "+m.synopsis()+m.args))
	if c.Root() == c {
		h.chapters(c)
		h.options("Options of all commands", m.options)
		h.lines("", "")
		h.lines("", "`mintbatch help COMMAND` explains a command. docs/commands.md has them all.")
		return
	}
	if len(m.examples) > 0 {
		h.heading("Examples")
		for _, line := range m.examples {
			fmt.Fprintln(h, "  "+line)
		}
	}
	if len(m.commands) > 0 {
		h.heading("Commands")
		h.list(m.commands)
	}
	h.options("Options", m.options)
	var common []string
	for _, o := range manualOf(c.Root()).options {
		common = append(common, o.name)
	}
	h.lines("", "")
	h.lines("", "Options of all commands, which `mintbatch --help` explains: "+strings.Join(common, " "))
	h.heading("Exit status")
	h.pairs(m.exits)
	h.lines("", "")
	h.lines("", "See "+m.page+".")
}

// chapters lists all commands in the order of the work.
func (h helpText) chapters(root *cli.Command) {
	for _, chapter := range chapters {
		h.heading(chapter.title)
		var all []*cli.Command
		for _, name := range chapter.commands {
			all = append(all, root.Command(name))
		}
		h.list(all)
	}
}

// list lists commands.
func (h helpText) list(commands []*cli.Command) {
	all := meaningsOf(commands)
	for i := range all {
		all[i].word = fmt.Sprintf("%-10s", all[i].word)
	}
	h.pairs(all)
}

func (h helpText) options(title string, all []optionText) {
	if len(all) == 0 {
		return
	}
	h.heading(title)
	h.pairs(meanings(all))
}

// pairs prints words with what they mean beside them.
func (h helpText) pairs(all []meaning) {
	cells := make([][]string, len(all))
	for i, m := range all {
		cells[i] = []string{"  " + m.word, m.text}
	}
	_ = layout.Table{Columns: []layout.Column{{}, {Kind: layout.Words}}, Cells: cells, Width: h.width}.Print(h)
}

func (h helpText) heading(s string) { fmt.Fprintf(h, "\n%s\n", h.paint(s, text.Bold)) }

func (h helpText) lines(margin, s string) {
	for _, line := range layout.Fold(s, h.width-len(margin)) {
		fmt.Fprintln(h, strings.TrimRight(margin+line, " "))
	}
}

// version tells which program this is: its version, commit, Go and platform.
func version() string {
	commit := "unknown"
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				commit = s.Value[:min(12, len(s.Value))]
			}
		}
	}
	return fmt.Sprintf("mintbatch %s (commit %s, %s, %s/%s)", Version, commit, runtime.Version(), runtime.GOOS, runtime.GOARCH)
}
