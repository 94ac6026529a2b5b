// Package canvas is the surface that views draw on: a canvas of cells, each with
// a style of the theme. A row is written out in runs of one style.
package canvas

import (
	"strings"
	"unicode"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/text"
)

// Canvas is a rectangle of cells.
type Canvas struct {
	W, H  int
	cells []cell
	theme *Theme
}

type cell struct {
	text  string // one grapheme cluster, "" is a space
	style Style
	wide  bool // it takes two cells,
	half  bool // of which this is the second
}

// New returns an empty canvas.
func New(w, h int, theme *Theme) *Canvas {
	return &Canvas{W: max(w, 0), H: max(h, 0), cells: make([]cell, max(w, 0)*max(h, 0)), theme: theme}
}

// Theme returns the theme that the canvas is drawn in.
func (c *Canvas) Theme() *Theme { return c.theme }

// Put writes text at a place, cut at the right edge, and returns the column after it.
func (c *Canvas) Put(x, y int, style Style, content string) int {
	return c.PutUpTo(x, y, c.W, style, content)
}

// PutUpTo is Put with another right edge. What does not fit is cut, with an
// ellipsis in its place.
func (c *Canvas) PutUpTo(x, y, edge int, style Style, content string) int {
	edge = min(edge, c.W)
	if y < 0 || y >= c.H || x >= edge {
		return x
	}
	if strings.ContainsFunc(content, unicode.IsControl) { // which must not reach a terminal, whoever wrote it
		content = text.Harmless(content)
	}
	content = ansi.Truncate(content, edge-max(x, 0), "…")
	for content != "" {
		cluster, w := ansi.FirstGraphemeCluster(content, ansi.GraphemeWidth)
		content = content[len(cluster):]
		switch {
		case w == 0 && x > 0: // joins what stands before it
			c.cells[y*c.W+x-1].text += cluster
		case x >= 0 && x+w <= edge:
			c.set(x, y, cell{text: cluster, style: style, wide: w > 1})
		}
		x += w
	}
	return x
}

// set writes one cell, and its second half if it is wide. A wide character that
// loses one half to it loses both.
func (c *Canvas) set(x, y int, to cell) {
	row := c.cells[y*c.W : (y+1)*c.W]
	if row[x].half {
		row[x-1].text, row[x-1].wide = "", false
	}
	last := x
	if to.wide {
		last++
	}
	if last+1 < c.W && row[last].wide {
		row[last+1].half = false
	}
	row[x] = to
	if to.wide {
		row[last] = cell{style: to.style, half: true}
	}
}

// Right writes text so that it ends before a column.
func (c *Canvas) Right(edge, y int, style Style, content string) {
	c.Put(edge-ansi.StringWidth(content), y, style, content)
}

// Set writes one cell.
func (c *Canvas) Set(x, y int, style Style, r rune) {
	if x >= 0 && x < c.W && y >= 0 && y < c.H {
		c.set(x, y, cell{text: string(r), style: style})
	}
}

// Restyle sets the style of cells of a row and leaves their text.
func (c *Canvas) Restyle(x, y, n int, style Style) {
	for i := max(x, 0); i < min(x+n, c.W) && y >= 0 && y < c.H; i++ {
		c.cells[y*c.W+i].style = style
	}
}

// Rule draws a line with a word in it.
func (c *Canvas) Rule(y int, title string) {
	for x := range c.W {
		c.Set(x, y, Faint, '─')
	}
	if title != "" {
		c.Put(2, y, Dim, " "+title+" ")
	}
}

// Fill empties a rectangle.
func (c *Canvas) Fill(x, y, w, h int) {
	for j := max(y, 0); j < min(y+h, c.H); j++ {
		for i := max(x, 0); i < min(x+w, c.W); i++ {
			c.cells[j*c.W+i] = cell{}
		}
	}
}

// Draw copies another canvas onto this one. A wide character that does not fit
// is left out.
func (c *Canvas) Draw(x, y int, from *Canvas) {
	for j := max(-y, 0); j < min(from.H, c.H-y); j++ {
		for i, cell := range from.cells[j*from.W : (j+1)*from.W] {
			if at := x + i; at >= 0 && at < c.W && !cell.half {
				if cell.wide && at+1 == c.W {
					cell.text, cell.wide = "", false
				}
				c.set(at, y+j, cell)
			}
		}
	}
}

// Frame draws a box with a title and empties its inside.
func (c *Canvas) Frame(x, y, w, h int, title string) {
	c.Fill(x, y, w, h)
	for i := x; i < x+w; i++ {
		c.Set(i, y, Dim, '─')
		c.Set(i, y+h-1, Dim, '─')
	}
	for j := y; j < y+h; j++ {
		c.Set(x, j, Dim, '│')
		c.Set(x+w-1, j, Dim, '│')
	}
	c.Set(x, y, Dim, '┌')
	c.Set(x+w-1, y, Dim, '┐')
	c.Set(x, y+h-1, Dim, '└')
	c.Set(x+w-1, y+h-1, Dim, '┘')
	if title != "" {
		c.PutUpTo(x+2, y, x+w-2, Bold, " "+title+" ")
	}
}

// String writes the canvas out, row by row.
func (c *Canvas) String() string {
	var b strings.Builder
	b.Grow(c.W * c.H * 2)
	for y := range c.H {
		row := c.cells[y*c.W : (y+1)*c.W]
		end := len(row)
		for end > 0 && row[end-1].text == "" && !row[end-1].half && !c.theme.shows(row[end-1].style) {
			end--
		}
		for x := 0; x < end; {
			style := row[x].style
			b.WriteString(c.theme.before[style])
			for ; x < end && row[x].style == style; x++ {
				switch {
				case row[x].half:
				case row[x].text == "":
					b.WriteByte(' ')
				default:
					b.WriteString(row[x].text)
				}
			}
			b.WriteString(c.theme.after[style])
		}
		if y < c.H-1 {
			b.WriteByte('\n')
		}
	}
	return b.String()
}

// DrawRows copies the rows of another canvas from row first on, as many as fit, to row y of this
// one and below.
func (c *Canvas) DrawRows(y int, from *Canvas, first int) {
	w := min(c.W, from.W)
	for j := y; j < c.H && first+j-y < from.H; j++ {
		if first+j-y >= 0 {
			copy(c.cells[j*c.W:j*c.W+w], from.cells[(first+j-y)*from.W:(first+j-y)*from.W+w])
		}
	}
}

// DrawTop copies n rows of another canvas from row first on to row y of this one and below.
func (c *Canvas) DrawTop(y int, from *Canvas, first, n int) {
	part := *from
	part.H = min(from.H, first+n)
	c.DrawRows(y, &part, first)
}
