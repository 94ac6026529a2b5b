package export

import (
	"bytes"
	"image/color"
	"io"
	"math"
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"

	"nightdrill.dev/internal/core/draw"
)

// The palette of pictures, on white.
var (
	ink   = color.RGBA{0x1d, 0x23, 0x30, 0xff}
	quiet = color.RGBA{0x5d, 0x64, 0x72, 0xff}
	faint = color.RGBA{0xb9, 0xbd, 0xc6, 0xff}
	mist  = color.RGBA{0xe6, 0xe8, 0xec, 0xff}
	lamp  = color.RGBA{0xc0, 0x7a, 0x1c, 0xff} // warm
	glow  = color.RGBA{0xf0, 0xd9, 0xb0, 0xff} // around what is warm
	frost = color.RGBA{0x1f, 0x63, 0xa8, 0xff} // cold
	rime  = color.RGBA{0xc4, 0xdb, 0xf2, 0xff} // around what is cold
	coral = color.RGBA{0xb3, 0x30, 0x2a, 0xff} // failed, rejected
	steel = color.RGBA{0x5b, 0x6f, 0x9c, 0xff} // first
)

// textSize is the size of text, in points; titles are larger.
const textSize = 9.0

// sheet is a page to draw on, in points from the top left.
type sheet struct {
	vg.Canvas
	w, h  float64
	kind  string
	fonts *font.Cache
	marks int // of data, so far
}

var allFonts = font.NewCache(liberation.Collection())

func newSheet(kind string, w, h float64) *sheet {
	s := &sheet{w: w, h: h, kind: kind, fonts: allFonts}
	if kind == "svg" {
		s.Canvas = vgsvg.New(vg.Length(w), vg.Length(h))
	} else {
		pdf := vgpdf.New(vg.Length(w), vg.Length(h))
		pdf.EmbedFonts(true)
		s.Canvas = pdf
	}
	s.rect(0, 0, w, h, color.White)
	return s
}

// finish writes the page.
func (s *sheet) finish(to io.Writer) error {
	if pdf, ok := s.Canvas.(*vgpdf.Canvas); ok {
		_, err := pdf.WriteTo(to)
		return err
	}
	var b bytes.Buffer
	if _, err := s.Canvas.(*vgsvg.Canvas).WriteTo(&b); err != nil {
		return err
	}
	_, err := io.WriteString(to, plainFonts(b.String()))
	return err
}

// plainFonts names fonts that are everywhere.
func plainFonts(svg string) string {
	return strings.NewReplacer("Liberation Sans", "Helvetica, Arial, sans-serif", "Liberation",
		"Helvetica, Arial, sans-serif").Replace(svg)
}

func (s *sheet) at(x, y float64) vg.Point {
	return vg.Point{X: vg.Length(x), Y: vg.Length(s.h - y)}
}

func (s *sheet) face(size float64) font.Face {
	return s.fonts.Lookup(font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Length(size)}, vg.Length(size))
}

// text writes at the left end of its base line.
func (s *sheet) text(x, y float64, of color.Color, size float64, text string) {
	s.SetColor(of)
	text = clean(text)
	if s.kind != "svg" {
		text = western(text)
	}
	s.FillString(s.face(size), s.at(x, y), text)
}

// western writes a text in the encoding that the fonts of a PDF are embedded with,
// Windows-1252; what it lacks becomes a question mark.
func western(text string) string {
	out, err := encoding.ReplaceUnsupported(charmap.Windows1252.NewEncoder()).String(text)
	if err != nil {
		return text
	}
	return strings.ReplaceAll(out, "\x1a", "?")
}

// textRight writes so that it ends at a place.
func (s *sheet) textRight(x, y float64, of color.Color, size float64, text string) {
	s.text(x-s.width(size, text), y, of, size, text)
}

func (s *sheet) textMiddle(x, y float64, of color.Color, size float64, text string) {
	s.text(x-s.width(size, text)/2, y, of, size, text)
}

func (s *sheet) width(size float64, text string) float64 {
	f := s.face(size)
	return float64(f.Width(clean(text)))
}

