package request

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"sync"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/proof"
)

// Told is what a letter says, apart from its form.
type Told struct {
	Title      string
	Paragraphs []string
	Headings   []string
	Rows       [][]string
	After      []string // paragraphs behind the table
}

//go:embed letter.html
var page string

var pageTemplate = sync.OnceValue(func() *template.Template { return template.Must(template.New("letter").Parse(page)) })

// Letter writes it as a letter of a request: as text, and as a page. What others have written is shown as it is, and is nothing
// else in either.
func (t Told) Letter(r Request, kind Kind, to []string, files ...File) (Letter, error) {
	l := Letter{ID: fmt.Sprintf("%s-%d-%s", r.ID, r.Changed, kind), Request: r.ID, Source: r.Source, Kind: kind, To: to, Subject: plain(t.Title), Files: files, Thread: r.Thread}
	if r.Subject != "" && kind != Question && kind != Reminder && kind != Cause { // as people answer
		l.Subject = "Re: " + plain(strings.TrimPrefix(r.Subject, "Re: "))
	}
	var html bytes.Buffer
	if err := pageTemplate().Execute(&html, struct {
		Told
		ID string
	}{t.plain(), r.ID}); err != nil {
		return l, err
	}
	l.HTML, l.Text = html.String(), t.plain().text(r.ID)
	return l, nil
}

// plain takes out of a text what a terminal or a mail program would take for more than text.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return ' '
		}
		if finding.Controls(r) {
			return -1
		}
		return r
	}, s)
}

func (t Told) plain() Told {
	all := func(texts []string) []string {
		out := make([]string, len(texts))
		for i, s := range texts {
			out[i] = plain(s)
		}
		return out
	}
	out := Told{Title: plain(t.Title), Paragraphs: all(t.Paragraphs), Headings: t.Headings, After: all(t.After)}
	for _, row := range t.Rows {
		out.Rows = append(out.Rows, all(row))
	}
	return out
}

func (t Told) text(id string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\n", t.Title)
	for _, p := range t.Paragraphs {
		fmt.Fprintf(&b, "%s\n\n", p)
	}
	for _, row := range t.Rows {
		for i, cell := range row {
			if cell != "" {
				fmt.Fprintf(&b, "%s: %s\n", t.Headings[i], cell)
			}
		}
		b.WriteByte('\n')
	}
	for _, p := range t.After {
		fmt.Fprintf(&b, "%s\n\n", p)
	}
	fmt.Fprintf(&b, "request %s\n", id)
	return b.String()
}

// FoundWrong is a letter about findings.
func FoundWrong(r Request, found finding.List) Told {
	t := Told{Title: fmt.Sprintf("%s: %s", r.Sheet, finding.Plural(found.Count(finding.Error), "error")), Headings: []string{"where", "what", "what would be right"},
		Paragraphs: []string{"Nothing was made. Correct the sheet and send it again; nothing else is needed."}}
	for _, f := range found {
		where := f.At.String()
		t.Rows = append(t.Rows, []string{where, f.Severity.String() + ": " + f.Message, f.Hint})
	}
	return t
}

// Proposed is a letter about what would be made.
func Proposed(r Request, works []proof.Work, totals []string) Told {
	t := Told{Title: fmt.Sprintf("%s: %s to be made", r.Sheet, finding.Plural(len(works), "machine")), Headings: []string{"machine", "site", "template", "CPUs", "memory", "disk", "addresses"}, After: totals}
	for _, w := range works {
		t.Rows = append(t.Rows, row(w))
	}
	return t
}

func row(w proof.Work) []string {
	m := w.Machine()
	var addresses []string
	for _, a := range m.Adapters {
		for _, p := range a.Given() {
			addresses = append(addresses, p.Addr().String())
		}
	}
	disk, memory, cpus := "", "", ""
	if m.Shape.Disk > 0 {
		disk = m.Shape.Disk.String()
	}
	if m.Shape.Memory > 0 {
		memory = m.Shape.Memory.String()
	}
	if m.Shape.CPUs > 0 {
		cpus = fmt.Sprint(m.Shape.CPUs)
	}
	return []string{w.Name, w.Site, m.Template, cpus, memory, disk, strings.Join(addresses, " ")}
}
