package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"math"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// anchor is where a text stands at its point.
type anchor string

const (
	start  anchor = "start"
	middle anchor = "middle"
	end    anchor = "end"
)

// canvas is what a chart is drawn on, in pixels from the upper left corner.
type canvas interface {
	box(x, y, width, height float64, c color.RGBA)
	text(x, y, size float64, at anchor, s string)
	write(to io.Writer) error
}

func newCanvas(format string, width, height int) (canvas, error) {
	switch format {
	case "svg":
		c := &svg{}
		fmt.Fprintf(&c.b, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" font-family="sans-serif">`+"\n", width, height, width, height)
		c.box(0, 0, float64(width), float64(height), color.RGBA{0xff, 0xff, 0xff, 0xff})
		return c, nil
	case "png":
		parsed, err := opentype.Parse(goregular.TTF)
		if err != nil {
			return nil, err
		}
		c := &bitmap{image: image.NewRGBA(image.Rect(0, 0, width, height)), font: parsed}
		c.box(0, 0, float64(width), float64(height), color.RGBA{0xff, 0xff, 0xff, 0xff})
		return c, nil
	}
	return nil, fmt.Errorf("a chart must be svg or png, not %q", format)
}

// svg is a drawing of vectors (SVG 1.1).
type svg struct{ b bytes.Buffer }

func (s *svg) box(x, y, width, height float64, c color.RGBA) {
	fmt.Fprintf(&s.b, `<rect x="%.2f" y="%.2f" width="%.2f" height="%.2f" fill="#%02x%02x%02x"/>`+"\n", x, y, width, height, c.R, c.G, c.B)
}

func (s *svg) text(x, y, size float64, at anchor, text string) {
	fmt.Fprintf(&s.b, `<text x="%.2f" y="%.2f" font-size="%.0f" fill="#222" text-anchor="%s">`, x, y, size, at)
	_ = xml.EscapeText(&s.b, []byte(text))
	s.b.WriteString("</text>\n")
}

func (s *svg) write(to io.Writer) error {
	s.b.WriteString("</svg>\n")
	_, err := s.b.WriteTo(to)
	return err
}

// bitmap is a picture of pixels.
type bitmap struct {
	image *image.RGBA
	font  *opentype.Font
}

// box draws what a pixel is covered of in as much of the colour.
func (b *bitmap) box(x, y, width, height float64, c color.RGBA) {
	bounds := b.image.Bounds()
	for py := max(int(y), 0); py < min(int(math.Ceil(y+height)), bounds.Max.Y); py++ {
		for px := max(int(x), 0); px < min(int(math.Ceil(x+width)), bounds.Max.X); px++ {
			share := overlap(float64(px), x, x+width) * overlap(float64(py), y, y+height)
			under := b.image.RGBAAt(px, py)
			mix := func(a, b uint8) uint8 { return uint8(math.Round(float64(a)*(1-share) + float64(b)*share)) }
			b.image.SetRGBA(px, py, color.RGBA{mix(under.R, c.R), mix(under.G, c.G), mix(under.B, c.B), 0xff})
		}
	}
}

// overlap is how much of a pixel lies between from and to.
func overlap(pixel, from, to float64) float64 {
	return max(min(pixel+1, to)-max(pixel, from), 0)
}

func (b *bitmap) text(x, y, size float64, at anchor, s string) {
	face, err := opentype.NewFace(b.font, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		return // of a font that is part of the program
	}
	defer face.Close()
	d := font.Drawer{Dst: b.image, Src: image.NewUniform(ink), Face: face}
	width := float64(d.MeasureString(s)) / 64
	x -= map[anchor]float64{start: 0, middle: width / 2, end: width}[at]
	d.Dot = fixed.P(int(math.Round(x)), int(math.Round(y)))
	d.DrawString(s)
}

func (b *bitmap) write(to io.Writer) error {
	return png.Encode(to, b.image)
}
