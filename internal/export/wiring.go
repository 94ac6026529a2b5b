// Package export draws what the program knows as pictures for documents: in
// colours of their own that look right on white, text as text.
package export

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"path/filepath"
	"strings"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"

	"nightdrill/internal/core/draw"
	"nightdrill/internal/core/plan"
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
func WiringFile(path string, w *draw.Wiring, p *plan.Project, over bool) error {
	kind := strings.ToLower(filepath.Ext(path))
	if kind != ".svg" && kind != ".pdf" {
		return fmt.Errorf("%s: the map is written as .svg or .pdf", path)
	}
	var b bytes.Buffer
	if err := Wiring(&b, kind[1:], w, p); err != nil {
		return err
	}
	return Put(path, b.Bytes(), over)
}

// mapWidth is the width of a map, in cells.
const mapWidth = 150

// Wiring draws the map of a project's wiring, as "svg" or "pdf".
func Wiring(to io.Writer, kind string, w *draw.Wiring, p *plan.Project) error {
	lay := w.Lay(mapWidth, 1000)
	width, height := vg.Length(mapWidth*cellW+2*edge), vg.Length(float64(lay.H+3)*cellH+2*edge)
	x := &picture{newSheet(kind, float64(width), float64(height))}
	x.wiring(lay, w, p)
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
		at := c.at(float64(k.X), float64(k.Y))
		at.Y += 3.5 // the middle of the letters
		if i == 0 {
			p.Move(at)
		} else {
			p.Line(at)
		}
	}
	c.SetColor(of)
	c.SetLineWidth(width)
	c.Stroke(p)
}

// head draws the point of an arrow.
func (c *picture) head(of color.Color, at draw.Corner) {
	tip := c.at(float64(at.X)+1, float64(at.Y))
	tip.Y += 3.5
	var p vg.Path
	p.Move(tip)
	p.Line(vg.Point{X: tip.X - 7, Y: tip.Y + 3.2})
	p.Line(vg.Point{X: tip.X - 7, Y: tip.Y - 3.2})
	p.Close()
	c.SetColor(of)
	c.Fill(p)
}

func (c *picture) wiring(lay *draw.WiringPlan, w *draw.Wiring, p *plan.Project) {
	c.text(0, -1.6, ink, true, p.Name+": what reaches which function")
	taken := make([]int, len(w.Sources))
	for i, x := range w.Wires {
		c.line(faint, 1, lay.Wires[i]...)
		c.head(quiet, lay.Wires[i][len(lay.Wires[i])-1])
		src := &p.Sources[x.Source]
		when := &src.Wires[taken[x.Source]].When
		taken[x.Source]++
		words := when.Words()
		if src.Kind == plan.HTTP {
			words = when.String()
		}
		if words == "everything" {
			words = ""
		}
		l := lay.Label[i]
		if room := l.W - 2; len([]rune(words)) > room && room > 1 {
			words = string([]rune(words)[:room-1]) + "…"
		}
		c.text(float64(l.X)+1, float64(l.Y)-0.62, quiet, false, words)
	}
	for i, b := range lay.Sources {
		s := &p.Sources[i]
		c.text(float64(b.X), float64(b.Y), lamp, true, s.Name)
		c.text(float64(b.X), float64(b.Y)+0.9, quiet, false, sourceLine(s))
		if s.DeadLetter >= 0 {
			c.text(float64(b.X), float64(b.Y)+1.8, quiet, false, "dead letters go to "+p.Sources[s.DeadLetter].Name)
		}
		if len(s.Wires) > 0 {
			c.line(faint, 0.5, draw.Corner{X: b.X + len(s.Name)*5/4 + 2, Y: b.Y}, draw.Corner{X: b.X + b.W + 2, Y: b.Y})
		}
	}
	for i, b := range lay.Functions {
		c.text(float64(b.X), float64(b.Y), frost, true, w.Functions[i].Name)
		f := &p.Functions[i]
		c.text(float64(b.X), float64(b.Y)+0.9, quiet, false, fmt.Sprintf("at most %d at a time", f.Limits.Max))
		for k := range f.Then {
			c.text(float64(b.X), float64(b.Y)+1.8+0.9*float64(k), quiet, false, "its reply goes on to "+p.Sources[f.Then[k].To].Name)
		}
	}
}

// sourceLine says in a few words what a source is.
func sourceLine(s *plan.Source) string {
	text := s.Kind.String()
	switch s.Kind {
	case plan.Storage:
		text += ", bucket " + s.Bucket
	case plan.Stream:
		text += fmt.Sprintf(", %d partitions by %s", s.Partitions, s.Key)
	case plan.Schedule:
		if len(s.Times) > 0 {
			text += ", " + s.Times[0].Text
		}
	}
	return text
}
