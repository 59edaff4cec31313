package cli

import (
	"cmp"
	"strings"

	"github.com/urfave/cli/v3"
)

// chapters are the commands in the order of the work.
var chapters = []struct {
	title    string
	commands []string
}{
	{"Get ready", []string{"demo", "new", "setup", "template", "library", "disk", "secret", "sandbox", "completion", "manual"}},
	{"Look before", []string{"check", "proof", "survey", "pool", "quota"}},
	{"Do it", []string{"mint", "remake", "accept", "power", "checkpoint", "rename", "retire", "sweep", "extend"}},
	{"Look after", []string{"list", "show", "verify", "find", "console", "runs", "history", "outbox"}},
	{"Requests", []string{"intake", "request"}},
	{"Hand over", []string{"report", "export", "handout"}},
	{"Keep in order", []string{"ledger", "pack", "unpack", "help"}},
}

// manual is what is to be said of a command, in its help and in its manual page.
type manual struct {
	name     string // with those of the commands that group it
	args     string
	usage    string
	text     []string // paragraphs
	examples []string // command lines
	options  []optionText
	commands []*cli.Command
	exits    []meaning
	page     string
}

// optionText is an option, what its value is called (empty if it has none), and what it does.
type optionText struct{ name, value, usage string }

// meaning is a word and what it means.
type meaning struct{ word, text string }

// withValue is the option as it is written.
func (o optionText) withValue() string { return strings.TrimSpace(o.name + " " + o.value) }

// meanings are those of options.
func meanings(options []optionText) []meaning {
	all := make([]meaning, len(options))
	for i, o := range options {
		all[i] = meaning{o.withValue(), o.usage}
	}
	return all
}

// meaningsOf are those of commands.
func meaningsOf(commands []*cli.Command) []meaning {
	all := make([]meaning, len(commands))
	for i, c := range commands {
		all[i] = meaning{c.Name, c.Usage}
	}
	return all
}

// manualOf gathers what is to be said of a command.
func manualOf(c *cli.Command) manual {
	m := manual{name: c.FullName(), args: c.ArgsUsage, usage: c.Usage, commands: visibleCommands(c), page: "docs/commands.md"}
	for _, part := range strings.Split(c.Description, "\n\n") {
		if strings.HasPrefix(part, "   ") {
			for line := range strings.Lines(part) {
				m.examples = append(m.examples, strings.TrimSpace(line))
			}
		} else if part != "" {
			m.text = append(m.text, strings.ReplaceAll(part, "\n", " "))
		}
	}
	for _, f := range c.Flags {
		m.options = append(m.options, optionOf(f))
	}
	if c.Root() == c {
		return m
	}
	of := c
	for lineage := c.Lineage(); len(lineage) > 2; lineage = of.Lineage() {
		of = lineage[1]
	}
	m.page += ", " + of.Name
	m.exits = exitsOf(m.name)
	return m
}

// synopsis is what stands between a command's name and its arguments.
func (m manual) synopsis() string {
	text := ""
	if len(m.commands) > 0 {
		text = "COMMAND "
	}
	if len(m.options) > 0 {
		text += "[OPTION...] "
	}
	return text
}

// visibleCommands are those that a command groups.
func visibleCommands(c *cli.Command) []*cli.Command {
	var all []*cli.Command
	for _, sub := range c.Commands {
		if !sub.Hidden {
			all = append(all, sub)
		}
	}
	return all
}

func optionOf(f cli.Flag) optionText {
	name := "--" + f.Names()[0]
	doc, is := f.(cli.DocGenerationFlag)
	if !is {
		return optionText{name: name}
	}
	usage, value := doc.GetUsage(), ""
	if before, rest, quoted := strings.Cut(usage, "`"); quoted {
		if word, after, ends := strings.Cut(rest, "`"); ends && strings.ToUpper(word) == word {
			value, usage = word, before+word+after
		}
	}
	if doc.TakesValue() {
		value = cmp.Or(value, "VALUE")
	}
	if text := strings.Trim(doc.GetValue(), "[]\""); doc.TakesValue() && text != "" && text != "0" && !strings.Contains(usage, "default") {
		usage += " (default: " + text + ")"
	}
	return optionText{name, value, usage}
}

// incomplete says what exit status 1 means, of the commands that have it.
var incomplete = map[string]string{
	"mint":               "some machines failed or were refused; each is named",
	"remake":             "some machines failed or were refused; each is named",
	"accept":             "some machines were not accepted; each is named",
	"retire":             "some machines failed; each is named",
	"power on":           "some machines failed or were refused; each is named",
	"power off":          "some machines failed or were refused; each is named",
	"power restart":      "some machines failed or were refused; each is named",
	"checkpoint keep":    "some machines failed or were refused; each is named",
	"checkpoint restore": "some machines failed or were refused; each is named",
	"checkpoint drop":    "some machines failed or were refused; each is named",
	"sweep":              "machines are past their date, or shutting down or retiring one failed",
	"extend":             "some machines failed or were refused; each is named",
	"quota":              "a row of the sheet does not fit under a quota; each is named",
	"verify":             "a machine is not as the sheet says; each is named",
	"ledger check":       "it finds damage or an inconsistency",
	"unpack":             "the unpacked ledger has damage or an inconsistency",
}

// exitsOf are the exit statuses of a command.
func exitsOf(name string) []meaning {
	all := []meaning{{"0", "done"}}
	if text := incomplete[strings.TrimPrefix(name, "mintbatch ")]; text != "" {
		all = append(all, meaning{"1", text})
	}
	return append(all, meaning{"2", "the input or the command line was refused; nothing was done"},
		meaning{"3", "a site or the ledger could not be reached or used, or the output could not be written"},
		meaning{"130", "interrupted; run the same command again to continue"})
}
