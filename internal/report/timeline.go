package report

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strconv"

	"mintbatch/internal/core/event"
	"mintbatch/internal/core/step"
)

// namedMachines is up to how many machines each has its name in a chart.
const namedMachines = 60

// The measures of a chart, in pixels.
const (
	chartWidth = 1220
	chartLine  = 17  // a machine with its name
	chartArea  = 640 // all machines, where they have no names
	chartTop   = 44
	chartFoot  = 76 // the axis and the legend
	chartRight = 28
	letter     = 6.8 // about a character's width
	textSize   = 12
)

var (
	ink  = color.RGBA{0x22, 0x22, 0x22, 0xff}
	grid = color.RGBA{0xd8, 0xd8, 0xd8, 0xff}
)

// Timeline draws a run as a chart, svg or png: each machine a line, its steps
// over time. What is left white it waited for.
func Timeline(to io.Writer, l *event.Log, format string) error {
	n := len(l.Courses)
	line, left := float64(chartLine), 40.0
	if n > namedMachines {
		line = float64(chartArea) / float64(n)
	}
	names := make([]string, n)
	for i, c := range l.Courses {
		if names[i] = c.Name; c.Result != "finished" {
			names[i] += " (" + c.Result + ")"
		}
		if n <= namedMachines {
			left = max(left, letter*float64(len([]rune(names[i])))+20)
		}
	}
	left = min(left, chartWidth/2)
	bottom := chartTop + line*float64(max(n, 1))
	seconds := max(l.Ended.Sub(l.Started).Seconds(), 0.1)
	scale := (chartWidth - left - chartRight) / seconds
	c, err := newCanvas(format, chartWidth, int(bottom)+chartFoot)
	if err != nil {
		return err
	}
	c.text(chartWidth/2, 24, textSize+4, middle, fmt.Sprintf("%s %s by %s: %d machines", l.Command, l.Run, l.User, n))
	every := tick(seconds)
	for s := 0.0; s <= seconds; s += every {
		c.box(left+s*scale, chartTop, 1, bottom-chartTop+5, grid)
		c.text(left+s*scale, bottom+20, textSize, middle, strconv.FormatFloat(math.Round(s*1000)/1000, 'f', -1, 64))
	}
	for i, course := range l.Courses {
		y := chartTop + line*float64(i)
		for _, s := range course.Spans {
			from, to := s.From.Sub(l.Started).Seconds(), s.To.Sub(l.Started).Seconds()
			c.box(left+from*scale, y+0.1*line, (to-from)*scale, 0.8*line, step.Of(step.Name(s.Step)).Phase.Color)
		}
		if n <= namedMachines {
			c.text(left-8, y+0.75*line, textSize, end, names[i])
		}
	}
	c.box(left, chartTop, 1, bottom-chartTop, ink)
	c.box(left, bottom, chartWidth-left-chartRight, 1, ink)
	c.text(left+(chartWidth-left-chartRight)/2, bottom+40, textSize, middle, "time since the run began (s)")
	if n > namedMachines {
		c.text(8, chartTop-8, textSize, start, "machines, in the order of their start")
	}
	x := left
	for _, phase := range step.Phases() {
		c.box(x, bottom+54, 12, 12, phase.Color)
		c.text(x+18, bottom+64, textSize, start, phase.Name)
		x += letter*float64(len(phase.Name)) + 48
	}
	return c.write(to)
}

// tick is how far the marks of an axis are apart: a round number of seconds.
func tick(seconds float64) float64 {
	unit := math.Pow(10, math.Floor(math.Log10(seconds/5)))
	for _, m := range []float64{1, 2, 5, 10} {
		if seconds/(m*unit) <= 10 {
			return m * unit
		}
	}
	return seconds
}
