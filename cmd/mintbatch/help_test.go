package main

import (
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// section returns the lines of a part of a help text.
func section(help, title string) []string {
	_, part, _ := strings.Cut(help, "\n"+title+"\n")
	part, _, _ = strings.Cut(part, "\n\n")
	return strings.Split(strings.TrimRight(part, "\n"), "\n")
}

// Every command is in a chapter, says how it ends and where its page is, and each of its
// examples is a command line that the program takes.
func TestHelpOfEveryCommand(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 1000)
	for _, file := range []string{"friday.csv", "own.csv"} {
		write(t, dir, file, "machine,preset,site,address\nbms-tide-03,tide-gauge,quay,dhcp\n")
	}
	write(t, dir, "others.csv", "address\n198.51.100.140\n")
	write(t, dir, "authority.key", "no key")
	all := regexp.MustCompile(`^  (\S+)  `)
	var visit func(words ...string)
	seen := map[string]bool{}
	var examples []string
	visit = func(words ...string) {
		help, err := command(t, dir, "mintbatch", append([]string{"help"}, words...)...)
		require.NoError(t, err)
		name := strings.Join(append([]string{"mintbatch"}, words...), " ")
		seen[name] = true
		titles := []string{"Commands"}
		if len(words) == 0 {
			titles = []string{"Get ready", "Look before", "Do it", "Look after", "Requests", "Hand over", "Keep in order"}
		} else {
			assert.Contains(t, help, "\nExit status\n  0 ", name)
			assert.Contains(t, help, "\nSee docs/", name)
		}
		commands := 0
		for _, title := range titles {
			for _, line := range section(help, title) {
				if m := all.FindStringSubmatch(line); m != nil {
					commands++
					if m[1] != "help" {
						visit(append(append([]string{}, words...), m[1])...)
					}
				}
			}
		}
		if commands == 0 {
			assert.Contains(t, help, "\nExamples\n", name)
		}
		for _, line := range section(help, "Examples") {
			if line != "" && !strings.HasPrefix(line, "  #") {
				examples = append(examples, strings.TrimSpace(line))
			}
		}
	}
	visit()
	assert.Greater(t, len(seen), 40)
	misread := regexp.MustCompile(`unknown (option|command|field)|unexpected argument|Incorrect Usage`)
	served := regexp.MustCompile(`^mintbatch (sandbox|demo|console)|--waves|\| mintbatch|reseal`)
	for _, line := range examples {
		require.Contains(t, line, "mintbatch ", line)
		if served.MatchString(line) {
			continue
		}
		c := exec.Command("sh", "-c", line)
		c.Dir = dir
		c.Env = append(c.Environ(), "HOME="+dir)
		out, _ := c.CombinedOutput()
		assert.NotRegexp(t, misread, string(out), line)
	}
}