// fit cuts a text so that it is not wider than a length.
func (s *sheet) fit(size, most float64, text string) string {
	if s.width(size, text) <= most {
		return text
	}
	r := []rune(text)
	for len(r) > 1 && s.width(size, string(r)+"…") > most {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}

// wrapped breaks a text between its words, so that no line is wider than a length. It
// leaves room for fonts that are a little wider.
func wrapped(text string, most float64) (lines []string) {
	s := &sheet{fonts: allFonts}
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && s.width(textSize, line+" "+word) > most*0.87 {
			lines, line = append(lines, line), "  "+word
			continue
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(lines, line)
}

// clean leaves out what is not text.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return '·'
		}
		return r
	}, text)
}

func (s *sheet) rect(x, y, w, h float64, of color.Color) {
	s.SetColor(of)
	s.Fill(vg.Rectangle{Min: s.at(x, y+h), Max: s.at(x+w, y)}.Path())
}

// mark is a rectangle that stands for data.
func (s *sheet) mark(x, y, w, h float64, of color.Color) {
	s.rect(x, y, w, h, of)
	s.marks++
}

type xy struct{ x, y float64 }

// through returns a path through points.
func (s *sheet) through(points []xy) (p vg.Path) {
	for i, k := range points {
		if i == 0 {
			p.Move(s.at(k.x, k.y))
		} else {
			p.Line(s.at(k.x, k.y))
		}
	}
	return p
}

func (s *sheet) line(of color.Color, width float64, points ...xy) {
	if len(points) < 2 {
		return
	}
	s.SetColor(of)
	s.SetLineWidth(vg.Length(width))
	s.Stroke(s.through(points))
}

func (s *sheet) dashed(of color.Color, width float64, points ...xy) {
	s.SetLineDash([]vg.Length{3, 2}, 0)
	s.line(of, width, points...)
	s.SetLineDash(nil, 0)
}

// area fills between points.
func (s *sheet) area(of color.Color, points ...xy) {
	if len(points) < 3 {
		return
	}
	p := s.through(points)
	p.Close()
	s.SetColor(of)
	s.Fill(p)
}

// dot is a circle that stands for data.
func (s *sheet) dot(x, y, r float64, of color.Color) {
	var p vg.Path
	p.Move(s.at(x+r, y))
	p.Arc(s.at(x, y), vg.Length(r), 0, 2*math.Pi)
	p.Close()
	s.SetColor(of)
	s.Fill(p)
	s.marks++
}

// diamond is a square on its tip that stands for data.
func (s *sheet) diamond(x, y, r float64, of color.Color) {
	s.area(of, xy{x - r, y}, xy{x, y - r}, xy{x + r, y}, xy{x, y + r})
	s.marks++
}

// plot is a part of a page with axes.
type plot struct {
	*sheet
	x, y, w, h float64
	ax, ay     draw.Axis
}

func (p *plot) px(v float64) float64 { return p.x + p.ax.At(v)*p.w }
func (p *plot) py(v float64) float64 { return p.y + (1-p.ay.At(v))*p.h }

// below writes the ticks of the horizontal axis beneath the plot.
func (p *plot) below(write func(float64) string, lines bool) {
	last := math.Inf(-1)
	for _, t := range p.ax.Ticks() {
		x := p.x + t.At*p.w
		if lines {
			p.line(mist, 0.5, xy{x, p.y}, xy{x, p.y + p.h})
		}
		p.line(faint, 0.6, xy{x, p.y + p.h}, xy{x, p.y + p.h + 3})
		text := write(t.Value)
		if w := p.width(textSize-1, text); x-w/2 > last+4 {
			p.textMiddle(x, p.y+p.h+12, quiet, textSize-1, text)
			last = x + w/2
		}
	}
	p.line(faint, 0.6, xy{p.x, p.y + p.h}, xy{p.x + p.w, p.y + p.h})
}

// beside writes the ticks of the vertical axis left of the plot.
func (p *plot) beside(write func(float64) string) {
	for _, t := range p.ay.Ticks() {
		y := p.y + (1-t.At)*p.h
		p.line(mist, 0.5, xy{p.x, y}, xy{p.x + p.w, y})
		p.textRight(p.x-5, y+3, quiet, textSize-1, write(t.Value))
	}
}

// steps draws counts as a line that stays level within each step.
func (p *plot) steps(of color.Color, width float64, n int, at func(i int) float64, dashed bool) {
	var points []xy
	for i := range n {
		v := p.py(at(i))
		points = append(points, xy{p.x + p.w*float64(i)/float64(n), v}, xy{p.x + p.w*float64(i+1)/float64(n), v})
		p.marks++
	}
	if dashed {
		p.dashed(of, width, points...)
	} else {
		p.line(of, width, points...)
	}
}
