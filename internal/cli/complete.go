package cli

import (
	"context"
	"embed"
	"fmt"
	"io"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/input"
	"mintbatch/internal/mint"
)

// completions are scripts that make a shell ask this program for words.
//
//go:embed completion
var completions embed.FS

// shells are those that there is a script for.
var shells = []string{"bash", "zsh", "fish", "powershell"}

func (a *App) completionCommand() *cli.Command {
	return &cli.Command{
		Name:      "completion",
		Usage:     "print a script that completes command lines in your shell",
		ArgsUsage: "SHELL",
		Description: "The shells are bash, zsh, fish and powershell. Names of machines, templates, pools, runs and\n" +
			"fields are completed from the sheet, the setup and the ledger; no site is contacted.\n\n" +
			"   mintbatch completion bash > ~/.local/share/bash-completion/completions/mintbatch\n   mintbatch completion zsh > _mintbatch\n   mintbatch completion fish > mintbatch.fish",
		Commands: []*cli.Command{{
			Name: "words", Hidden: true, Action: a.words,
			Flags: []cli.Flag{&cli.StringFlag{Name: "current", Usage: "the word to complete, after an ="}},
		}},
		Action: a.completion,
	}
}

func (a *App) completion(_ context.Context, c *cli.Command) error {
	shell := c.Args().First()
	if c.NArg() != 1 || !slices.Contains(shells, shell) {
		return misuse{fmt.Errorf("unknown shell %q (%s)", shell, finding.DidYouMean(shell, shells))}
	}
	script, err := completions.ReadFile("completion/" + shell)
	if err != nil {
		return err
	}
	_, err = raw(a.Stdout).Write(script)
	return err
}

// words prints what the last word of a command line may be, a line each. It never fails:
// a shell has nothing to do with a message.
func (a *App) words(ctx context.Context, c *cli.Command) error {
	debug.SetGCPercent(-1) // it is over before there is anything to collect
	line := joined(c.Args().Slice())
	if current, is := strings.CutPrefix(c.String("current"), "="); is {
		line = append(line, current)
	}
	if len(line) == 0 {
		line = []string{""}
	}
	var all strings.Builder
	for _, w := range completed(ctx, c.Root(), line) {
		all.WriteString(visible(w.name) + "\t" + visible(w.usage) + "\n")
	}
	_, _ = io.WriteString(a.Stdout, all.String())
	return nil
}

// joined puts together again what some shells take apart: --setup = other.yaml, label : leg.
func joined(words []string) []string {
	var all []string
	joins := false
	for _, w := range words {
		if separator := w == "=" || w == ":"; (separator || joins) && len(all) > 0 {
			all[len(all)-1] += w
			joins = separator
			continue
		}
		all = append(all, w)
		joins = false
	}
	return all
}

// completed finds the words that the last of a command line may be.
func completed(ctx context.Context, root *cli.Command, line []string) []optionText {
	at, last := root, line[len(line)-1]
	in := input.Input{Setups: root.StringSlice("setup"), Sheet: root.String("sheet")}
	var option *optionText // whose value comes next
	ended := false         // no options come any more
	arguments := 0
	for _, word := range line[:len(line)-1] {
		switch {
		case option != nil:
			take(&in, *option, word)
			option = nil
		case word == "--":
			ended = true
		case strings.HasPrefix(word, "-") && !ended:
			name, value, has := strings.Cut(word, "=")
			if o, known := optionNamed(at, name); known && o.value != "" {
				if has {
					take(&in, o, value)
				} else {
					option = &o
				}
			}
		default:
			if next := at.Command(word); next != nil && arguments == 0 {
				at = next
			} else {
				arguments++
			}
		}
	}
	return matching(ctx, at, in, option, last, ended, arguments)
}

// take notes an option that says where names come from.
func take(in *input.Input, o optionText, value string) {
	switch o.name {
	case "--setup":
		in.Setups = []string{value}
	case "--sheet":
		in.Sheet = value
	}
}

// optionNamed finds an option of a command, or of those that group it.
func optionNamed(c *cli.Command, name string) (optionText, bool) {
	for _, of := range c.Lineage() {
		for _, f := range of.Flags {
			if o := optionOf(f); o.name == name {
				return o, true
			}
		}
	}
	return optionText{}, false
}

// matching are the words that a word may become.
func matching(ctx context.Context, at *cli.Command, in input.Input, option *optionText, last string, ended bool, arguments int) []optionText {
	var all []optionText
	name, _, assigned := strings.Cut(last, "=")
	switch {
	case option != nil:
		all = values(mint.Candidates(ctx, in, option.value), "")
	case strings.HasPrefix(last, "--") && assigned && !ended:
		if o, known := optionNamed(at, name); known {
			all = values(mint.Candidates(ctx, in, o.value), name+"=")
		}
	case strings.HasPrefix(last, "-") && !ended:
		for _, of := range at.Lineage() {
			for _, f := range of.Flags {
				all = append(all, optionOf(f))
			}
		}
	case len(visibleCommands(at)) > 0 && arguments == 0:
		for _, sub := range visibleCommands(at) {
			all = append(all, optionText{name: sub.Name, usage: sub.Usage})
		}
		fallthrough
	default:
		all = append(all, argument(ctx, at, in, arguments)...)
	}
	return slices.DeleteFunc(all, func(o optionText) bool { return !strings.HasPrefix(o.name, last) })
}

// argument are the words that a command's next argument may be.
func argument(ctx context.Context, at *cli.Command, in input.Input, arguments int) []optionText {
	meant := strings.Trim(at.ArgsUsage, "[].")
	switch {
	case !strings.HasSuffix(strings.TrimSuffix(at.ArgsUsage, "]"), "...") && arguments > 0:
		return nil
	case meant == "COMMAND":
		var all []optionText
		for _, sub := range visibleCommands(at.Root()) {
			all = append(all, optionText{name: sub.Name, usage: sub.Usage})
		}
		return all
	case meant == "SHELL":
		return values(shells, "")
	}
	return values(mint.Candidates(ctx, in, meant), "")
}

func values(names []string, before string) []optionText {
	all := make([]optionText, len(names))
	for i, name := range names {
		all[i] = optionText{name: before + name}
	}
	return all
}
