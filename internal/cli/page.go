package cli

import (
	"bytes"
	"cmp"
	"io"
	"os"
	"os/exec"
	"strings"

	"github.com/urfave/cli/v3"
)

// page is a view for a terminal that is not printed yet.
type page struct {
	bytes.Buffer
	width, height int
}

// long reports whether the view has more lines than the screen, the prompt's aside.
func (p *page) long() bool { return bytes.Count(p.Bytes(), []byte("\n")) >= p.height }

// pagerFlag is of all commands.
func pagerFlag() cli.Flag {
	return &cli.BoolFlag{Name: "no-pager", Usage: "do not show a long view through $PAGER"}
}

// paged prints a view, one that is longer than the screen through a pager.
func (a *App) paged(c *cli.Command, view func(w io.Writer)) {
	width, height, is := screen(a.Stdout)
	if !is || a.plain || c.Bool("no-pager") {
		view(a.Stdout)
		return
	}
	p := &page{width: width, height: height}
	view(p)
	if !p.long() || !a.pager(p) {
		_, _ = a.Stdout.Write(p.Bytes())
	}
}

// pager shows a page through the user's pager. It reports whether that could be started.
func (a *App) pager(p *page) bool {
	command := strings.Fields(cmp.Or(os.Getenv("PAGER"), "less"))
	if _, is := terminal(a.Stdin); !is || len(command) == 0 {
		return false
	}
	path, err := exec.LookPath(command[0])
	if err != nil {
		return false
	}
	pager := exec.Command(path, command[1:]...)
	pager.Env = os.Environ()
	if os.Getenv("LESS") == "" {
		pager.Env = append(pager.Env, "LESS=FRX") // quit if it fits, colours, leave it on the screen
	}
	pager.Stdout, pager.Stderr = raw(a.Stdout).(*outlet).to, os.Stderr
	in, err := pager.StdinPipe()
	if err != nil || pager.Start() != nil {
		return false
	}
	a.paging.Store(true)
	defer a.paging.Store(false)
	clean := onScreen(in)
	clean.terminal = true
	_, _ = clean.Write(folded(p.Bytes(), p.width)) // whoever leaves the pager early has seen enough
	_ = in.Close()
	_ = pager.Wait()
	return true
}

// summed prints a list and its totals, which come first on a screen that the list does not
// fit.
func summed(w io.Writer, list, totals func(io.Writer)) {
	width, height, is := screen(w)
	if !is {
		list(w)
		totals(w)
		return
	}
	whole, sums := &page{width: width, height: height}, &page{width: width, height: height}
	list(whole)
	body := whole.Len()
	totals(sums)
	if _, _ = whole.Write(sums.Bytes()); whole.long() {
		_, _ = w.Write(append(sums.Bytes(), '\n'))
		whole.Truncate(body)
	}
	_, _ = w.Write(whole.Bytes())
}
