package report

import (
	"bytes"
	"embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"rsc.io/qr"

	"mintbatch/internal/core/event"
	"mintbatch/internal/core/step"
)

//go:embed page
var pageFiles embed.FS

// pages are parsed by the first command that writes one.
var pages = sync.OnceValue(func() *template.Template { return template.Must(template.ParseFS(pageFiles, "page/*.html")) })

// Handover is a machine as it is handed over. It has no password.
type Handover struct {
	Name, Site, State, Owner, Until, Notes, Labels, Template, Size string
	Addresses                                                      []string
	Login, Connect                                                 string // how to log in; empty where that is not known
	Fingerprint                                                    string // of its SSH host key
	KnownHost                                                      string // its line in a known_hosts file
	Error                                                          string
}

// Page is a page that says what was made, for whom, and how to use it. It is whole in itself:
// nothing is loaded from elsewhere, and it works without scripts.
type Page struct {
	Title, Summary, Caption, Made string
	Parts                         []Part // other pages, of an index
	Machines                      []Handover
	Run                           *Run
	Gauges                        []Gauges
}

// Part is another page.
type Part struct{ File, Name, Machines string }

// Gauges show how full some things are.
type Gauges struct {
	ID, Title string
	Gauges    []Gauge
}

// Gauge is how full something is.
type Gauge struct {
	Name, Text string
	Percent    int
}

// Run is a run as a chart.
type Run struct {
	Summary string
	Legend  []Phase
	Bars    []Bar
}

// Phase is a phase with the class of its colour.
type Phase struct{ Name, Class string }

// Bar is what a machine did in a run.
type Bar struct {
	Name, Label, Took string
	Spans             []BarSpan
}

// BarSpan is a part of a bar, in percent of the run.
type BarSpan struct {
	Class       string
	Left, Width float64
}

// pageColumns are those of the table of machines, but for those that are empty throughout.
var pageColumns = []struct {
	name string
	of   func(Handover) string
}{
	{"machine", func(h Handover) string { return h.Name }}, {"site", func(h Handover) string { return h.Site }}, {"state", func(h Handover) string { return h.State }},
	{"addresses", func(h Handover) string { return strings.Join(h.Addresses, " ") }}, {"login", func(h Handover) string { return h.Login }}, {"owner", func(h Handover) string { return h.Owner }},
	{"until", func(h Handover) string { return h.Until }}, {"template", func(h Handover) string { return h.Template }}, {"size", func(h Handover) string { return h.Size }}, {"labels", func(h Handover) string { return h.Labels }},
}

// ID is the machine's place in a page.
func (h Handover) ID() string { return "m-" + h.Site + "-" + h.Name }

// Cells are the texts of some columns.
func (h Handover) Cells(columns []string) []string {
	var all []string
	for _, c := range pageColumns {
		if slices.Contains(columns, c.name) {
			all = append(all, c.of(h))
		}
	}
	return all
}

// HTML writes the page.
func (p Page) HTML(w io.Writer) error {
	var columns []string
	for _, c := range pageColumns {
		if slices.ContainsFunc(p.Machines, func(h Handover) bool { return c.of(h) != "" }) {
			columns = append(columns, c.name)
		}
	}
	var failures []Handover
	for _, m := range p.Machines {
		if m.Error != "" {
			failures = append(failures, m)
		}
	}
	return pages().ExecuteTemplate(w, "page.html", struct {
		Page
		Columns  []string
		Failures []Handover
		Style    template.CSS
		Script   template.JS
	}{p, columns, failures, template.CSS(own("style.css")), template.JS(own("script.js"))}) //nolint:gosec // our own text
}

// Code is the QR code of the machine's line in a known_hosts file; nil if it has none.
func (h Handover) Code() (*Code, error) {
	if h.KnownHost == "" {
		return nil, nil
	}
	code, err := qr.Encode(h.KnownHost, qr.M)
	if err != nil {
		return nil, fmt.Errorf("QR code of %s: %w", h.Name, err)
	}
	return squares(code), nil
}

// Code is a QR code as the path of its dark squares.
type Code struct {
	Size int
	Path string
}

// Cards writes a page with a card for each machine.
func Cards(w io.Writer, title string, machines []Handover) error {
	return pages().ExecuteTemplate(w, "cards.html", struct {
		Title    string
		Machines []Handover
		Style    template.CSS
	}{title, machines, template.CSS(own("style.css"))}) //nolint:gosec // our own text
}

// quiet is the width of the margin that a reader needs (ISO/IEC 18004, section 9.1).
const quiet = 4

func squares(code *qr.Code) *Code {
	var path strings.Builder
	for y := range code.Size {
		for x := 0; x < code.Size; x++ {
			from := x
			for x < code.Size && code.Black(x, y) {
				x++
			}
			if n := x - from; n > 0 {
				fmt.Fprintf(&path, "M%d %dh%dv1h-%dz", from+quiet, y+quiet, n, n)
			}
		}
	}
	return &Code{code.Size + 2*quiet, path.String()}
}

// own is a text of the program's own.
func own(name string) string {
	text, err := pageFiles.ReadFile("page/" + name)
	if err != nil {
		panic(err) // it is part of the program
	}
	return string(text)
}

func render(name string, data any) ([]byte, error) {
	var b bytes.Buffer
	err := pages().ExecuteTemplate(&b, name, data)
	return b.Bytes(), err
}

// NewRun makes a chart of the machines of a run that are told.
func NewRun(l *event.Log, told func(name string) bool) *Run {
	whole := l.Ended.Sub(l.Started).Seconds()
	r := &Run{Summary: fmt.Sprintf("%s by %s, %s, %s: %s", l.Command, l.User, l.Started.Local().Format("2006-01-02 15:04 MST"), l.Ended.Sub(l.Started).Round(100*time.Millisecond), l.Outcome)}
	for _, p := range step.Phases() {
		r.Legend = append(r.Legend, Phase{p.Name, p.Letter})
	}
	for _, c := range l.Courses {
		if !told(c.Name) || len(c.Spans) == 0 || whole <= 0 {
			continue
		}
		first, last := c.Spans[0].From, c.Spans[len(c.Spans)-1].To
		bar := Bar{Name: c.Name, Took: fmt.Sprintf("%.1f s", last.Sub(first).Seconds()), Label: fmt.Sprintf("%s: %s, %.1f seconds", c.Name, c.Result, last.Sub(first).Seconds())}
		for _, s := range c.Spans {
			bar.Spans = append(bar.Spans, BarSpan{step.Of(step.Name(s.Step)).Phase.Letter,
				round(100 * s.From.Sub(l.Started).Seconds() / whole), round(100 * s.To.Sub(s.From).Seconds() / whole)})
		}
		r.Bars = append(r.Bars, bar)
	}
	if len(r.Bars) == 0 {
		return nil
	}
	return r
}

func round(percent float64) float64 { return float64(int(percent*100)) / 100 }
