// Package draw makes the drawings that are exported: the load order with its
// needs, and a start as a time chart.
package draw

import (
	"fmt"
	"image/color"
	"io"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Picture is a drawing before it is written in a format. Lengths are in points,
// from the upper left corner.
type Picture struct {
	Width, Height float64
	shapes        []shape
	fonts         *font.Cache
}

// shape is one thing that is drawn.
type shape func(c vg.Canvas, flip func(x, y float64) vg.Point)

func newPicture() *Picture { return &Picture{fonts: font.NewCache(liberation.Collection())} }

// Inks of the drawings. They can be told apart by the colour-blind, and every
// mark has a shape of its own besides.
var (
	inkText  = color.RGBA{0x1d, 0x26, 0x30, 0xff}
	inkDim   = color.RGBA{0x6b, 0x75, 0x80, 0xff}
	inkFaint = color.RGBA{0xb4, 0xbc, 0xc4, 0xff}
	inkLine  = color.RGBA{0x7d, 0x8b, 0x99, 0xff}
	inkGood  = color.RGBA{0x11, 0x6b, 0x5e, 0xff}
	inkBad   = color.RGBA{0xb9, 0x35, 0x12, 0xff}
	inkWarn  = color.RGBA{0x9a, 0x66, 0x00, 0xff}
	inkOther = color.RGBA{0x5a, 0x4a, 0x9c, 0xff}
	inkPaper = color.RGBA{0xff, 0xff, 0xff, 0xff}
	inkBand  = color.RGBA{0xf1, 0xf4, 0xf6, 0xff}
)

func (p *Picture) face(size float64, bold bool) font.Face {
	f := font.Font{Typeface: "Liberation", Variant: "Sans"}
	if bold {
		f.Weight = 2
	}
	return p.fonts.Lookup(f, font.Length(size))
}

// width is how wide a text is.
func (p *Picture) width(s string, size float64, bold bool) float64 {
	face := p.face(size, bold)
	return float64(face.Width(s))
}

// cut shortens a text to a width; what is left out shows as dots.
func (p *Picture) cut(s string, size, room float64) string {
	if p.width(s, size, false) <= room {
		return s
	}
	runes := []rune(s)
	for len(runes) > 1 && p.width(string(runes)+"…", size, false) > room {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}

func (p *Picture) add(s shape) { p.shapes = append(p.shapes, s) }

// text writes s with its baseline at y.
func (p *Picture) text(x, y, size float64, bold bool, ink color.Color, s string) {
	if s == "" {
		return
	}
	face := p.face(size, bold)
	p.add(func(c vg.Canvas, flip func(x, y float64) vg.Point) {
		c.SetColor(ink)
		c.FillString(face, flip(x, y), s)
	})
}

// textRight writes s so that it ends at x.
func (p *Picture) textRight(x, y, size float64, bold bool, ink color.Color, s string) {
	p.text(x-p.width(s, size, bold), y, size, bold, ink, s)
}

// box fills a rectangle, and draws its outline when line is a colour.
func (p *Picture) box(x, y, w, h float64, fill, line color.Color, thick float64) {
	corners := [][2]float64{{x, y}, {x + w, y}, {x + w, y + h}, {x, y + h}}
	p.polygon(corners, fill, line, thick)
}

// polygon fills a shape, and draws its outline when line is a colour.
func (p *Picture) polygon(corners [][2]float64, fill, line color.Color, thick float64) {
	p.add(func(c vg.Canvas, flip func(x, y float64) vg.Point) {
		var path vg.Path
		path.Move(flip(corners[0][0], corners[0][1]))
		for _, at := range corners[1:] {
			path.Line(flip(at[0], at[1]))
		}
		path.Close()
		if fill != nil {
			c.SetColor(fill)
			c.Fill(path)
		}
		if line != nil {
			c.SetLineDash(nil, 0)
			c.SetLineWidth(vg.Length(thick))
			c.SetColor(line)
			c.Stroke(path)
		}
	})
}

// line draws a straight line; dash is nil for a whole one.
func (p *Picture) line(x1, y1, x2, y2, thick float64, ink color.Color, dash []vg.Length) {
	p.add(func(c vg.Canvas, flip func(x, y float64) vg.Point) {
		var path vg.Path
		path.Move(flip(x1, y1))
		path.Line(flip(x2, y2))
		c.SetLineDash(dash, 0)
		c.SetLineWidth(vg.Length(thick))
		c.SetColor(ink)
		c.Stroke(path)
	})
}

// curve draws a line that leaves and arrives level.
func (p *Picture) curve(x1, y1, x2, y2, thick float64, ink color.Color, dash []vg.Length) {
	bend := max((x2-x1)/2, 14)
	if x2 < x1 {
		bend = min(max((x1-x2)/2, 24), 70)
	}
	p.add(func(c vg.Canvas, flip func(x, y float64) vg.Point) {
		var path vg.Path
		path.Move(flip(x1, y1))
		path.CubeTo(flip(x1+bend, y1), flip(x2-bend, y2), flip(x2, y2))
		c.SetLineDash(dash, 0)
		c.SetLineWidth(vg.Length(thick))
		c.SetColor(ink)
		c.Stroke(path)
	})
}

// put draws the picture on a canvas, scaled, with its upper left corner at x, y.
func (p *Picture) put(c vg.Canvas, height, x, y, scale float64) {
	c.Push()
	defer c.Pop()
	c.Translate(vg.Point{X: vg.Length(x), Y: vg.Length(height - y - p.Height*scale)})
	c.Scale(scale, scale)
	flip := func(x, y float64) vg.Point { return vg.Point{X: vg.Length(x), Y: vg.Length(p.Height - y)} }
	for _, s := range p.shapes {
		s(c, flip)
	}
}

// SVG writes the picture as Scalable Vector Graphics, at its own size.
func (p *Picture) SVG(w io.Writer) error {
	c := vgsvg.New(vg.Length(p.Width), vg.Length(p.Height))
	p.put(c, p.Height, 0, 0, 1)
	if _, err := c.WriteTo(w); err != nil {
		return fmt.Errorf("write the SVG: %w", err)
	}
	return nil
}

// The sizes of ISO 216 pages on which pictures are put, upright, in points, and
// the margin that is kept free.
var pages = [][2]float64{{595.28, 841.89}, {841.89, 1190.55}, {1190.55, 1683.78}, {1683.78, 2383.94}, {2383.94, 3370.39}}

const (
	pageMargin    = 28
	leastScale    = 0.8 // below it the text is smaller than people like to read
	mostEnlarging = 1.4
)

// PDF writes the picture on one page of the smallest size from A4 to A0 on which
// it can be read.
func (p *Picture) PDF(w io.Writer) error {
	var pageW, pageH, scale float64
	for _, page := range pages {
		pageW, pageH = page[0], page[1]
		if p.Width > p.Height {
			pageW, pageH = pageH, pageW
		}
		scale = min((pageW-2*pageMargin)/p.Width, (pageH-2*pageMargin)/p.Height, mostEnlarging)
		if scale >= leastScale {
			break
		}
	}
	c := vgpdf.New(vg.Length(pageW), vg.Length(pageH))
	p.put(c, pageH, (pageW-p.Width*scale)/2, pageMargin, scale)
	if _, err := c.WriteTo(w); err != nil {
		return fmt.Errorf("write the PDF: %w", err)
	}
	return nil
}
