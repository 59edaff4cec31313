package report

import (
	"fmt"
	"image/color"
	"io"
	"slices"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"mintbatch/internal/core/event"
)

// kinds are the kinds of step that a chart tells apart, each with its colour:
// light enough apart to be told in grey, too.
var kinds = []struct {
	name  string
	steps []string
	color color.RGBA
}{
	{"clone", []string{"clone"}, color.RGBA{0x1b, 0x4f, 0x8a, 0xff}},
	{"shape, wire, seed, record", []string{"reserve", "shape", "wire", "seed", "checkpoint", "record", "remove", "stop"}, color.RGBA{0xe8, 0x8d, 0x2a, 0xff}},
	{"start", []string{"start"}, color.RGBA{0x2f, 0x9e, 0x6e, 0xff}},
	{"confirm", []string{"confirm"}, color.RGBA{0xb9, 0xd9, 0xc4, 0xff}},
}

// namedMachines is up to how many machines each has its name in a chart.
const namedMachines = 60

// Timeline draws a run as a chart, svg or png: each machine a line, its steps
// over time. What is left white it waited for.
func Timeline(to io.Writer, l *event.Log, format string) error {
	p := plot.New()
	p.Title.Text = fmt.Sprintf("%s %s by %s: %d machines", l.Command, l.Run, l.User, len(l.Courses))
	p.X.Label.Text = "time since the run began (s)"
	p.X.Min, p.X.Max = 0, max(l.Ended.Sub(l.Started).Seconds(), 0.1)
	// Below the machines there is room for the legend.
	p.Y.Min, p.Y.Max = -0.5-max(5, 0.14*float64(len(l.Courses))), float64(len(l.Courses))-0.5
	p.Legend.Padding, p.Legend.ThumbnailWidth, p.Legend.Left, p.Legend.XOffs, p.Legend.YOffs = vg.Points(3), vg.Points(12), true, vg.Points(6), vg.Points(6)
	grid := plotter.NewGrid()
	grid.Horizontal.Width = 0
	p.Add(grid)
	n := len(l.Courses)
	for _, k := range kinds {
		var boxes []plotter.XYer
		for i, c := range l.Courses {
			y := float64(n - 1 - i) // the first on top
			for _, s := range c.Spans {
				if !slices.Contains(k.steps, s.Step) {
					continue
				}
				from, to := s.From.Sub(l.Started).Seconds(), s.To.Sub(l.Started).Seconds()
				boxes = append(boxes, plotter.XYs{{X: from, Y: y - 0.4}, {X: to, Y: y - 0.4}, {X: to, Y: y + 0.4}, {X: from, Y: y + 0.4}})
			}
		}
		if len(boxes) == 0 {
			continue
		}
		polygon, err := plotter.NewPolygon(boxes...)
		if err != nil {
			return err
		}
		polygon.Color = k.color
		polygon.LineStyle.Width = 0
		p.Add(polygon)
		p.Legend.Add(k.name, polygon)
	}
	p.Title.TextStyle.Font.Size = font.Length(13)
	p.Title.Padding = vg.Points(6)
	height := vg.Points(560)
	if n <= namedMachines {
		height = vg.Points(float64(110 + 13*(n+5)))
		names := make([]plot.Tick, n)
		for i, c := range l.Courses {
			label := c.Name
			if c.Result != "finished" {
				label += " (" + c.Result + ")"
			}
			names[i] = plot.Tick{Value: float64(n - 1 - i), Label: label}
		}
		p.Y.Tick.Marker = plot.ConstantTicks(names)
	} else {
		p.Y.Label.Text = "machines, those begun first on top"
		p.Y.Tick.Marker = plot.ConstantTicks{}
	}
	drawn, err := draw.NewFormattedCanvas(vg.Points(920), height, format)
	if err != nil {
		return err
	}
	p.Draw(draw.Crop(draw.New(drawn), vg.Points(8), vg.Points(-20), vg.Points(6), vg.Points(-6)))
	_, err = drawn.WriteTo(to)
	return err
}
