// Package export draws what the program knows as pictures for documents: in
// colours of their own that look right on white, text as text.
package export

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"math"
	"math/bits"
	"path/filepath"
	"strings"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"

	"nightdrill.dev/internal/core/draw"
)

// One cell of the grid, in points.
const (
	cellW = 6.4
	cellH = 15.0
	edge  = 18.0
	size  = 10.0 // of text
)

// WiringFile writes the map of a project's wiring to a file, as SVG or PDF by
// its ending. A file that is there is only written over when told to.
func WiringFile(path string, w *draw.Wiring, over bool) error {
	return drawing(path, "the map is", over, func(to io.Writer, kind string) error { return Wiring(to, kind, w) })
}

// drawing writes a drawing to a file, as SVG or PDF by its ending; what is it, for the error.
func drawing(path, what string, over bool, draw func(to io.Writer, kind string) error) error {
	kind := strings.ToLower(filepath.Ext(path))
	if kind != ".svg" && kind != ".pdf" {
		return fmt.Errorf("%s: %s written as .svg or .pdf", path, what)
	}
	var b bytes.Buffer
	if err := draw(&b, kind[1:]); err != nil {
		return err
	}
	return Put(path, b.Bytes(), over)
}

// mapWidth is the width of a map, in cells.
const mapWidth = 150

// Wiring draws the map of a project's wiring, as "svg" or "pdf".
func Wiring(to io.Writer, kind string, w *draw.Wiring) error {
	lay := w.Lay(mapWidth, 1000)
	width, height := vg.Length(mapWidth*cellW+2*edge), vg.Length(float64(lay.H+3)*cellH+2*edge)
	x := &picture{newSheet(kind, float64(width), float64(height))}
	x.wiring(lay, w)
	return x.finish(to)
}

// picture is a sheet on which places are given in cells.
type picture struct{ *sheet }

func (c *picture) at(x, y float64) vg.Point {
	return vg.Point{X: vg.Length(edge + x*cellW), Y: vg.Length(c.h) - vg.Length(edge+(y+2.6)*cellH)}
}

func (c *picture) text(x, y float64, of color.Color, large bool, text string) {
	points := font.Length(size)
	if large {
		points = 1.2 * size
	}
	c.SetColor(of)
	if c.kind != "svg" {
		text = western(text)
	}
	c.FillString(c.face(float64(points)), c.at(x, y), text)
}

// line draws through the middles of cells.
func (c *picture) line(of color.Color, width vg.Length, corners ...draw.Corner) {
	var p vg.Path
	for i, k := range corners {
		c.step(&p, i == 0, float64(k.X), float64(k.Y))
	}
	c.stroke(of, width, p)
}

// lineTo draws through places in cells, given as x and y in turn.
func (c *picture) lineTo(of color.Color, places ...float64) {
	var p vg.Path
	for i := 0; i < len(places); i += 2 {
		c.step(&p, i == 0, places[i], places[i+1])
	}
	c.stroke(of, 1, p)
}

func (c *picture) step(p *vg.Path, first bool, x, y float64) {
	at := c.at(x, y)
	at.Y += 3.5 // the middle of the letters
	if first {
		p.Move(at)
	} else {
		p.Line(at)
	}
}

func (c *picture) stroke(of color.Color, width vg.Length, p vg.Path) {
	c.SetColor(of)
	c.SetLineWidth(width)
	c.Stroke(p)
}

// head draws the point of an arrow at the end of a cell.
func (c *picture) head(of color.Color, at draw.Corner) {
	c.headAt(of, float64(at.X)+1, float64(at.Y))
}

func (c *picture) headAt(of color.Color, x, y float64) {
	tip := c.at(x, y)
	tip.Y += 3.5
	var p vg.Path
	p.Move(tip)
	p.Line(vg.Point{X: tip.X - 7, Y: tip.Y + 3.2})
	p.Line(vg.Point{X: tip.X - 7, Y: tip.Y - 3.2})
	p.Close()
	c.SetColor(of)
	c.Fill(p)
}

// dot marks where wires to one function join.
func (c *picture) dot(of color.Color, at draw.Corner) {
	middle := c.at(float64(at.X), float64(at.Y))
	middle.Y += 3.5
	var p vg.Path
	p.Move(vg.Point{X: middle.X + 2.2, Y: middle.Y})
	p.Arc(middle, 2.2, 0, 2*math.Pi)
	p.Close()
	c.SetColor(of)
	c.Fill(p)
}

func (c *picture) wiring(lay *draw.WiringPlan, w *draw.Wiring) {
	c.text(0, -1.6, ink, true, w.Title)
	strokes := lay.Strokes(w)
	for i, x := range w.Wires {
		path := lay.Wires[i]
		c.line(faint, 1, path...)
		c.head(quiet, path[len(path)-1])
		for _, s := range strokes[i] {
			if bits.OnesCount8(s.Arms) > 2 {
				c.dot(quiet, s.Corner)
			}
		}
		l := lay.Label[i]
		right := c.at(float64(l.X+l.W), 0).X
		counts := c.cells(x.Counts)
		if x.Counts != "" {
			c.text(float64(l.X+l.W)-counts, float64(l.Y)-0.62, ink, false, x.Counts)
		}
		left := c.at(float64(l.X)+1, 0).X
		c.text(float64(l.X)+1, float64(l.Y)-0.62, quiet, false, c.fit(size, float64(right-left)-(counts+1)*cellW,
			x.Takes))
	}
	for i, b := range lay.Sources {
		c.node(b, &w.Sources[i])
		n := 0
		for _, x := range w.Wires {
			if x.Source == i {
				n++
			}
		}
		if n > 1 { // they part
			c.line(faint, 1, draw.Corner{X: b.X + b.W + 2, Y: b.Y}, draw.Corner{X: b.X + b.W + 2, Y: b.Y + n - 1})
		}
		if n > 0 {
			c.line(faint, 0.5, draw.Corner{X: b.X + int(1.2*c.cells(w.Sources[i].Name)) + 2, Y: b.Y},
				draw.Corner{X: b.X + b.W + 2, Y: b.Y})
		}
	}
	for i, b := range lay.Functions {
		c.node(b, &w.Functions[i])
	}
}

// cells returns the width of a text in cells.
func (c *picture) cells(text string) float64 { return c.width(size, text) / cellW }

// node writes a source or a function, and draws its ways on.
func (c *picture) node(b draw.Box, n *draw.WiringNode) {
	x, y := float64(b.X), float64(b.Y)
	c.text(x, y, ink, true, n.Name)
	c.text(x, y+0.9, quiet, false, n.About)
	from := y + 1.15
	for k, way := range n.Ways {
		at := y + 1.8 + 0.9*float64(k)
		c.lineTo(faint, x+0.6, from, x+0.6, at, x+1.8, at)
		col := x + 2.2
		words := way.Words()
		c.text(col, at, ink, false, words)
		col += c.cells(words) + 0.4
		for _, to := range []string{way.To, way.Then} {
			if to == "" {
				continue
			}
			c.lineTo(faint, col, at, col+2, at)
			c.headAt(quiet, col+2.4, at)
			c.text(col+3, at, quiet, false, to)
			col += 3 + c.cells(to) + 0.4
		}
		from = at
	}
}
